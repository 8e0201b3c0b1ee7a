"""
Why a battery, and why now: a stay at a station against not making it.

Each answer is a replay of the rotation changed in one way: without the walk, or with
another battery on it. Nobody reacts otherwise, so a cost is the most it can be.
"""

from __future__ import annotations

from collections.abc import Sequence, Set
from dataclasses import dataclass, replace

from powercore.rotation.objective import Key, key_of
from powercore.rotation.problem import CARRIED, SERVE, WAIT, YARD, Leg, Problem
from powercore.rotation.verify import Report, verify


@dataclass(frozen=True, slots=True, kw_only=True)
class Cost:
    """What a change costs: more minutes and watt-hours than without it."""

    off_air_min: float
    unserved_wh: float
    reserve_min: float
    #: Less slack than before, where nothing else is lost. [min]
    thin_min: float


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
    #: When what is there would fall to its reserve, and how full it is then.
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
    base = verify(problem, legs)
    before = next(
        (
            one
            for one in legs
            if one.battery == leg.battery and one.end_min == leg.start_min
        ),
        None,
    )
    skipped = None
    if before is not None and before.kind == CARRIED:
        skipped = _cost(
            problem, legs, base, without_rounds(problem, legs, {before.round})
        )
    able, refused = _others(problem, legs, leg, before)
    tried = []
    for battery in able:
        changed = _exchanged(legs, leg, battery)
        report = verify(problem, changed)
        if report.is_valid:
            tried.append((key_of(problem, changed, report.outcome), battery, changed))
    best = min(tried, default=None, key=_first)
    old = next(
        (
            number
            for number, one in enumerate(legs)
            if (one.kind, one.place, one.end_min) == (SERVE, leg.place, leg.start_min)
        ),
        None,
    )
    return Why(
        skipped=skipped,
        second=best[1] if best else None,
        second_cost=_cost(problem, legs, base, best[2]) if best else None,
        able=len(tried),
        refused=refused,
        relieved=legs[old].battery if old is not None else None,
        relieved_soc=base.outcome.leg_soc[old][1] if old is not None else None,
    )


def _first(tried: tuple[Key, str, list[Leg]]) -> tuple[Key, str]:
    return tried[0], tried[1]


def _cost(
    problem: Problem, legs: Sequence[Leg], base: Report, changed: Sequence[Leg]
) -> Cost:
    before, after = base.outcome, verify(problem, changed).outcome
    key, new = key_of(problem, legs, before), key_of(problem, changed, after)
    return Cost(
        off_air_min=after.total_min("off_air") - before.total_min("off_air"),
        unserved_wh=after.unserved_wh - before.unserved_wh,
        reserve_min=after.total_min("reserve") - before.total_min("reserve"),
        thin_min=new[-3] - key[-3],
    )


def _others(
    problem: Problem, legs: Sequence[Leg], leg: Leg, before: Leg | None
) -> tuple[list[str], tuple[tuple[str, str], ...]]:
    """Batteries in the yard all the while that could go, and why others can't."""
    start = before.start_min if before is not None else leg.start_min
    end = max(
        [leg.end_min]
        + [
            one.end_min
            for one in legs
            if one.battery == leg.battery
            and one.kind == CARRIED
            and one.start_min == leg.end_min
        ]
    )
    able, refused = [], []
    for one in legs:
        is_there = one.start_min <= start and end <= one.end_min
        if one.kind != WAIT or not is_there or one.battery == leg.battery:
            continue
        why = problem.feed(leg.place, one.battery).refusal
        if problem.batteries[one.battery].is_on_hold:
            why = "it is on hold"
        if why:
            refused.append((one.battery, why))
        else:
            able.append(one.battery)
    return able, tuple(refused)


def _exchanged(legs: Sequence[Leg], leg: Leg, other: str) -> list[Leg]:
    """The same rotation with another battery on one stay and its walks."""
    way = [
        one
        for one in legs
        if one.battery == leg.battery
        and (
            one == leg
            or (
                one.kind == CARRIED
                and (one.end_min == leg.start_min or one.start_min == leg.end_min)
            )
        )
    ]
    start, end = min(one.start_min for one in way), max(one.end_min for one in way)
    made = [one for one in legs if one not in way]
    waits = next(
        one
        for one in made
        if one.battery == other and one.start_min <= start and end <= one.end_min
    )
    made.remove(waits)
    made += [replace(one, battery=other) for one in way]
    if waits.start_min < start:
        made.append(replace(waits, end_min=start))
    if end < waits.end_min:
        made.append(replace(waits, start_min=end))
    made.append(
        Leg(kind=WAIT, battery=leg.battery, place=YARD, start_min=start, end_min=end)
    )
    return made


def without_rounds(
    problem: Problem, legs: Sequence[Leg], missed: Set[int | None]
) -> list[Leg]:
    """
    A rotation of which some rounds don't happen.

    The battery in place stays until the next walk that does, and what was to be
    brought stays in the yard.
    """
    lives: dict[str, list[Leg]] = {}
    for leg in sorted(legs, key=lambda leg: (leg.start_min, leg.end_min)):
        lives.setdefault(leg.battery, []).append(leg)
    stops = {
        (leg.place, minute)
        for life in lives.values()
        for number, leg in enumerate(life)
        if leg.kind == SERVE
        for minute, other in (
            (leg.start_min, life[number - 1] if number else None),
            (leg.end_min, life[number + 1] if number + 1 < len(life) else None),
        )
        if other is not None and other.kind == CARRIED and other.round in missed
    }
    coming: dict[str, list[int]] = {}
    for life in lives.values():
        for leg in life:
            if leg.kind == SERVE and (leg.place, leg.start_min) not in stops:
                coming.setdefault(leg.place, []).append(leg.start_min)
    made = []
    for life in lives.values():
        now, lost = 0, False
        for leg, following in zip(life, [*life[1:], None], strict=True):
            if (
                leg.kind == CARRIED
                and leg.round in missed
                and following
                and following.kind == SERVE
            ):
                lost = True  # never brought: it waits in the yard instead
            start, end = max(now, leg.start_min), leg.end_min
            if lost:
                leg = replace(leg, kind=WAIT, place=YARD, crew="", round=None)
            elif leg.kind == SERVE and (leg.place, leg.end_min) in stops:
                later = [m for m in coming.get(leg.place, []) if m >= leg.end_min]
                end = min(later, default=problem.span_min)
            if end > start:
                made.append(replace(leg, start_min=start, end_min=end))
                now = end
    return made
