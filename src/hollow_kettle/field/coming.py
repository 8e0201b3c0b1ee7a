"""
Moves to come: what of the plan is still to be done, and what can't be done as planned.

What people did counts at once. A battery that went in where another was planned has
made that move; what it was promised for is said, with the smallest repair.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import NamedTuple
from uuid import UUID

from django.db.models import Q

from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.log.services import counting
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.rotation.following import (
    KINDS,
    MOST,
    MoveNow,
    NotedMove,
    noted_move,
)
from hollow_kettle.plan.rotation.moves import Move

from .page import BoardBattery
from .physics import EventPhysics

#: Alarms and panels go by what was noted in so long a time.
_SINCE = timedelta(hours=4)


class Noted(NamedTuple):
    """An entry, as far as moves and alarms go by it."""

    kind: str
    station: UUID | None
    battery: UUID | None
    at: datetime
    words: str
    who: str
    uid: UUID
    #: Of a fault: what it was and what was done; of an answer: which it answers.
    answers: UUID | None = None
    symptom: str = ""
    cause: str = ""
    fix: str = ""
    #: Of a panel reading.
    source: UUID | None = None
    amps: float | None = None
    volts: float | None = None
    place: UUID | None = None


def noted_of(event: Event, now: datetime) -> list[Noted]:
    """
    All that was noted of moves and faults, and of alarms and panels in the last hours.

    In order, by one query; the latest, where there are very many.
    """
    rows = FieldEntry.objects.filter(
        Q(kind__in=(*KINDS, Kind.FAULT, Kind.FIXED))
        | Q(kind__in=(Kind.SEEN, Kind.PANEL), effective_at__gte=now - _SINCE),
        event_key=event.pk,
    )
    names = (
        "kind", "station_key", "battery", "effective_at", "note", "actor__name",
        "uid", "answers", "symptom", "cause", "fix", "source_key", "amps", "volts",
        "place_id",
    )  # fmt: skip
    latest = counting(rows).order_by("-effective_at", "-uid")[:MOST]
    return [Noted(*row) for row in reversed(latest.values_list(*names))]


def moves_in(event: Event, noted: Sequence[Noted]) -> list[NotedMove]:
    """What of that is about batteries on their ways."""
    return [
        noted_move(
            event,
            (one.uid, one.kind, one.battery, one.station, one.at, one.place),
        )
        for one in noted
        if one.kind in KINDS and one.battery is not None
    ]


def taken_for(every: Sequence[MoveNow]) -> dict[UUID, Move]:
    """Of each battery that went in where another was planned: that move."""
    return {
        one.battery: one.move
        for one in every
        if one.instead and one.battery is not None
    }


def with_promises(
    physics: EventPhysics,
    every: Sequence[MoveNow],
    batteries: Sequence[BoardBattery],
) -> list[MoveNow]:
    """All moves; those to come whose battery is in use get the smallest repair."""
    by_key = {battery.uid: battery for battery in batteries}
    coming = [one for one in every if one.is_open]
    taken = taken_for(every)
    promised: dict[UUID | None, datetime] = {}
    for one in coming:
        promised.setdefault(one.move.battery, one.move.leave)
    comes_out: dict[str, datetime] = {}
    for one in coming:
        if one.move.bring_back is not None:
            comes_out.setdefault(one.move.bring_back, one.move.arrive)
    found = []
    for one in every:
        own = by_key.get(one.move.battery) if one.move.battery else None
        where = None if own is None else _serves(own, one.move)
        if not one.is_open:
            where = None
        if own is None or where is None:
            found.append(one)
            continue
        back = comes_out.get(own.tag)
        if back is not None and back < one.move.leave and own.uid not in taken:
            found.append(one)  # as planned, it comes out in time
            continue
        free = _substitute(physics, one.move, by_key, promised, taken.get(own.uid))
        repair = "no other is free: replan"
        if free is not None:
            soc = f"{free.soc.typical:.0%}, at least {free.soc.low:.0%}"
            later = " though it is promised for later" if free.uid in promised else ""
            repair = f"take {free.tag} ({soc}){later}, or replan"
            promised[free.uid] = one.move.leave
        words = f"{own.tag} serves {where}: {repair}."
        found.append(replace(one, trouble=words))
    return found


def _serves(battery: BoardBattery, move: Move) -> str | None:
    """Where a battery serves that can't be brought as planned; None: it can."""
    place = battery.row.place if battery.row is not None else None
    if battery.state != "serving" or place is None:
        return None
    if place.station_key != move.station.pk:
        return f"at {place} instead"
    return "there already"


def _substitute(
    physics: EventPhysics,
    move: Move,
    by_key: dict[UUID, BoardBattery],
    promised: dict[UUID | None, datetime],
    instead_of: Move | None,
) -> BoardBattery | None:
    """
    The battery whose move was made by another, else the fullest that is free.

    One that is promised for later comes after those that are promised to nobody.
    """
    if instead_of is not None and instead_of.battery is not None:
        own = by_key.get(instead_of.battery)
        if own is not None and _may(physics, move, own):
            return own
    free = [
        battery
        for battery in by_key.values()
        if _may(physics, move, battery)
        and (battery.uid not in promised or promised[battery.uid] > move.arrive)
    ]
    return max(
        free, key=lambda one: (one.uid not in promised, one.soc.low), default=None
    )


def _may(physics: EventPhysics, move: Move, battery: BoardBattery) -> bool:
    if battery.state not in ("ready", "charging"):
        return False
    feed = physics.problem.feed(str(move.station.pk), str(battery.uid))
    return feed.refusal is None and battery.soc.typical > feed.reserve_soc
