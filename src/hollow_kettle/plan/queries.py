"""What several of the Plan's pages show: rotations, moves, hours across."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from hollow_kettle.clock import local
from hollow_kettle.ui.drawing import Scale
from powercore.rotation.problem import CARRIED, SERVE, Problem
from powercore.rotation.problem import Leg as CoreLeg

from . import bridge
from .cache import problem_of_snapshot
from .models import Event, Rotation, Search, Station


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


def search_of(event: Event) -> Search | None:
    """The latest search for a better rotation."""
    return event.searches.select_related("rotation", "best").first()


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
