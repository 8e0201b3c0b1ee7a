"""What the readings of an event say of its stations' real draw."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime
from uuid import UUID

from hollow_kettle.log.models import (
    FieldEntry,
    PlaceKind,
    Placement,
    StationDraw,
)
from powercore.belief.draw import DrawFactor, Observed, learned
from powercore.belief.estimate import COUNTER_SD, Belief
from powercore.belief.readings import is_tripped
from powercore.physics.battery import Pack
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import BUS_V

from .beliefs import EventPhysics, reading_steps

#: Less than this says nothing of a factor. [Ah]
LEAST_AH = 0.3
#: What a counter's zero adds to a count. [Ah] Common practice, no source.
ZERO_AH = 0.1


def refresh(
    physics: EventPhysics, readings: Mapping[UUID, Sequence[FieldEntry]]
) -> None:
    """Learn each station's draw anew, from the turns of its batteries."""
    event = physics.event
    seen: defaultdict[UUID, list[Observed]] = defaultdict(list)
    turns = Placement.objects.filter(
        place__event_key=event.pk, place__kind=PlaceKind.POSITION
    ).select_related("place")
    for turn in turns:
        key = turn.place.station_key if turn.place else None
        plan = physics.problem.stations.get(str(key))
        # What panels and supplies give there hides what the station draws.
        if key is None or plan is None or plan.arrays or plan.supplies:
            continue
        one = _observed(physics, turn, key, readings.get(turn.battery, ()))
        if one is not None:
            seen[key].append(one)
    StationDraw.objects.filter(event_key=event.pk).exclude(
        station_key__in=seen
    ).delete()
    found = {
        key: learned(max(0.01, physics.problem.stations[str(key)].spread), every)
        for key, every in seen.items()
    }
    StationDraw.objects.bulk_create(
        [
            StationDraw(
                event_key=event.pk,
                station_key=key,
                factor=one.mean,
                sd=one.sd,
                turns=one.turns,
            )
            for key, one in found.items()
        ],
        update_conflicts=True,
        unique_fields=["station_key"],
        update_fields=["event_key", "factor", "sd", "turns"],
    )
    physics.draws = {str(key): one for key, one in found.items()}


def _observed(
    physics: EventPhysics,
    turn: Placement,
    station: UUID,
    readings: Sequence[FieldEntry],
) -> Observed | None:
    """What a battery gave in its turn: by its counter, else between two readings."""
    own = [
        entry
        for entry in readings
        if turn.started_at <= entry.effective_at
        and (turn.ended_at is None or entry.effective_at <= turn.ended_at)
        and not (entry.volts is not None and is_tripped(entry.volts))
    ]
    pack = physics.pack(turn.battery)
    if pack is None or not own:
        return None

    def planned_ah(start: datetime, end: datetime) -> float:
        return physics.drawn_wh(str(station), start, end) / BUS_V

    counted = [entry for entry in own if entry.amp_hours is not None]
    if counted:
        last = counted[-1]
        used = last.amp_hours or 0.0
        planned = planned_ah(turn.started_at, last.effective_at)
        sd = COUNTER_SD * abs(used) + ZERO_AH
    else:
        first, last = own[0], own[-1]
        (start, start_sd), (end, end_sd) = (_alone(pack, one) for one in (first, last))
        used = (start - end) * pack.trusted_ah
        planned = planned_ah(first.effective_at, last.effective_at)
        sd = (start_sd**2 + end_sd**2) ** 0.5 * pack.trusted_ah
    if planned < LEAST_AH:
        return None
    return Observed(planned_ah=planned, used_ah=used, sd_ah=sd)


def _alone(pack: Pack, entry: FieldEntry) -> tuple[float, float]:
    """State of charge by one reading alone, and its standard deviation."""
    belief = Belief(pack)
    for step in reading_steps(entry, pack):
        belief.apply(step)
    found = belief.estimate()
    return found.typical, max(1e-3, (found.high - found.low) / 2 / ONE_IN_TEN)


def believed_draws(physics: EventPhysics) -> dict[UUID, DrawFactor]:
    """Each station's draw factor: learned, else by its plan's own spread."""
    return {
        UUID(key): physics.draws.get(key, DrawFactor(sd=plan.spread))
        for key, plan in physics.problem.stations.items()
    }
