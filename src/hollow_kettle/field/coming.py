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

from hollow_kettle.log.models import MOVE_STATES, FieldEntry, Kind
from hollow_kettle.log.services import counting
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.rotation.moves import Move

from .page import BoardBattery, NextMove
from .physics import EventPhysics

#: A swap at a station is the one planned there at most so long before or after.
#: Common practice, no source.
SAME_MOVE = timedelta(hours=1)
#: What was due so long ago is not to come any more.
GIVEN_UP = timedelta(hours=2)
#: Entries that long ago say how far moves are.
_SINCE = timedelta(hours=4)


class Noted(NamedTuple):
    """An entry of the last hours, as far as moves and alarms go by it."""

    kind: str
    station: UUID | None
    battery: UUID | None
    at: datetime
    words: str
    who: str
    uid: UUID | None = None
    #: Of a fault: what it was and what was done; of an answer: which it answers.
    answers: UUID | None = None
    symptom: str = ""
    cause: str = ""
    fix: str = ""
    #: Of a panel reading.
    source: UUID | None = None
    amps: float | None = None
    volts: float | None = None


def noted_lately(event: Event, now: datetime) -> list[Noted]:
    """
    What was noted of moves, alarms and panels in the last hours, and every fault.

    In order, by one query.
    """
    lately = (Kind.SWAP, Kind.MOVE, Kind.SEEN, Kind.PANEL, *MOVE_STATES)
    rows = FieldEntry.objects.filter(
        Q(kind__in=lately, effective_at__gte=now - _SINCE)
        | Q(kind__in=(Kind.FAULT, Kind.FIXED)),
        event_key=event.pk,
    )
    names = (
        "kind", "station_key", "battery", "effective_at", "note", "actor__name",
        "uid", "answers", "symptom", "cause", "fix", "source_key", "amps", "volts",
    )  # fmt: skip
    found = counting(rows).order_by("effective_at").values_list(*names)
    return [Noted(*row) for row in found]


def coming_moves(
    moves: Sequence[Move], noted: Sequence[Noted], now: datetime
) -> tuple[list[NextMove], dict[UUID, Move]]:
    """
    Moves not made yet, each with how far it is.

    Returns
    -------
    coming, taken
        And of each battery that went in where another was planned: that move.
    """
    due = [
        move
        for move in moves
        if move.battery is not None and move.arrive >= now - GIVEN_UP
    ]
    made, taken = _made(due, noted)
    found = []
    for move in due:
        if move in made:
            continue
        key = (move.station.pk, move.battery)
        own = [one for one in noted if (one.station, one.battery) == key]
        told = next((one.at for one in own if one.kind == Kind.TOLD), None)
        left = next((one.at for one in own if one.kind == Kind.LEFT), None)
        found.append(NextMove(move, told, left))
    return found, taken


def _arrival(move: Move) -> str:
    return Kind.MOVE if move.is_spare else Kind.SWAP


def _made(
    due: Sequence[Move], noted: Sequence[Noted]
) -> tuple[list[Move], dict[UUID, Move]]:
    """
    Moves that were made: by their own battery, or another's at about that time.

    What came hours before its own move was due made the move that was due then.
    """
    made: list[Move] = []
    taken: dict[UUID, Move] = {}
    for one in noted:
        if one.kind not in (Kind.SWAP, Kind.MOVE) or one.battery is None:
            continue
        here = [
            move
            for move in due
            if (_arrival(move), move.station.pk) == (one.kind, one.station)
            and move not in made
        ]
        here.sort(key=lambda move: abs(move.arrive - one.at))
        own = next((move for move in here if move.battery == one.battery), None)
        near = here[0] if here and abs(here[0].arrive - one.at) <= SAME_MOVE else None
        if own is not None and (near is None or abs(own.arrive - one.at) <= SAME_MOVE):
            made.append(own)
        elif near is not None and one.kind == Kind.SWAP:
            made.append(near)
            if near.battery != one.battery:
                taken[one.battery] = near
    return made, taken


def with_promises(
    physics: EventPhysics,
    coming: Sequence[NextMove],
    taken: dict[UUID, Move],
    batteries: Sequence[BoardBattery],
) -> list[NextMove]:
    """Moves to come; where their battery is in use elsewhere, the smallest repair."""
    by_key = {battery.uid: battery for battery in batteries}
    promised: dict[UUID | None, datetime] = {}
    for one in coming:
        promised.setdefault(one.move.battery, one.move.leave)
    comes_out: dict[str, datetime] = {}
    for one in coming:
        if one.move.bring_back is not None:
            comes_out.setdefault(one.move.bring_back, one.move.arrive)
    found = []
    for one in coming:
        own = by_key.get(one.move.battery) if one.move.battery else None
        where = None if own is None else _serves(own, one.move, taken)
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


def _serves(battery: BoardBattery, move: Move, taken: dict[UUID, Move]) -> str | None:
    """Where a battery serves that can't be brought as planned; None: it can."""
    place = battery.row.place if battery.row is not None else None
    if battery.state != "serving" or place is None:
        return None
    if place.station_key != move.station.pk:
        return f"at {place} instead"
    return "there already" if battery.uid in taken else None


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
