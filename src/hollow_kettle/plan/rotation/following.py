"""How far a rotation's moves are, by the log: the one answer for every room."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from hollow_kettle.clock import told
from hollow_kettle.log.models import MOVE_STATES, FieldEntry, Kind
from hollow_kettle.log.services import counting
from hollow_kettle.plan.bridge.problems import problem_of_snapshot
from hollow_kettle.plan.models import Event, Rotation
from powercore.event.following import (
    GIVEN_UP,
    LEFT,
    MADE,
    OPEN,
    OTHERWISE,
    TO_COME,
    TOLD,
    Followed,
    NotedMove,
    PlannedMove,
    followed,
)

from .moves import Move

#: What says of a move how far it is.
KINDS = (Kind.SWAP, Kind.MOVE, *MOVE_STATES)
#: More of them are not laid beside a plan: the latest count.
MOST = 2000


@dataclass(frozen=True, slots=True)
class MoveNow:
    """A planned move, and how far it is by the log."""

    move: Move
    state: str
    told: datetime | None = None
    left: datetime | None = None
    #: When it was made, and the entry and the battery that made it.
    made_at: datetime | None = None
    by: UUID | None = None
    battery: UUID | None = None
    #: What went in where another was planned.
    instead: str = ""
    #: Why it can't be made as planned, and what to do about it.
    trouble: str = ""
    zone: str = "UTC"

    @property
    def is_open(self) -> bool:
        """Whether somebody may still make it."""
        return self.state in OPEN

    @property
    def is_given_up(self) -> bool:
        """Whether its time went by and nobody logged it."""
        return self.state == GIVEN_UP

    @property
    def asks(self) -> tuple[str, str] | None:
        """What is noted of it next: its kind, and what the button says."""
        can_be = self.is_open and self.move.battery is not None
        if not can_be or self.move.is_swap or self.left is not None:
            return None
        return ("told", "Told") if self.told is None else ("left", "Left")

    @property
    def state_words(self) -> str:
        """How far it is, in words with its time."""
        if self.state == LEFT and self.left is not None:
            return f"left {self._at(self.left)}"
        if self.state == TOLD and self.told is not None:
            return f"told {self._at(self.told)}"
        if self.made_at is None:
            return "given up: nobody logged it" if self.is_given_up else self.state
        if self.state == MADE:
            return f"made {self._at(self.made_at)}"
        if self.instead:
            return f"{self.instead} went in instead, {self._at(self.made_at)}"
        return f"put into use at once, {self._at(self.made_at)}"

    def _at(self, moment: datetime) -> str:
        return told(moment, self.zone)


@dataclass(frozen=True, slots=True)
class ToFollow:
    """A rotation's moves as the log is laid beside them."""

    event: Event
    rotation: Rotation
    moves: list[Move]
    #: The moves, then what stands at stations as the rotation begins.
    planned: list[PlannedMove]
    tags: dict[UUID, str]

    @classmethod
    def of(
        cls,
        event: Event,
        rotation: Rotation,
        moves: Sequence[Move],
        tags: dict[UUID, str] | None = None,
    ) -> ToFollow:
        """All moves of a rotation; tags of batteries are read where none are given."""
        if tags is None:
            tags = dict(event.batteries.values_list("pk", "tag"))
        by_tag = {tag: str(uid) for uid, tag in tags.items()}
        planned = [_planned(event, move, by_tag) for move in moves]
        planned += [
            PlannedMove(
                station=str(leg.place),
                battery=str(leg.battery),
                arrive_min=rotation.from_min,
                is_spare=leg.is_spare,
                is_start=True,
            )
            for leg in rotation.legs.all()
            if leg.start_min == 0 and leg.station is not None
        ]
        return cls(event, rotation, list(moves), planned, tags)


def states_of(
    plan: ToFollow, noted: Sequence[NotedMove], now: datetime
) -> list[MoveNow]:
    """
    Say of each move of a rotation in which one state it is.

    Returns
    -------
    list of MoveNow
        One for each move, in their order; then crews that are still under way by the
        plan before.
    """
    event, rotation, count = plan.event, plan.rotation, len(plan.moves)
    since = rotation.from_min if rotation.from_min else float("-inf")
    found = followed(plan.planned, noted, event.minute_of(now), since_min=since)
    every = [
        _now(event, move, one, plan.tags)
        for move, one in zip(plan.moves, found[:count], strict=True)
    ]
    for start, one in zip(plan.planned[count:], found[count:], strict=True):
        if one.state == LEFT and one.left_min is not None and rotation.from_min:
            every.append(_under_way(plan, start, one))
    return every


def moves_now(
    event: Event, rotation: Rotation, moves: Sequence[Move], now: datetime | None
) -> list[MoveNow]:
    """
    How far moves are: of the published plan by the log, of another by its times.

    `now`: none before the event; after it, all that was logged counts.
    """
    is_followed = rotation.state == Rotation.State.PUBLISHED
    if is_followed and event.state != Event.State.PLANNED:
        plan = ToFollow.of(event, rotation, moves)
        return states_of(plan, noted_moves(event), event.last_moment)
    return [
        MoveNow(
            move,
            TO_COME if now is None or move.arrive >= now else GIVEN_UP,
            zone=event.zone,
        )
        for move in moves
    ]


def noted_moves(event: Event) -> list[NotedMove]:
    """What was noted of batteries on their ways, in order, as the core reads it."""
    own = FieldEntry.objects.filter(
        event_key=event.pk, kind__in=KINDS, battery__isnull=False
    )
    rows = counting(own).order_by("-effective_at", "-uid")[:MOST]
    names = ("uid", "kind", "battery", "station_key", "effective_at", "place_id")
    return [noted_move(event, row) for row in reversed(rows.values_list(*names))]


def noted_move(
    event: Event, row: tuple[UUID, str, UUID, UUID | None, datetime, UUID | None]
) -> NotedMove:
    """One of them: its key, kind, battery, station, moment and place."""
    uid, kind, battery, station, at, place = row
    return NotedMove(
        key=str(uid),
        battery=str(battery),
        station="" if station is None else str(station),
        at_min=event.minute_of(at),
        said=kind if kind in MOVE_STATES else "",
        is_spare=kind == Kind.MOVE,
        is_put_down=place is not None,
    )


def _planned(event: Event, move: Move, by_tag: dict[str, str]) -> PlannedMove:
    return PlannedMove(
        station=str(move.station.pk),
        battery="" if move.battery is None else str(move.battery),
        taken=by_tag.get(move.bring_back or "", ""),
        arrive_min=event.minute_of(move.arrive),
        is_spare=move.is_spare,
    )


def _now(event: Event, move: Move, one: Followed, tags: dict[UUID, str]) -> MoveNow:
    by = one.by
    instead = ""
    if by is not None and one.state == OTHERWISE and by.battery != str(move.battery):
        instead = tags.get(UUID(by.battery), "another battery")
    return MoveNow(
        move,
        one.state,
        told=_moment(event, one.told_min),
        left=_moment(event, one.left_min),
        made_at=_moment(event, None if by is None else by.at_min),
        by=None if by is None else UUID(by.key),
        battery=None if by is None else UUID(by.battery),
        instead=instead,
        zone=event.zone,
    )


def _under_way(plan: ToFollow, start: PlannedMove, one: Followed) -> MoveNow:
    """A crew that left by the plan before, which the new one takes as arrived."""
    event = plan.event
    left = event.moment_of(one.left_min or 0.0)
    stations = problem_of_snapshot(plan.rotation.snapshot).stations
    arrive = left + timedelta(minutes=stations[start.station].walk_min)
    move = Move(
        leave=left,
        arrive=arrive,
        back=arrive,
        station=event.stations.get(pk=start.station),
        bring=plan.tags.get(UUID(start.battery), "?"),
        bring_back=None,
        crew="under way since before this plan",
        slack=None,
        battery=UUID(start.battery),
        is_spare=start.is_spare,
    )
    return _now(event, move, one, plan.tags)


def _moment(event: Event, minute: float | None) -> datetime | None:
    return None if minute is None else event.moment_of(minute)
