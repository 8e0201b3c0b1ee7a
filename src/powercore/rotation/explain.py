"""
Why a battery, and why now: a stay at a station against not making it.

Each answer is a replay of the rotation changed in one way: without the walk, or with
another battery on it. Nobody reacts otherwise, so a cost is the most it can be.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from powercore.event.problem import CARRIED, YARD, Leg, Problem, lives_of, visit_of
from powercore.rotation.change import exchanged, relieved, walk_to, without_rounds
from powercore.rotation.compare import Cost, Replayed


@dataclass(frozen=True, slots=True, kw_only=True)
class Why:
    """Why a battery serves a station from a minute on."""

    #: What it costs when nobody brings it; None: it can't be left out.
    skipped: Cost | None
    #: The best of the batteries that could go instead, and its cost.
    second: str | None
    second_cost: Cost | None
    #: How many could go instead, and why others can't.
    able: int
    refused: tuple[tuple[str, str], ...]
    #: What is taken away instead, and how full it is by then.
    relieved: str | None
    relieved_soc: float | None


def explain(problem: Problem, legs: Sequence[Leg], leg: Leg) -> Why:
    """
    Explain one stay at a station.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    leg : Leg
        One of its serving legs.
    """
    base = Replayed.of(problem, legs)
    before, skipped = walk_to(legs, leg), None
    if before is not None:
        alone = without_rounds(problem, legs, {before.round})
        skipped = Replayed.of(problem, alone).cost(base)
    able, refused = _others(problem, legs, leg, before)
    made = {battery: exchanged(legs, leg, battery) for battery in able}
    tried = {key: Replayed.of(problem, one) for key, one in made.items() if one}
    valid = {battery: one for battery, one in tried.items() if one.report.is_valid}
    second = min(valid, default=None, key=lambda battery: (valid[battery].key, battery))
    old = relieved(legs, leg)
    ends = base.report.outcome.leg_soc
    return Why(
        skipped=skipped,
        second=second,
        second_cost=valid[second].cost(base) if second else None,
        able=len(valid),
        refused=refused,
        relieved=old.battery if old else None,
        relieved_soc=ends[legs.index(old)][1] if old else None,
    )


def _others(
    problem: Problem, legs: Sequence[Leg], leg: Leg, before: Leg | None
) -> tuple[list[str], tuple[tuple[str, str], ...]]:
    """Batteries in the yard all the while that could go, and why others can't."""
    start = before.start_min if before is not None else leg.start_min
    own = lives_of(legs)[leg.battery]
    last = visit_of(own, leg)[-1].end_min
    home = next((one for one in own if one.start_min == last), None)
    end = home.end_min if home is not None and home.kind == CARRIED else last
    able, refused = [], []
    for one in legs:
        is_there = one.start_min <= start and end <= one.end_min
        if one.place != YARD or not is_there or one.battery == leg.battery:
            continue
        why = problem.feed(leg.place, one.battery).refusal
        if problem.batteries[one.battery].is_on_hold:
            why = "it is on hold"
        if why:
            refused.append((one.battery, why))
        else:
            able.append(one.battery)
    return able, tuple(refused)
