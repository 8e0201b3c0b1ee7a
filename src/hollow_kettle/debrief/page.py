"""Values of the debrief's first page: what happened, station by station."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from hollow_kettle.plan.drawing import hour_ticks
from hollow_kettle.plan.models import Event, Rotation, Station
from hollow_kettle.ui.drawing import Scale

from .history import Gap, History, Turn, baseline_of
from .models import Shortfall
from .shortfalls.queries import Fall, Falls

LANE, TOP = 34, 34


@dataclass(slots=True)
class StationLine:
    """One station: planned against used, and how it ran short."""

    station: Station
    planned_wh: float
    used_wh: float
    turns: list[Turn]
    falls: list[Fall]
    y: float
    #: Turns as bars: left edge, width, tag; shortfalls as marks: left edge, width.
    bars: list[tuple[float, float, str]] = field(default_factory=list)
    marks: list[tuple[float, float, Fall]] = field(default_factory=list)

    def minutes(self, what: str) -> float:
        """Minutes of one way of running short."""
        return sum(one.measured.minutes for one in self.falls if one.what == what)

    @property
    def off_min(self) -> float:
        """Minutes off the air."""
        return self.minutes("off_air")

    @property
    def low_min(self) -> float:
        """Minutes on low power."""
        return self.minutes("low_power")

    @property
    def reserve_min(self) -> float:
        """Minutes into reserve, likely ones too."""
        return self.minutes("reserve")

    @property
    def missing_wh(self) -> float:
        """Energy it did not get. [Wh]"""
        return sum(one.measured.energy_wh or 0.0 for one in self.falls)

    @property
    def name_y(self) -> float:
        """Baseline of its name."""
        return self.y + 16

    @property
    def mark_y(self) -> float:
        """Where shortfalls are drawn."""
        return self.y + 2


@dataclass(slots=True)
class Report:
    """What happened at an event."""

    event: Event
    stations: list[StationLine]
    falls: Falls
    gaps: list[Gap]
    baseline: Rotation | None
    ticks: list[tuple[float, str]]

    @property
    def harm(self) -> list[Fall]:
        """Shortfalls that did harm."""
        return [one for one in self.falls.every if one.is_harm]

    @property
    def reserve(self) -> list[Fall]:
        """Stretches into reserve, likely ones too."""
        return [one for one in self.falls.every if not one.is_harm]

    @property
    def dropped(self) -> list[Shortfall]:
        """What was found and did not happen, by somebody's word."""
        return self.falls.dropped

    def total_min(self, what: str, *, is_carried: bool | None = None) -> float:
        """Minutes of one way of running short, over all stations."""
        return sum(
            one.measured.minutes
            for one in self.falls.every
            if one.what == what and is_carried in (None, one.is_carried)
        )

    @property
    def off_min(self) -> float:
        """Minutes off the air."""
        return self.total_min("off_air")

    @property
    def reserve_min(self) -> float:
        """Minutes into reserve that readings carry."""
        return self.total_min("reserve", is_carried=True)

    @property
    def likely_min(self) -> float:
        """Minutes likely into reserve, without a reading that carries it."""
        return self.total_min("reserve", is_carried=False)

    @property
    def missing_wh(self) -> float:
        """Energy not served. [Wh]"""
        return sum(one.measured.energy_wh or 0.0 for one in self.falls.every)

    @property
    def height(self) -> float:
        """Height of the timeline."""
        return 40 + LANE * len(self.stations)


def report_of(event: Event, until: datetime) -> Report:
    """Work out what happened at an event, up to a moment."""
    history = History(event, until)
    falls = Falls(history)
    x = Scale(0, event.span_min, 130, 1030)
    return Report(
        event=event,
        stations=[
            _line(history, falls, station, TOP + LANE * index, x)
            for index, station in enumerate(history.stations)
        ],
        falls=falls,
        gaps=history.gaps,
        baseline=baseline_of(event),
        ticks=hour_ticks(event, x),
    )


def _line(
    history: History, falls: Falls, station: Station, y: float, x: Scale
) -> StationLine:
    event, own = history.event, history.of(station)

    def bar(start: datetime, end: datetime, least: float = 0.0) -> tuple[float, float]:
        left = x(event.minute_of(start))
        return left, round(max(least, x(event.minute_of(end)) - left), 1)

    line = StationLine(
        station=station,
        planned_wh=history.physics.drawn_as_planned_wh(
            str(station.pk), event.starts_at, history.until
        ),
        used_wh=sum(turn.used_wh for turn in own),
        turns=own,
        falls=[one for one in falls.every if one.station == station],
        y=y,
    )
    line.bars = [(*bar(turn.start, turn.end), turn.tag) for turn in own]
    line.marks = [(*bar(one.start, one.end, 2.0), one) for one in line.falls]
    return line
