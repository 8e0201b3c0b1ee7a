"""What an entry moves that is about the past: places, charge, times of reserve."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import transaction

from hollow_kettle.clock import told
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.models import Event

from .conflicts import Answer, Question, settle
from .page import Board
from .queries import board_of

#: What is noted sooner after it happened is not late. Common practice, no source.
LATE = timedelta(minutes=10)
#: So many changes are named, the greatest first.
MOST = 5
#: Smaller changes are not worth a word: charge, and time of reserve in the bad case.
LEAST_SOC, LEAST_MIN = 0.03, 10.0


@dataclass(frozen=True, slots=True)
class Seen:
    """What a board showed, as far as it is compared."""

    at: datetime
    zone: str
    #: Where each battery is, and its typical charge, by tag.
    batteries: dict[str, tuple[str, float]]
    #: Minutes to the reserve in the bad case by station; None: to the end.
    reserve_min: dict[str, float | None]
    conflicts: int

    @classmethod
    def of(cls, event: Event, board: Board) -> Seen:
        """What of a board is compared."""
        return cls(
            at=board.now,
            zone=event.zone,
            batteries={
                one.tag: (
                    str(one.row.place) if one.row and one.row.place else one.state,
                    one.soc.typical,
                )
                for one in board.batteries
            },
            reserve_min={
                line.station.name: None
                if line.reserve is None or line.reserve.bad_h is None
                else line.reserve.bad_h * 60
                for line in board.stations
                if line.is_open
            },
            conflicts=len(board.conflicts),
        )

    def until(self, after: Seen) -> list[str]:
        """What is otherwise afterwards, in words; the greatest first."""
        found: list[tuple[float, str]] = []
        for name, then in after.reserve_min.items():
            was = self.reserve_min.get(name)
            if name not in self.reserve_min or then == was:
                continue
            size = 1e4 if then is None or was is None else abs(then - was)
            if size >= LEAST_MIN:
                words = f"{name} at its reserve {after._at(then)}, not {self._at(was)}"
                found.append((1e6 + size, words))
        for tag, (place, soc) in after.batteries.items():
            before, held = self.batteries.get(tag, (place, soc))
            if place != before:
                found.append((1e5, f"{tag} {place}, not {before}"))
            elif abs(soc - held) >= LEAST_SOC:
                words = f"{tag} at {soc:.0%}, not {held:.0%}"
                found.append((abs(soc - held), words))
        if more := after.conflicts - self.conflicts:
            word = "more" if more > 0 else "fewer"
            plural = "" if abs(more) == 1 else "s"
            found.append((2e6, f"{abs(more)} {word} conflict{plural}"))
        found.sort(key=lambda one: -one[0])
        return [words for _, words in found[:MOST]]

    def _at(self, minutes: float | None) -> str:
        if minutes is None:
            return "after the end"
        return told(self.at + timedelta(minutes=minutes), self.zone)


class WhatMoved:
    """Made before an entry is noted; says afterwards what that moved."""

    def __init__(self, event: Event, at: datetime) -> None:
        now = event.clock.now()
        self.event, self.at, self.now = event, at, now
        is_late = event.state == Event.State.RUNNING and at < now - LATE
        self.before = Seen.of(event, board_of(event, now)) if is_late else None

    def words(self) -> str:
        """What is otherwise now; empty where the entry is not late."""
        if self.before is None:
            return ""
        moved = self.before.until(Seen.of(self.event, board_of(self.event, self.now)))
        since = told(self.at, self.event.zone)
        if not moved:
            return f"Counted anew from {since} on: nothing of now is otherwise."
        return f"Counted anew from {since} on: {'; '.join(moved)}."


def would_move(
    event: Event, asked: Sequence[Question], by: Actor
) -> list[tuple[Question, list[tuple[Answer, list[str]]]]]:
    """Each question's answers, with what each would change; nothing of it is kept."""
    now = event.clock.now()
    before = Seen.of(event, board_of(event, now))

    def tried(question: Question, answer: Answer) -> list[str]:
        with transaction.atomic():
            settle(event, question, answer, by=by, at=event.last_moment)
            after = Seen.of(event, board_of(event, now))
            transaction.set_rollback(True)
        return [words for words in before.until(after) if "conflict" not in words]

    return [
        (question, [(answer, tried(question, answer)) for answer in question.answers])
        for question in asked
    ]
