"""What the Debrief shows: where power ran short, and planned against used energy."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from uuid import UUID

import numpy as np

from hollow_kettle.field.beliefs import Turn as BelievedTurn
from hollow_kettle.field.beliefs import history_of
from hollow_kettle.field.physics import EventPhysics
from hollow_kettle.log.models import FieldEntry, Kind, Placement, StationSpan
from hollow_kettle.plan.drawing import hour_ticks
from hollow_kettle.plan.models import Event, Rotation, Station
from hollow_kettle.ui.drawing import Scale
from powercore.belief.believed import SocEstimate
from powercore.debrief.shortfall import Shortfall, Stretch, below, shortfall

#: How finely a belief is sampled to find when it was in reserve.
SAMPLE_MIN = 10
SAMPLE = timedelta(minutes=SAMPLE_MIN)
WORDS = {
    "off_air": "off the air",
    "low_power": "low power",
    "shed": "shed",
    "reserve": "into reserve",
}


@dataclass(frozen=True, slots=True)
class Turn:
    """A battery at a station's position, with what is believed of its charge."""

    station_key: UUID
    tag: str
    battery: UUID
    start: datetime
    end: datetime
    start_soc: SocEstimate
    end_soc: SocEstimate
    used_wh: float
    in_reserve: list[Stretch]


@dataclass(slots=True)
class Line:
    """One shortfall as a page shows it."""

    station: Station
    fall: Shortfall
    start: datetime
    end: datetime
    note: str
    is_open_ended: bool
    x: float = 0.0
    width: float = 0.0

    @property
    def words(self) -> str:
        """The way it ran short, in words."""
        return WORDS[self.fall.what]


@dataclass(slots=True)
class StationLine:
    """One station: planned against used, and how it ran short."""

    station: Station
    planned_wh: float
    used_wh: float
    turns: list[Turn]
    lines: list[Line] = field(default_factory=list)
    bars: list[tuple[float, float, str]] = field(default_factory=list)
    y: float = 0.0

    def minutes(self, what: str) -> float:
        """Minutes of one way of running short."""
        return sum(line.fall.minutes for line in self.lines if line.fall.what == what)

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
        """Minutes into reserve."""
        return self.minutes("reserve")

    @property
    def missing_wh(self) -> float:
        """Energy it did not get. [Wh]"""
        return sum(line.fall.energy_wh or 0.0 for line in self.lines)

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
    """The debrief of an event."""

    event: Event
    stations: list[StationLine]
    lines: list[Line]
    baseline: Rotation | None
    ticks: list[tuple[float, str]]

    def total_min(self, what: str) -> float:
        """Minutes of one way of running short, over all stations."""
        return sum(line.fall.minutes for line in self.lines if line.fall.what == what)

    @property
    def harm(self) -> list[Line]:
        """Shortfalls that did harm."""
        return [line for line in self.lines if line.fall.what != "reserve"]

    @property
    def reserve(self) -> list[Line]:
        """Stretches into reserve."""
        return [line for line in self.lines if line.fall.what == "reserve"]

    @property
    def off_min(self) -> float:
        """Minutes off the air."""
        return self.total_min("off_air")

    @property
    def reserve_min(self) -> float:
        """Minutes into reserve."""
        return self.total_min("reserve")

    @property
    def missing_wh(self) -> float:
        """Energy not served. [Wh]"""
        return sum(line.fall.energy_wh or 0.0 for line in self.lines)

    @property
    def height(self) -> float:
        """Height of the timeline."""
        return 40 + 34 * len(self.stations)


def baseline_of(event: Event) -> Rotation | None:
    """The last rotation published before the event began, else the first published."""
    made = event.rotations.exclude(published_at=None)
    began = event.starts_at - event.clock_offset  # rotations are dated in real time
    before = made.filter(published_at__lte=began).order_by("-published_at")
    return before.first() or made.order_by("published_at").first()


def report_of(event: Event, until: datetime) -> Report:
    """Work out the debrief of an event, up to a moment."""
    until = min(until, event.ends_at)
    physics = EventPhysics(event)
    turns = _turns(physics, until)
    x = Scale(0, event.span_min, 130, 1030)
    stations, every = [], []
    for index, station in enumerate(event.stations.all()):
        own = [turn for turn in turns if turn.station_key == station.pk]
        key = str(station.pk)
        line = StationLine(
            station=station,
            planned_wh=physics.drawn_as_planned_wh(key, event.starts_at, until),
            used_wh=sum(turn.used_wh for turn in own),
            turns=own,
            y=34 + 34 * index,
        )
        line.lines = _lines(physics, station, own, until)
        for fall in line.lines:
            fall.x = x(fall.fall.start_min)
            fall.width = round(max(2.0, x(fall.fall.end_min) - fall.x), 1)
        line.bars = [
            (
                x(event.minute_of(turn.start)),
                round(x(event.minute_of(turn.end)) - x(event.minute_of(turn.start)), 1),
                turn.tag,
            )
            for turn in own
        ]
        stations.append(line)
        every += line.lines
    every.sort(key=lambda line: (line.start, line.station.name))
    return Report(event, stations, every, baseline_of(event), hour_ticks(event, x))


def _turns(physics: EventPhysics, until: datetime) -> list[Turn]:
    event = physics.event
    here = Placement.objects.filter(started_at__lt=until, place__event_key=event.pk)
    served = set(here.order_by().values_list("battery", flat=True))
    found = []
    for turn in history_of(physics, served, until, SAMPLE):
        known = _turn(physics, turn, until)
        if known is not None:
            found.append(known)
    return found


def _turn(physics: EventPhysics, turn: BelievedTurn, until: datetime) -> Turn | None:
    """A battery's turn at a station of the event; None: it was somewhere else."""
    event, key = physics.event, turn.station
    if key not in physics.problem.stations:
        return None
    # Whatever the log says, the debrief is of the event.
    start = max(turn.start, event.starts_at)
    end = min(turn.end or until, until)
    at, every = list(turn.history), list(turn.history.values())
    if start >= end or not at:
        return None
    minutes = [event.minute_of(moment) for moment in at]
    asked = np.arange(event.minute_of(start), event.minute_of(end), SAMPLE_MIN)
    asked = np.append(asked, event.minute_of(end))
    low, typical, high = (
        np.interp(asked, minutes, [getattr(one, name) for one in every])
        for name in ("low", "typical", "high")
    )
    feed = physics.problem.feed(key, str(turn.battery))
    return Turn(
        station_key=UUID(key),
        tag=physics.problem.batteries[str(turn.battery)].tag,
        battery=turn.battery,
        start=start,
        end=end,
        start_soc=replace(every[0], low=low[0], typical=typical[0], high=high[0]),
        end_soc=replace(every[-1], low=low[-1], typical=typical[-1], high=high[-1]),
        used_wh=max(0.0, float(typical[0] - typical[-1])) * feed.capacity_wh,
        in_reserve=below(asked.tolist(), typical.tolist(), feed.reserve_soc),
    )


def _lines(
    physics: EventPhysics, station: Station, turns: list[Turn], until: datetime
) -> list[Line]:
    event, key = physics.event, str(station.pk)
    notes = dict(
        FieldEntry.objects.filter(
            event_key=event.pk,
            station_key=station.pk,
            kind__in=(Kind.OFF_AIR, Kind.POWER_STEP, Kind.SHED),
        ).values_list("uid", "note")
    )
    found: list[Line] = []

    def add(what: str, stretch: Stretch, note: str, is_open_ended: bool) -> None:
        fall = shortfall(
            what,
            stretch,
            grid=physics.problem.grid,
            full_w=physics.problem.demand_w[key],
            low_w=physics.low.demand_w[key],
        )
        if fall.minutes >= 0.5:
            found.append(
                Line(
                    station,
                    fall,
                    event.moment_of(fall.start_min),
                    event.moment_of(fall.end_min),
                    note,
                    is_open_ended,
                )
            )

    span: StationSpan
    for span in (s for s in physics.spans if s.station_key == station.pk):
        start = max(span.started_at, event.starts_at)
        end = min(span.ended_at or until, until)
        if end <= start:
            continue
        stretch = Stretch(
            start_min=event.minute_of(start), end_min=event.minute_of(end)
        )
        add(span.what, stretch, notes.get(span.entry_uid, ""), span.ended_at is None)
    for turn in turns:
        for stretch in turn.in_reserve:
            add("reserve", stretch, f"{turn.tag} below its reserve", False)
    return found
