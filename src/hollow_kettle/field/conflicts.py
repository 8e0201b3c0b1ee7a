"""Conflicts of the log as questions, each with the answers that settle it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

from django.db import transaction

from hollow_kettle.log.models import Conflict, FieldEntry, Kind, Standing
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.models import Event
from powercore.belief.fold import SAME_SWAP

from . import services


@dataclass(frozen=True, slots=True)
class Answer:
    """What somebody who knows may say, and what that does to the log."""

    words: str
    #: Entries that count no longer.
    strikes: tuple[UUID, ...] = ()
    #: The battery that came out instead, in a swap that is noted anew.
    came_out: UUID | None = None


@dataclass(frozen=True, slots=True)
class Question:
    """A conflict: what can't both be so, what is asked, and the answers."""

    entry: UUID
    kind: str
    words: str
    asks: str
    answers: list[Answer] = field(default_factory=list)


def questions(event: Event, tags: Mapping[UUID, str]) -> list[Question]:
    """What contradicts in an event's log and nobody has answered, oldest first."""
    found = list(Conflict.objects.filter(event_key=event.pk).select_related("place"))
    if not found:
        return []
    uids = [conflict.entry_uid for conflict in found]
    kept = FieldEntry.objects.filter(event_key=event.pk, standing=Standing.KEPT)
    entries = {
        entry.uid: entry for entry in kept.filter(uid__in=uids).select_related("place")
    }
    answered = set(kept.filter(answers__in=uids).values_list("answers", flat=True))
    return [
        _question(conflict, entries[conflict.entry_uid], tags)
        for conflict in found
        if conflict.entry_uid in entries and conflict.entry_uid not in answered
    ]


def _question(
    conflict: Conflict, entry: FieldEntry, tags: Mapping[UUID, str]
) -> Question:
    def tag(uid: UUID | None) -> str:
        return tags.get(uid, "a battery") if uid else "none"

    one, other = tag(conflict.battery), tag(conflict.other_battery)
    place = conflict.place or "somewhere"
    if conflict.kind == "battery_was_elsewhere":
        words = f"{one} was still at {place} when it was put in at {entry.place}"
        answers = [
            Answer(f"at {entry.place}; it had left {place}"),
            Answer(f"still at {place}", strikes=(entry.uid,)),
        ]
        asks = f"Where is {one}?"
    elif conflict.kind == "swap_reports_differ":
        words = f"two reports of one swap at {place}: {one} or {other} came out"
        first = _first_report(conflict, entry)
        answers = [
            Answer(one, strikes=(first.uid,) if first else ()),
            Answer(other, strikes=(entry.uid,)),
        ]
        asks = "Which came out?"
    else:
        words = f"{one} is said to have come out of {place}, but {other} was there"
        answers = [
            Answer(f"{one}; {other} had left before"),
            Answer(other, strikes=(entry.uid,), came_out=conflict.other_battery),
        ]
        asks = "Which came out?"
    return Question(entry.uid, conflict.kind, words, asks, answers)


def _first_report(conflict: Conflict, second: FieldEntry) -> FieldEntry | None:
    """The report of a swap that another one contradicts."""
    return FieldEntry.objects.filter(
        event_key=second.event_key,
        kind=Kind.SWAP,
        standing=Standing.KEPT,
        place=second.place,
        battery=second.battery,
        battery_out=conflict.other_battery,
        effective_at__range=(second.effective_at - SAME_SWAP, second.effective_at),
    ).first()


@transaction.atomic
def settle(
    event: Event, question: Question, answer: Answer, *, by: Actor, at: datetime
) -> None:
    """
    Settle a conflict as somebody said.

    Nothing is changed: what was wrong is struck, a swap that was misheard is noted
    anew, and where both were right a note answers the entry.
    """
    kept = FieldEntry.objects.filter(event_key=event.pk, standing=Standing.KEPT)
    entry = kept.get(uid=question.entry)
    because = f"{question.asks} {answer.words}"[:500]
    for uid in answer.strikes:
        wrong = kept.get(uid=uid)
        services.strike(event, wrong, because=because, by=by, at=at)
    how: dict[str, Any] = {"by": by, "answers": entry.uid, "note": because}
    if answer.came_out is not None:
        services.note(
            event,
            Kind.SWAP,
            at=entry.effective_at,
            battery=entry.battery,
            battery_out=answer.came_out,
            place=entry.place,
            place_out=entry.place_out,
            station_key=entry.station_key,
            **how,
        )
    elif entry.uid not in answer.strikes:
        services.note(event, Kind.NOTE, at=at, **how)
