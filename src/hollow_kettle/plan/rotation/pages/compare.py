"""Two rotations of an event against each other."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from hollow_kettle.plan.models import Event, Rotation
from hollow_kettle.plan.rotation.moves import Move, moves_of
from hollow_kettle.plan.rotation.queries import figures_of, tags_of

from .board import LOWER, UPPER, board_of, make_room
from .lanes import Board


@dataclass(frozen=True, slots=True)
class Side:
    """One of the two."""

    rotation: Rotation
    board: Board
    #: Moves that the other hasn't.
    only: list[Move]


@dataclass(frozen=True, slots=True)
class ComparePage:
    """Both, figure by figure, station by station, move by move."""

    one: Side
    other: Side
    figures: list[tuple[str, float, float]]
    #: Minutes off the air of stations that have any.
    stations: list[tuple[str, float, float]]
    same_moves: int

    @property
    def sides(self) -> tuple[Side, Side]:
        """Both in order."""
        return self.one, self.other


def compare_page(event: Event, one: Rotation, other: Rotation) -> ComparePage:
    """Lay two rotations out against each other."""
    every = [moves_of(event, rotation, tags_of(rotation)) for rotation in (one, other)]
    known = [Counter(move.key for move in found) for found in every]
    now = event.clock.now() if event.state == Event.State.RUNNING else None
    sides = [
        Side(
            rotation,
            board_of(event, rotation, now, shape=shape),
            [move for move in found if move.key not in theirs],
        )
        for rotation, found, theirs, shape in zip(
            (one, other), every, reversed(known), (UPPER, LOWER), strict=True
        )
    ]
    stations = [
        (upper.name, upper.off_air_min, lower.off_air_min)
        for upper, lower in zip(sides[0].board.lanes, sides[1].board.lanes, strict=True)
    ]
    # Words below one lane's lower bars and above the next one's share a row.
    for lower, upper in zip(
        sides[1].board.lanes, sides[0].board.lanes[1:], strict=False
    ):
        make_room([*lower.marks, *upper.marks])
    return ComparePage(
        one=sides[0],
        other=sides[1],
        figures=figures_of(one, other),
        stations=[row for row in stations if max(row[1], row[2]) >= 0.5],
        same_moves=sum((known[0] & known[1]).values()),
    )
