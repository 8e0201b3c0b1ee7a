"""
Look for a better rotation than one at hand.

Passes of ruin and recreate over tours, each from the best table so far; after the
first pass, prices of places lead it. A small event is then closed by branch and
price; at last walks are given rounder times. Whatever it finds is turned into legs
and goes through the verifier before anybody sees it, and counts as better only by the
strict order of the objective. The same seed and the same number of passes give the
same rotation. For the worker: it loads the compiled search and the solver.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from powercore.event.problem import CARRIED, CHARGE, SERVE, Leg, Problem
from powercore.rotation.objective import TAIL
from powercore.rotation.polish.rounds import mended
from powercore.rotation.proof.branch import close, is_small
from powercore.rotation.search.judge import Found, Judge, Risk
from powercore.rotation.search.passes import refine
from powercore.rotation.timetable import (
    PATIENCE,
    Prices,
    Timetable,
    keeping,
    places_of,
    timetable,
)
from powercore.values import IntArray

#: How many times as many points a rotation's own times make as regular ones do, for
#: passes to begin with those. [ratio]
ROUGH = 1.2
#: How much use each round of passes plans for, where futures say what is better.
USES = (1.0, 1.2, 1.35)


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """How far a search is."""

    passes: int
    #: Passes since the last gain; it stops by itself at PATIENCE.
    since: int
    best: Found
    #: What the stations of the rotation it began with risk. [min]
    risk_start_min: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Aim:
    """What a search is to look for, and how long."""

    #: Equal ones, with as many passes, give equal rotations.
    seed: int = 1
    #: Passes of a round, at the most; with few passes none is spent on a rough
    #: beginning or on closing a small event.
    passes: int = 60
    #: How far apart the search's own times for moves are. [min]
    step_min: int = 30
    #: Nothing that happens before is changed, nor a walk that is under way. [min]
    keep_until_min: int = 0
    #: What leads the search; the objective's order decides all the same.
    prices: Prices | None = None
    #: From a second round of passes on, the rotation should also stand so many times
    #: the use, as far as nothing as planned is lost by that.
    margin: float = 1.0
    #: Whether it may choose low power for stations, where that keeps one of the same
    #: tier or below on the air; else its steps stay as they are.
    may_lower: bool = False
    #: What stations risk in futures. Rounds of passes plan for use as planned, then
    #: for more, and what they find is compared by that once service as planned is
    #: equal; then `margin` says nothing.
    risk: Risk | None = None


def improve(
    problem: Problem,
    legs: Sequence[Leg],
    aim: Aim | None = None,
    *,
    tell: Callable[[Progress], bool] = lambda _: True,
) -> Found:
    """
    Return the best rotation found, never worse than the one given if it is valid.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule but, it may be, pins.
    aim : Aim
        What to look for.
    tell : callable
        Told after each pass; False stops the search.

    Raises
    ------
    powercore.rotation.pins.PinRefused
        If a pin can't be kept.
    """
    return _Search(problem, legs, aim or Aim(), tell).run()


class _Search:
    """One search: the best so far, and how far it is."""

    def __init__(
        self,
        problem: Problem,
        legs: Sequence[Leg],
        aim: Aim,
        tell: Callable[[Progress], bool],
    ) -> None:
        self.problem, self.aim, self._tell = problem, aim, tell
        until = aim.keep_until_min
        self.judge = Judge(problem, risk=aim.risk, keep_until_min=until)
        legs = mended(problem, legs, keep_until_min=until)
        best = self.judge.found(legs, problem.scenario.steps)
        assert best is not None  # noqa: S101 - what is kept breaks no rule
        self.best = best
        self.now = Progress(passes=0, since=0, best=best, risk_start_min=best.risk_min)

    def run(self) -> Found:
        """Round by round, each for its use; rounder times at last."""
        if not self.problem.stations or not self.problem.batteries:
            return self.best
        for number, asked in enumerate(self._rounds()):
            if number and self.aim.risk is None:
                self._judge_with_margin()
            if not self._round(asked, is_first=number == 0):
                return self.best
        rounder = self.judge.at_rounder_times(self.best)
        if rounder is not self.best:
            self._go_on(best=rounder)
        return self.best

    def _rounds(self) -> list[Problem]:
        """The event as each round of passes plans for it."""
        aim = self.aim
        # What it may lower is laid out as agreed, and lowered where a battery says so.
        base = self.problem.with_steps(()) if aim.may_lower else self.problem
        more = USES[1:] if aim.risk is not None else (aim.margin,)
        uses = [use for use in more if use > 1]
        return [base, *(Problem(base.scenario, use=use) for use in uses)]

    def _judge_with_margin(self) -> None:
        aim = self.aim
        until = aim.keep_until_min
        self.judge = Judge(self.problem, use=aim.margin, keep_until_min=until)
        best = self.judge.found(self.best.legs, self.best.steps)
        self.best = best or self.best

    def _round(self, asked: Problem, *, is_first: bool) -> bool:
        """Passes roughly, then finely, then a small event closed; False: stop."""
        is_long = is_first and self.aim.passes >= PATIENCE
        if is_long:
            table, at = _ground(asked, self.aim, self.best, is_rough=True)
            fine, _ = _ground(asked, self.aim, self.best)
            if _is_begin(table, at, fine) and self._passes(table, at) is None:
                return False
        table, at = _ground(asked, self.aim, self.best)
        got = self._passes(table, at)
        if got is None:
            return False
        return not (is_long and is_small(table)) or self._close(table, got)

    def _passes(self, table: Timetable, at: IntArray) -> IntArray | None:
        """Passes until there is no more gain; the last table, or None to stop."""
        since, got = 0, at
        aim = self.aim
        for got, is_gain in refine(table, at, seed=aim.seed, passes=aim.passes):
            since += 1
            found = self.judge.checked(table, got, self.best) if is_gain else None
            if found is not None and found.key < self.best.key:
                since = 0 if found.key[:-TAIL] < self.best.key[:-TAIL] else since
                self.best = found
            if not self._go_on(passes=self.now.passes + 1, since=since):
                return None
            if since >= PATIENCE:
                break
        return got

    def _close(self, table: Timetable, at: IntArray) -> bool:
        """Close a small event by branch and price; False: stop."""
        is_told_on = True

        def go_on(*_: float) -> bool:
            nonlocal is_told_on
            is_told_on = self._tell(self.now)
            return is_told_on

        closed = close(table, at, go_on=go_on)
        found = self.judge.checked(table, closed.at, self.best)
        if found is not None and found.key < self.best.key:
            is_told_on = self._go_on(since=0, best=found) and is_told_on
        return is_told_on

    def _go_on(self, *, best: Found | None = None, **how_far: int) -> bool:
        """Tell how far it is, with the best so far; whether to go on."""
        self.best = best or self.best
        self.now = replace(self.now, best=self.best, **how_far)
        return self._tell(self.now)


def _ground(
    problem: Problem, aim: Aim, best: Found, *, is_rough: bool = False
) -> tuple[Timetable, IntArray]:
    """
    What passes work on: a timetable with a rotation's own times, and that rotation.

    Roughly, its times are regular from a minute on, and nothing is planned after.
    """
    keep_until_min = aim.keep_until_min
    legs, steps = best.legs, best.steps
    if is_rough:
        until = _all_back(legs, keep_until_min)
        legs = _stay(legs, until, problem.span_min)
        steps = tuple(step for step in steps if step.start_min < until)
    bars = [leg for leg in legs if leg.kind in (SERVE, CHARGE) or leg.station]
    edges = [m for leg in bars for m in (leg.start_min, leg.end_min)]
    edges += [m for step in steps for m in (step.start_min, step.end_min)]
    edges.append(keep_until_min)
    table = timetable(
        problem,
        step_min=aim.step_min,
        prices=aim.prices,
        extra=edges,
        may_lower=aim.may_lower,
    )
    at = places_of(table, legs, steps)
    is_new = ~np.isin(table.batteries, [leg.battery for leg in legs])
    at[is_new] = table.start_at[is_new, None]
    return keeping(table, at, keep_until_min), at


def _all_back(legs: Sequence[Leg], minute: int) -> int:
    """The first minute from one on when nobody is on a walk that began before it."""
    ways = sorted((x.start_min, x.end_min) for x in legs if x.kind == CARRIED)
    for start, end in ways:
        if start < minute or start == 0:
            minute = max(minute, end)
    return minute


def _stay(legs: Sequence[Leg], minute: int, end_min: int) -> tuple[Leg, ...]:
    """Legs that begin before a minute; what goes on then stays to the end."""
    return tuple(
        replace(leg, end_min=end_min) if leg.end_min >= minute else leg
        for leg in legs
        if leg.start_min < minute
    )


def _is_begin(rough: Timetable, at: IntArray, fine: Timetable) -> bool:
    """Whether passes may begin with so little: by pins, and much faster than finely."""
    batteries, points = np.nonzero(at >= 0)
    may_stay = rough.may[batteries, at[batteries, points], points].all()
    return bool(may_stay) and rough.count * ROUGH < fine.count
