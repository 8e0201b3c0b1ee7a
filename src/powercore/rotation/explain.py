"""
Why a battery, and why now: a stay at a station against not making it.

Each answer is a replay of the rotation changed in one way: without the walk, or with
another battery on it. Nobody reacts otherwise, so a cost is the most it can be.
"""

from __future__ import annotations

from collections.abc import Sequence, Set
from dataclasses import dataclass, replace

from powercore.rotation.objective import Key, key_of, thin_min
from powercore.rotation.problem import (
    CARRIED,
    SERVE,
    WAIT,
    YARD,
    Leg,
    Problem,
    lives_of,
)
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
    base = _Tried.of(problem, legs)
    own = lives_of(legs)[leg.battery]
    before = next((one for one in own if one.end_min == leg.start_min), None)
    skipped = None
    if before is not None and before.kind == CARRIED:
        alone = without_rounds(problem, legs, {before.round})
        skipped = _Tried.of(problem, alone).cost(base)
    able, refused = _others(problem, legs, leg, before)
    tried = {
        battery: _Tried.of(problem, _exchanged(legs, leg, battery)) for battery in able
    }
    valid = {battery: one for battery, one in tried.items() if one.report.is_valid}
    second = min(valid, default=None, key=lambda battery: (valid[battery].key, battery))
    relieved = [
        (one.battery, soc)
        for one, (_, soc) in zip(legs, base.report.outcome.leg_soc, strict=True)
        if (one.kind, one.place, one.end_min) == (SERVE, leg.place, leg.start_min)
    ]
    return Why(
        skipped=skipped,
        second=second,
        second_cost=valid[second].cost(base) if second else None,
        able=len(valid),
        refused=refused,
        relieved=relieved[0][0] if relieved else None,
        relieved_soc=relieved[0][1] if relieved else None,
    )


@dataclass(frozen=True, slots=True)
class _Tried:
    """A rotation, replayed."""

    report: Report
    key: Key
    thin_min: float

    @classmethod
    def of(cls, problem: Problem, legs: Sequence[Leg]) -> _Tried:
        """Replay a rotation, whether it breaks a rule or not."""
        report = verify(problem, legs)
        outcome = report.outcome
        return cls(
            report,
            key_of(problem, legs, outcome),
            float(round(thin_min(problem, legs, outcome))),
        )

    def cost(self, base: _Tried) -> Cost:
        """What it costs against another."""
        before, after = base.report.outcome, self.report.outcome
        return Cost(
            off_air_min=after.total_min("off_air") - before.total_min("off_air"),
            unserved_wh=after.unserved_wh - before.unserved_wh,
            reserve_min=after.total_min("reserve") - before.total_min("reserve"),
            thin_min=self.thin_min - base.thin_min,
        )


def _others(
    problem: Problem, legs: Sequence[Leg], leg: Leg, before: Leg | None
) -> tuple[list[str], tuple[tuple[str, str], ...]]:
    """Batteries in the yard all the while that could go, and why others can't."""
    start = before.start_min if before is not None else leg.start_min
    own = lives_of(legs)[leg.battery]
    home = next((one for one in own if one.start_min == leg.end_min), None)
    end = home.end_min if home is not None and home.kind == CARRIED else leg.end_min
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
    lives = lives_of(legs)
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
