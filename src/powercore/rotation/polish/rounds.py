"""
Make one round of walks to several stations, where nothing is lost by it.

Two rounds that lie close together are tried as one: the crew goes on from the first
station to the second instead of home, and one of the two stops is moved as far as
that takes. A round is kept only where the rotation is better by the strict order of
the objective, which counts rounds last but bay changes. The search knows walks to one
station only; this comes after it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from powercore.event.problem import CARRIED, Leg, Problem, Stop, lives_of, stops_of
from powercore.rotation.change import CannotChange, retimed
from powercore.rotation.compare import key_if_valid
from powercore.rotation.objective import Key
from powercore.rotation.pins import repaired

#: Stops are moved at most so far to make one round of two. [min]
NEAR_MIN = 60
#: Rotations replayed at the most, and legs in all of them together: on a huge event
#: a replay takes long.
TRIES, LEGS = 60, 20_000


def grouped(
    problem: Problem, legs: Sequence[Leg], *, keep_until_min: int = 0
) -> tuple[Leg, ...]:
    """
    Return a rotation with fewer rounds, or the one given.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    keep_until_min : int
        Rounds that leave before are left alone. [min]
    """
    best, key = tuple(legs), key_if_valid(problem, legs)
    tried, is_gain = 0, key is not None
    tries = min(TRIES, LEGS // max(1, len(best)))
    refused: set[tuple[Stop, Stop]] = set()
    while is_gain and tried < tries:
        is_gain = False
        for pair in _pairs(problem, best, keep_until_min):
            if pair in refused or tried >= tries:
                continue
            tried += 1
            made = _together(problem, best, *pair, keep_until_min)
            if made is not None and key is not None and made[0] < key:
                key, best = made
                is_gain = True
                break
            refused.add(pair)
    return best


def mended(
    problem: Problem, legs: Sequence[Leg], *, keep_until_min: int = 0
) -> tuple[Leg, ...]:
    """
    Return a rotation that keeps all pins, its walks joined anew where it was changed.

    As `powercore.rotation.pins.kept`, which takes rounds to several stations apart.
    """
    made = repaired(problem, legs, keep_until_min=keep_until_min)
    if made == tuple(legs):
        return made
    return grouped(problem, made, keep_until_min=keep_until_min)


def _leaves(problem: Problem, stop: Stop) -> int:
    """When a round leaves whose first stop this is. [min]"""
    return stop.minute - problem.stations[stop.station].walk_min


def _pairs(
    problem: Problem, legs: Sequence[Leg], keep_until_min: int
) -> Iterator[tuple[Stop, Stop]]:
    """Last stop of one round and first of another, closest first."""
    rounds: dict[tuple[str, int], list[Stop]] = {}
    for stop in stops_of(legs):
        rounds.setdefault((stop.crew, stop.round), []).append(stop)
    rounds = {
        one: stops
        for one, stops in rounds.items()
        if _leaves(problem, stops[0]) >= keep_until_min
    }
    near = []
    for one, stops in rounds.items():
        for other, more in rounds.items():
            last, first = stops[-1], more[0]
            if one == other or last.station in {stop.station for stop in more}:
                continue
            way = problem.between_min(last.station, first.station)
            off = abs(first.minute - last.minute - way)
            if off <= NEAR_MIN:
                near.append((off, last.minute, last, first))
    near.sort(key=lambda found: (found[0], found[1], found[2].station))
    for _, _, last, first in near:
        yield last, first


def _together(
    problem: Problem,
    legs: Sequence[Leg],
    last: Stop,
    first: Stop,
    keep_until_min: int,
) -> tuple[Key, tuple[Leg, ...]] | None:
    """Two rounds as one, and what it is compared by: either stop may be moved."""
    way = problem.between_min(last.station, first.station)
    by = last.minute + way - first.minute
    found: list[tuple[Key, tuple[Leg, ...]]] = []
    moves = ((first, by), (last, -by)) if by else ((first, 0),)
    for stop, minutes in moves:
        if _leaves(problem, stop) + minutes < keep_until_min:
            continue
        try:
            made = _moved(legs, stop, minutes)
        except CannotChange:
            continue
        joined = _joined(problem, made, last, first)
        key = key_if_valid(problem, joined)
        if key is not None:
            found.append((key, joined))
    return min(found, key=lambda one: one[0], default=None)


def _moved(legs: Sequence[Leg], stop: Stop, minutes: int) -> list[Leg]:
    if minutes == 0:
        return list(legs)
    lives = lives_of(legs).values()
    return [
        leg
        for life in lives
        for leg in retimed(life, stop.station, stop.minute, minutes)
    ]


def _joined(
    problem: Problem, legs: Sequence[Leg], last: Stop, first: Stop
) -> tuple[Leg, ...]:
    """Give both rounds' walks the first crew, from its leaving to its return."""
    both = {(last.crew, last.round), (first.crew, first.round)}
    stops = [stop for stop in stops_of(legs) if (stop.crew, stop.round) in both]
    leave = _leaves(problem, stops[0])
    back = stops[-1].minute + problem.stations[stops[-1].station].walk_min
    made: list[Leg] = []
    for life in lives_of(legs).values():
        own = list(life)
        for number, leg in enumerate(life):
            if leg.kind != CARRIED or (leg.crew, leg.round) not in both:
                continue
            leg = replace(leg, crew=last.crew, round=last.round)
            after = number + 1 < len(life) and life[number + 1].station
            # What is brought leaves with the crew, what is taken comes home with it.
            if after:
                leg = replace(leg, start_min=leave)
                if number:
                    own[number - 1] = replace(own[number - 1], end_min=leave)
            else:
                leg = replace(leg, end_min=min(back, problem.span_min))
                if number + 1 < len(life):
                    own[number + 1] = replace(own[number + 1], start_min=leg.end_min)
            own[number] = leg
        made += [leg for leg in own if leg.end_min > leg.start_min]
    return tuple(made)
