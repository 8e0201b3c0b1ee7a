"""The fault log: what was wrong, what it was, what was done, and what is still open."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.log.services import Receipt, counting
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.models import Event
from powercore.gear.faults import CAUSES, Symptom, symptom_of

from . import services
from .coming import Noted
from .page import Board


@dataclass(frozen=True, slots=True)
class Fault:
    """One fault with its answer, if it has one."""

    entry: FieldEntry
    answer: FieldEntry | None

    @property
    def symptom(self) -> Symptom:
        """What was seen, and what to look at first."""
        return symptom_of(self.entry.symptom)

    @property
    def cause_key(self) -> str:
        """What it was, as a key of `powercore.gear.faults`; empty where nobody said."""
        key = self._told.cause
        return key if key in CAUSES else ""

    @property
    def cause(self) -> str:
        """What it was, in words; empty where nobody said."""
        return CAUSES[self.cause_key].name if self.cause_key else ""

    @property
    def group(self) -> str:
        """ "connection" or "equipment"; empty where it is neither."""
        return CAUSES[self.cause_key].group if self.cause_key else ""

    @property
    def fix(self) -> str:
        """What was done."""
        return self._told.fix

    @property
    def is_open(self) -> bool:
        """Whether neither a cause nor what was done is known."""
        return not (self.cause or self.fix)

    @property
    def _told(self) -> FieldEntry:
        return self.answer or self.entry


def faults_of(event: Event) -> list[Fault]:
    """An event's faults: open ones first, dangers among them first, newest first."""
    own = FieldEntry.objects.filter(
        event_key=event.pk, kind__in=(Kind.FAULT, Kind.FIXED)
    )
    entries = list(counting(own).select_related("actor").order_by("effective_at"))
    answers = {one.answers: one for one in entries if one.kind == Kind.FIXED}
    found = [
        Fault(one, answers.get(one.uid)) for one in entries if one.kind == Kind.FAULT
    ]
    found.reverse()
    return sorted(found, key=lambda one: (not one.is_open, not one.symptom.is_danger))


def tally(faults: Sequence[Fault]) -> str:
    """How many there were of which group, in words."""
    closed = Counter(one.group or "neither" for one in faults if not one.is_open)
    still = sum(one.is_open for one in faults)
    parts = [
        f"{closed[group]} {words}"
        for group, words in (
            ("connection", "in connections, fuses or switches"),
            ("equipment", "in equipment"),
            ("neither", "in neither"),
        )
        if closed[group]
    ]
    return ", ".join([*parts, *([f"{still} open"] if still else [])])


def note_fixed(
    event: Event, fault: FieldEntry, *, cause: str, fix: str, by: Actor, at: datetime
) -> Receipt:
    """Note what a fault was and what was done; a later answer counts instead."""
    return services.note(
        event,
        Kind.FIXED,
        by=by,
        at=at,
        answers=fault.uid,
        station_key=fault.station_key,
        battery=fault.battery,
        cause=cause,
        fix=fix,
    )


def open_of(noted: Sequence[Noted]) -> list[Noted]:
    """Of a board's entries, the faults still open, dangers first, oldest first."""
    answered: set[UUID | None] = {
        one.answers for one in noted if one.kind == Kind.FIXED
    }
    found = [
        one
        for one in noted
        if one.kind == Kind.FAULT
        and one.uid not in answered
        and not (one.cause or one.fix)
    ]
    return sorted(found, key=lambda one: not symptom_of(one.symptom).is_danger)


def where_of(board: Board, one: Noted) -> str:
    """Where a fault is, and of which battery, as a sentence begins with it."""
    stations = (s.station.name for s in board.stations if s.station.pk == one.station)
    tags = (b.tag for b in board.batteries if b.uid == one.battery)
    return ", ".join([*stations, *tags]) or "The yard"
