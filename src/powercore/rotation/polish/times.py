"""
Give walks times that people keep in mind, where nothing is lost by it.

A search walks when it is best to the minute, or at its own points. Full hours and
changes of shift are remembered without a look at the sheet, so each round is tried at
rounder times near its own, and moved where the rotation is better by the strict order
of the objective: no service, slack, walk or bay change is given for it.
"""

from __future__ import annotations

from collections.abc import Sequence

from powercore.event.problem import Leg, Problem, Stop, lives_of, stops_of
from powercore.rotation.change import CannotChange, retimed
from powercore.rotation.compare import key_if_valid
from powercore.rotation.objective import edges_of_duty, oddness

#: A round is moved at most so far. [min]
NEAR_MIN = 30
#: Rotations replayed at the most, and legs in all of them together.
TRIES, LEGS = 80, 10_000


def with_rounder_times(
    problem: Problem, legs: Sequence[Leg], *, keep_until_min: int = 0
) -> tuple[Leg, ...]:
    """
    Return a rotation whose rounds are at rounder times, or the one given.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    keep_until_min : int
        Rounds that leave before, or would, are left alone. [min]
    """
    best, key = tuple(legs), key_if_valid(problem, legs)
    tries = min(TRIES, LEGS // max(1, len(best)))
    if key is None:
        return best
    edges = edges_of_duty(problem)
    for stops in _rounds(best):
        for minutes in _rounder(problem, stops[0], edges):
            leaves = stops[0].minute - problem.stations[stops[0].station].walk_min
            if tries == 0 or leaves + min(0, minutes) < keep_until_min:
                continue
            tries -= 1
            try:
                made = _moved(best, stops, minutes)
            except CannotChange:
                continue
            found = key_if_valid(problem, made)
            if found is not None and found < key:
                best, key = made, found
                break
    return best


def _rounds(legs: Sequence[Leg]) -> list[list[Stop]]:
    """The stops of each round, in order."""
    rounds: dict[tuple[str, int], list[Stop]] = {}
    for stop in stops_of(legs):
        rounds.setdefault((stop.crew, stop.round), []).append(stop)
    return list(rounds.values())


def _rounder(problem: Problem, stop: Stop, edges: set[int]) -> list[int]:
    """By how many minutes a stop may be moved to be rounder; the roundest first."""
    nearest: dict[tuple[int, bool], int] = {}
    for by in sorted(range(-NEAR_MIN, NEAR_MIN + 1), key=abs):
        minute = stop.minute + by
        if 0 < minute < problem.span_min:
            odd = oddness(problem, stop.station, minute, edges)
            nearest.setdefault((odd, by > 0), by)
    own = oddness(problem, stop.station, stop.minute, edges)
    ranked = sorted((odd, abs(by), by) for (odd, _), by in nearest.items())
    return [by for odd, _, by in ranked if odd < own]


def _moved(legs: Sequence[Leg], stops: Sequence[Stop], minutes: int) -> tuple[Leg, ...]:
    """All stops of a round so many minutes later."""
    made = list(legs)
    # Those that go last make room for the others, or first when it goes earlier.
    for stop in stops if minutes < 0 else reversed(stops):
        lives = lives_of(made).values()
        made = [
            leg
            for life in lives
            for leg in retimed(life, stop.station, stop.minute, minutes)
        ]
    return tuple(made)
