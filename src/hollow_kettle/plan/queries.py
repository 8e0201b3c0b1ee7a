"""What the Plan's pages show: the ledger, endurance, next moves."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from hollow_kettle.clock import local
from hollow_kettle.ui.drawing import Scale, points
from powercore.budget import Endurance, Ledger, StationBudget, endurance, ledger
from powercore.errors import PowercoreError
from powercore.rotation.construct import STYLES, construct
from powercore.rotation.problem import CARRIED, SERVE, Problem
from powercore.rotation.problem import Leg as CoreLeg
from powercore.scenario import Scenario

from . import bridge
from .cache import problem_for, problem_of_snapshot
from .models import Event, Rotation, Station


@dataclass(frozen=True, slots=True)
class Bars:
    """A ledger line's drawing: x and width of each part, in pixels."""

    need: float
    kit: tuple[float, float]
    carried: tuple[float, float]
    uncovered: tuple[float, float]


@dataclass(frozen=True, slots=True)
class LedgerLine:
    """One station of the ledger as a page shows it."""

    station: Station
    budget: StationBudget
    bars: Bars
    tag: str
    short_at: datetime | None


@dataclass(frozen=True, slots=True)
class LedgerPage:
    """The ledger, what it rests on, and what is wrong when there is none."""

    lines: list[LedgerLine]
    total: Ledger | None
    rotation: Rotation | None
    trouble: str = ""

    @property
    def short(self) -> list[LedgerLine]:
        """Stations that run short, the first to do so first."""
        found = [line for line in self.lines if line.short_at]
        return sorted(
            found, key=lambda line: line.short_at or line.station.event.starts_at
        )


def current_rotation(event: Event) -> Rotation | None:
    """The rotation that counts: published, else the latest draft."""
    return (
        event.rotations.filter(state=Rotation.State.PUBLISHED).first()
        or event.rotations.filter(state=Rotation.State.DRAFT).first()
    )


def published(event: Event) -> Rotation | None:
    """The published rotation."""
    found = event.rotations.filter(state=Rotation.State.PUBLISHED)
    return found.select_related("snapshot").first()


def ledger_page(event: Event) -> LedgerPage:
    """
    Work out the energy ledger as the event stands now.

    It rests on the rotation that counts when that was made for the event from its
    start and as it still is; else on the set-up alone: the first battery of each
    station and no walks.
    """
    stations = {str(s.pk): s for s in event.stations.select_related("site", "event")}
    if not stations:
        return LedgerPage([], None, None)
    try:
        problem = problem_for(event).problem
        rotation = _rotation_for(event, problem.scenario)
        legs = bridge.core_legs(rotation) if rotation else set_up_only(problem)
        found = ledger(problem, legs)
    except PowercoreError as error:
        return LedgerPage([], None, None, trouble=str(error))
    most_wh = max((line.need_wh for line in found.stations), default=0.0) or 1.0
    scale = Scale(0, most_wh, 0, 420)
    lines = [
        LedgerLine(
            station=stations[line.station],
            budget=line,
            bars=_bars(line, scale),
            tag=(
                problem.batteries[line.first_battery].tag
                if line.first_battery
                else "none"
            ),
            short_at=(
                event.moment_of(line.first_short.start_min)
                if line.first_short
                else None
            ),
        )
        for line in found.stations
    ]
    return LedgerPage(lines, found, rotation)


def _rotation_for(event: Event, scenario: Scenario) -> Rotation | None:
    """The event's rotation from its start, if made for the event as it stands."""
    whole = event.rotations.filter(from_min=0).exclude(state=Rotation.State.DRAFT)
    rotation = whole.select_related("snapshot").first() or current_rotation(event)
    if rotation is None or rotation.from_min != 0:
        return None
    made_for = bridge.scenario_from(rotation.snapshot)
    return rotation if made_for == scenario else None


def set_up_only(problem: Problem) -> tuple[CoreLeg, ...]:
    """Each station on its first battery until that ends: nobody walks."""
    scenario = problem.scenario
    alone = Scenario(
        **{
            name: getattr(scenario, name)
            for name in Scenario.__dataclass_fields__
            if name != "crews"
        },
        crews=(),
    )
    return construct(Problem(alone), STYLES[:1])


def _bars(line: StationBudget, scale: Scale) -> Bars:
    kit = scale(line.kit_wh)
    carried = scale(line.kit_wh + line.carried_wh)
    need = scale(line.need_wh)
    return Bars(
        need=need,
        kit=(0, kit),
        carried=(kit, round(carried - kit, 1)),
        uncovered=(carried, round(max(0.0, need - carried), 1)),
    )


@dataclass(frozen=True, slots=True)
class StationPage:
    """What one station asks for, and how long each battery would keep it on."""

    need_wh: float
    mean_a: float
    peak_a: float
    open_h: float
    batteries: list[tuple[str, Endurance]]
    #: Demand as a stepped area, and the hours beneath it.
    demand: str
    ticks: list[tuple[float, str]]
    most_w: float
    trouble: str = ""


def station_page(event: Event, station: Station) -> StationPage:
    """Work out a station's demand and endurance."""
    try:
        problem = problem_for(event).problem
        key = str(station.pk)
        feeding = problem.stations[key].feeding(problem.grid)
        found = [
            (problem.batteries[item.battery].tag, item)
            for item in endurance(problem, key)
        ]
    except PowercoreError as error:
        return StationPage(0, 0, 0, 0, [], "", [], 0, trouble=str(error))
    watts = problem.demand_w[key]
    most_w = float(max(watts.max(), 1.0))
    x, y = Scale(0, event.span_min, 4, 636), Scale(0, most_w, 92, 8)
    outline = [(4.0, 92.0)]
    for number, value in enumerate(watts):
        start = number * problem.grid.step_min
        outline += [(x(start), y(value)), (x(start + problem.grid.step_min), y(value))]
    outline.append((636.0, 92.0))
    return StationPage(
        need_wh=float(problem.drawn_wh[key][-1]),
        mean_a=feeding.mean_a,
        peak_a=feeding.peak_a,
        open_h=float(problem.open_min[key][-1]) / 60,
        batteries=found,
        demand=points(outline),
        ticks=hour_ticks(event, x),
        most_w=most_w,
    )


def hour_ticks(event: Event, x: Scale) -> list[tuple[float, str]]:
    """Hours across a drawing, in local time."""
    step_h = 1 if event.span_min <= 14 * 60 else 2 if event.span_min <= 40 * 60 else 6
    moment = local(event.starts_at, event.zone).replace(minute=0, second=0)
    found = []
    while event.minute_of(moment) <= event.span_min:
        if event.minute_of(moment) >= 0 and moment.hour % step_h == 0:
            found.append((x(event.minute_of(moment)), f"{moment:%H}"))
        moment += timedelta(hours=1)
    return found


@dataclass(frozen=True, slots=True)
class Move:
    """One walk: who leaves when, with what, where, and what comes back."""

    leave: datetime
    arrive: datetime
    station: Station
    bring: str
    bring_back: str | None
    crew: str
    #: Time of reserve at the station minus arrival minus usual lateness. [min]
    slack_min: float | None
    battery: UUID


def moves(
    event: Event,
    rotation: Rotation,
    tags: dict[UUID, str],
    stations: Iterable[Station] | None = None,
) -> list[Move]:
    """All walks of a rotation in order."""
    legs = list(rotation.legs.all())
    by_key = {s.pk: s for s in (stations or event.stations.all())}
    by_battery: dict[UUID, list] = {}
    for leg in legs:
        by_battery.setdefault(leg.battery, []).append(leg)
    problem = problem_of_snapshot(rotation.snapshot)
    found = []
    for life in by_battery.values():
        for before, leg in itertools.pairwise(life):
            if before.kind != CARRIED or leg.kind != SERVE or leg.place not in by_key:
                continue
            old = next(
                (
                    other
                    for other in legs
                    if other.kind == SERVE
                    and other.place == leg.place
                    and other.end_min == leg.start_min
                ),
                None,
            )
            found.append(
                Move(
                    leave=event.moment_of(before.start_min),
                    arrive=event.moment_of(leg.start_min),
                    station=by_key[leg.place],
                    bring=tags.get(leg.battery, "?"),
                    bring_back=tags.get(old.battery, "?") if old else None,
                    crew=before.crew,
                    slack_min=_slack(event, problem, rotation, old, leg.start_min),
                    battery=leg.battery,
                )
            )
    return sorted(found, key=lambda move: (move.leave, move.station.name))


def _slack(
    event: Event, problem: Problem, rotation: Rotation, old, arrive_min: int
) -> float | None:
    """How late a walk may be, beyond the usual lateness, before the reserve. [min]"""
    if old is None:
        return None
    key = str(old.place)
    feed = problem.feed(key, str(old.battery))
    left_wh = (old.end_soc - feed.reserve_soc) * feed.capacity_wh
    at = min(arrive_min - rotation.from_min, problem.span_min - 1)
    watts = float(problem.demand_w[key][at // problem.grid.step_min])
    if watts <= 0:
        return None
    return left_wh / watts * 60 - event.lateness_min


def tags_of(event: Event) -> dict[UUID, str]:
    """Tags of the event's batteries by uid."""
    return dict(event.batteries.values_list("pk", "tag"))


def problem_of(rotation: Rotation) -> tuple[Problem, Sequence[CoreLeg]]:
    """A rotation as the core sees it."""
    return problem_of_snapshot(rotation.snapshot), bridge.core_legs(rotation)
