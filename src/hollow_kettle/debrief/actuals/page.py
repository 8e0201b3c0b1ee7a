"""Planned against actual: energy, turns, bays, sources, walks, and how well watched."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from hollow_kettle.debrief.history import History, baseline_of
from hollow_kettle.field.beliefs import Turn as BelievedTurn
from hollow_kettle.plan.bridge.problems import problem_of_snapshot
from hollow_kettle.plan.bridge.rotations import core_legs
from hollow_kettle.plan.bridge.scenario import scenario_of
from hollow_kettle.plan.models import Event, Rotation, Station
from powercore.debrief.arrivals import ON_TIME_MIN, late_of, reliefs_of
from powercore.event.problem import SERVE, Leg, Problem
from powercore.sun.sources import SUN
from powercore.values import FloatArray, TimeGrid

#: A battery that came back with less above its reserve was a near miss. (0 to 1)
NEAR = 0.05


@dataclass(frozen=True, slots=True)
class StationRow:
    """A station: energy and how often it was read."""

    station: Station
    planned_wh: float
    used_wh: float
    #: Of its panels: what plans counted on, and what the sky as it was seen gives.
    counted_wh: float
    harvest_wh: float
    open_h: float
    readings: int

    @property
    def more(self) -> float:
        """Used over planned, less one."""
        return self.used_wh / self.planned_wh - 1 if self.planned_wh else 0.0

    @property
    def per_h(self) -> float:
        """Readings an hour while it was open."""
        return self.readings / self.open_h if self.open_h else 0.0


@dataclass(frozen=True, slots=True)
class TurnRow:
    """A battery's turn at a station, and how long the plan had it there."""

    station: str
    tag: str
    start: datetime
    end: datetime
    planned_h: float | None
    start_soc: str
    end_soc: str
    used_wh: float
    #: Its power ended; or it came back near its reserve, or below it.
    is_over: bool
    is_near: bool

    @property
    def hours(self) -> float:
        """How long it was."""
        return (self.end - self.start).total_seconds() / 3600


@dataclass(frozen=True, slots=True)
class BayRow:
    """A bay: what it charged."""

    name: str
    source: str
    batteries: int
    charged_wh: float


@dataclass(frozen=True, slots=True)
class SourceRow:
    """A source: its hours as planned and as they were, and what it gave."""

    name: str
    kind: str
    planned_h: float
    real_h: float
    charged_wh: float
    fuel_l: float | None


@dataclass(frozen=True, slots=True)
class Page:
    """Planned against actual."""

    event: Event
    baseline: Rotation | None
    stations: list[StationRow]
    turns: list[TurnRow]
    bays: list[BayRow]
    sources: list[SourceRow]
    walks_planned: int
    walks_on_time: int
    walks_late: int
    late_min: float
    walks_extra: int

    @property
    def has_panels(self) -> bool:
        """Whether any station has panels."""
        return any(one.harvest_wh or one.counted_wh for one in self.stations)

    @property
    def near(self) -> list[TurnRow]:
        """Near misses: turns that came back near their reserve, or below it."""
        return [one for one in self.turns if one.is_near]

    @property
    def per_h(self) -> float:
        """Readings an hour and station."""
        hours = sum(one.open_h for one in self.stations)
        return sum(one.readings for one in self.stations) / hours if hours else 0.0


def page_of(history: History) -> Page:
    """Hold what happened against what was planned."""
    event = history.event
    baseline = baseline_of(event)
    legs = core_legs(baseline) if baseline else []
    counted = problem_of_snapshot(baseline.snapshot).sun_w if baseline else {}
    charged = _charged(history)
    late, extra = _walks(history, legs)
    planned = sum(leg.kind == SERVE and leg.start_min > 0 for leg in legs)
    behind = [one for one in late if one > ON_TIME_MIN]
    return Page(
        event=event,
        baseline=baseline,
        stations=[_station(history, one, counted) for one in history.stations],
        turns=_turns(history, legs),
        bays=_bays(history, charged),
        sources=_sources(history, charged),
        walks_planned=planned,
        walks_on_time=len(late) - len(behind),
        walks_late=len(behind),
        late_min=sum(behind) / len(behind) if behind else 0.0,
        walks_extra=extra,
    )


def _station(
    history: History, station: Station, counted: Mapping[str, FloatArray]
) -> StationRow:
    own = history.of(station)
    return StationRow(
        station=station,
        planned_wh=history.physics.drawn_as_planned_wh(
            str(station.pk), history.event.starts_at, history.until
        ),
        used_wh=sum(turn.used_wh for turn in own),
        counted_wh=_until(history, counted, station),
        harvest_wh=_until(history, history.physics.problem.forecast_w, station),
        open_h=history.open_h(station),
        readings=sum(turn.readings for turn in own),
    )


def _until(
    history: History, watts: Mapping[str, FloatArray], station: Station
) -> float:
    """Energy of a power on the grid, as far as the event has come. [Wh]"""
    own = watts.get(str(station.pk))
    if own is None:
        return 0.0
    grid = TimeGrid(count=own.size)
    total = grid.cumulative_wh(own)
    minute = history.event.minute_of(history.until)
    return float(np.interp(minute, grid.edges_min, total))


def _turns(history: History, legs: list[Leg]) -> list[TurnRow]:
    event, names = history.event, {one.pk: one.name for one in history.stations}
    planned = [leg for leg in legs if leg.kind == SERVE]
    ended = [history.power_ended(span) for span in history.spans]
    over = {(one.battery, one.start) for one in ended if one is not None}
    rows = []
    for turn in history.turns:
        key, battery = str(turn.station_key), str(turn.battery)
        start = event.minute_of(turn.start)
        same = [
            leg
            for leg in planned
            if leg.place == key
            and leg.battery == battery
            and leg.start_min - 60 <= start < leg.end_min
        ]
        best = min(same, key=lambda leg: abs(leg.start_min - start), default=None)
        feed = history.physics.problem.feed(key, battery)
        rows.append(
            TurnRow(
                station=names[turn.station_key],
                tag=turn.tag,
                start=turn.start,
                end=turn.end,
                planned_h=(best.end_min - best.start_min) / 60 if best else None,
                start_soc=turn.start_soc.told,
                end_soc=turn.end_soc.told,
                used_wh=turn.used_wh,
                is_over=(turn.battery, turn.began) in over,
                is_near=(turn.battery, turn.began) not in over
                and turn.end_soc.typical < feed.reserve_soc + NEAR,
            )
        )
    return rows


def _charged(history: History) -> dict[str, list[float]]:
    """What each bay put into batteries, turn by turn, as believed. [Wh]"""
    found: defaultdict[str, list[float]] = defaultdict(list)
    for turn in history.lives:
        if turn.is_on_bay and turn.placement is not None and turn.history:
            gain_wh = _gain_wh(history, turn)
            if gain_wh > 0:
                found[str(turn.placement.place_id)].append(gain_wh)
    return found


def _gain_wh(history: History, turn: BelievedTurn) -> float:
    every = list(turn.history.values())
    pack = history.physics.problem.batteries[str(turn.battery)].pack
    gain = every[-1].typical - every[0].typical
    return gain * pack.trusted_ah * pack.nominal_v


def _bays(history: History, charged: dict[str, list[float]]) -> list[BayRow]:
    problem = history.physics.problem
    return [
        BayRow(
            name=bay.name,
            source=problem.sources[bay.source].name,
            batteries=len(charged.get(key, ())),
            charged_wh=sum(charged.get(key, ())),
        )
        for key, bay in problem.bays.items()
    ]


def _sources(history: History, charged: dict[str, list[float]]) -> list[SourceRow]:
    event, real = history.event, history.physics.problem
    plan = Problem(scenario_of(event, as_logged=False))
    until = event.minute_of(history.until)

    def hours(problem: Problem, key: str) -> float:
        if key not in problem.sources:
            return 0.0
        return sum(
            max(0.0, min(until, window.end_min) - window.start_min) / 60
            for window in problem.sources[key].windows
        )

    rows = []
    for key, source in real.sources.items():
        given = sum(
            sum(charged.get(bay, ()))
            for bay, one in real.bays.items()
            if one.source == key
        )
        ran, fuel_l = hours(real, key), None
        if source.fuel is not None and ran:
            share = (given / ran + source.other_w) / max(1.0, source.max_w)
            fuel_l = float(source.fuel.burns_l_h(min(1.0, share))) * ran
        rows.append(
            SourceRow(
                name=source.name,
                kind="sun" if source.kind == SUN else source.kind,
                planned_h=hours(plan, key),
                real_h=ran,
                charged_wh=given,
                fuel_l=fuel_l,
            )
        )
    return rows


def _walks(history: History, legs: list[Leg]) -> tuple[list[int], int]:
    """How late reliefs came, and how many came that were not planned."""
    late, extra = [], 0
    for station in history.stations:
        key = str(station.pk)
        planned = reliefs_of(legs, key)
        real = [
            (str(turn.battery), round(history.event.minute_of(turn.start)))
            for turn in history.of(station)
            if turn.start > history.event.starts_at + timedelta(minutes=1)
        ]
        one, more = late_of(planned, real)
        late += one
        extra += more
    return late, extra
