"""What batteries do in a rotation: legs, lives, stops."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from powercore.event.plans import YARD

SERVE, CHARGE, CARRIED, WAIT = "serve", "charge", "carried", "wait"


@dataclass(frozen=True, slots=True, kw_only=True)
class Leg:
    """
    What one battery does between two whole minutes.

    `place` is a station's key for serving, a bay's for charging, and empty while
    carried. A battery waits in the yard, or at a station as a spare. A carried leg
    names its crew and its round: one walk that may bring one battery out and take
    another back.
    """

    kind: str
    battery: str
    place: str
    start_min: int
    end_min: int
    crew: str = ""
    round: int | None = None

    @property
    def station(self) -> str:
        """The station where it serves or waits as a spare; empty elsewhere."""
        is_there = self.kind == SERVE or (self.kind == WAIT and self.place != YARD)
        return self.place if is_there else ""


def lives_of(legs: Sequence[Leg]) -> dict[str, list[Leg]]:
    """Each battery's legs in order of time."""
    lives: dict[str, list[Leg]] = {}
    for leg in sorted(legs, key=lambda leg: (leg.start_min, leg.end_min)):
        lives.setdefault(leg.battery, []).append(leg)
    return lives


def visit_of(life: Sequence[Leg], leg: Leg) -> list[Leg]:
    """All that a battery does at a station around one of its legs there, in order."""
    first = last = life.index(leg)
    while first and life[first - 1].station == leg.station:
        first -= 1
    while last + 1 < len(life) and life[last + 1].station == leg.station:
        last += 1
    return list(life[first : last + 1])


@dataclass(frozen=True, slots=True)
class Stop:
    """A station and a minute at which a crew is there."""

    minute: int
    station: str
    crew: str
    round: int


def stops_of(legs: Sequence[Leg]) -> list[Stop]:
    """When crews are at stations, in order."""
    found = set()
    for life in lives_of(legs).values():
        for number, leg in enumerate(life):
            if leg.kind != CARRIED or leg.round is None:
                continue
            after = life[number + 1] if number + 1 < len(life) else None
            if after is not None and after.station:
                found.add(Stop(leg.end_min, after.station, leg.crew, leg.round))
            elif number and life[number - 1].station:
                place = life[number - 1].station
                found.add(Stop(leg.start_min, place, leg.crew, leg.round))
    return sorted(found, key=lambda stop: (stop.minute, stop.station))
