"""
Look for a better rotation than one at hand.

Passes of ruin and recreate over tours, each from the best table so far; after the
first pass, prices of places lead it. A small event is then closed by branch and
price. Whatever it finds is turned into legs and goes through the verifier before
anybody sees it, and counts as better only by the strict order of the objective. The
same seed and the same number of passes give the same rotation. For the worker: it
loads the compiled search and the solver.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from powercore.rotation import tours
from powercore.rotation.branch import close, is_small
from powercore.rotation.columns import Master, climb, descend
from powercore.rotation.objective import TAIL, Key, key_of, key_with_margin
from powercore.rotation.pins import kept
from powercore.rotation.problem import Leg, Problem
from powercore.rotation.rounds import grouped
from powercore.rotation.timetable import (
    PATIENCE,
    IntArray,
    NoCrewLeft,
    Prices,
    Timetable,
    keeping,
    legs_of,
    places_of,
    timetable,
)
from powercore.rotation.verify import Report, verify
from powercore.values import FloatArray

#: Buckets of charge in a pass, and most batteries taken out at once.
BUCKETS, MOST = 24, 4
#: How much worse a pass may go for a while, pass by pass: as shares of all worth, and
#: in stops of walks where everything is served already.
HEATS, CALM = (0.0005, 0.002, 0.006, 0.001), (1.0, 4.0, 12.0, 2.0)
#: Cells of one shortest path, over all rounds of a pass.
PASS_CELLS = 5e7
#: Passes grow longer, up to this many times the first.
LONGEST = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """A rotation that breaks no rule, and what it is compared by."""

    legs: tuple[Leg, ...]
    report: Report
    key: Key


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """How far a search is."""

    passes: int
    #: Passes since the last gain; it stops by itself at PATIENCE.
    since: int
    best: Found


def improve(
    problem: Problem,
    legs: Sequence[Leg],
    *,
    seed: int = 1,
    passes: int = 60,
    step_min: int = 30,
    keep_until_min: int = 0,
    prices: Prices | None = None,
    margin: float = 1.0,
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
    seed, passes : int
        Equal ones give equal rotations.
    step_min : int
        How far apart the search's own times for moves are. [min]
    keep_until_min : int
        Nothing that happens before is changed, nor a walk that is under way. [min]
    prices : Prices
        What leads the search; the objective's order decides all the same.
    margin : float
        From a second round of passes on, the rotation should also stand so many times
        the use, as far as nothing as planned is lost by that.
    tell : callable
        Told after each pass; False stops the search.

    Raises
    ------
    powercore.rotation.pins.PinRefused
        If a pin can't be kept.
    """
    legs = kept(problem, legs, keep_until_min=keep_until_min)
    best = _found(problem, problem, legs)
    assert best is not None  # noqa: S101 - what is kept breaks no rule
    if not problem.stations or not problem.batteries:
        return best
    asked, done = [problem], 0
    if margin > 1:
        asked.append(Problem(problem.scenario, use=margin))
    for more in asked:
        if more is not problem:
            best = _found(problem, more, best.legs) or best
        edges = [m for leg in best.legs for m in (leg.start_min, leg.end_min)]
        edges.append(keep_until_min)
        table = timetable(more, step_min=step_min, prices=prices, also=edges)
        at = places_of(table, best.legs)
        table = keeping(table, at, keep_until_min)
        since, got = 0, at
        for got, is_gain in refine(table, at, seed=seed, passes=passes):
            since, done = since + 1, done + 1
            found = None
            if is_gain:
                found = _checked(problem, more, table, got, keep_until_min)
            if found is not None and found.key < best.key:
                since = 0 if found.key[:-TAIL] < best.key[:-TAIL] else since
                best = found
            if not tell(Progress(passes=done, since=since, best=best)):
                return best
            if since >= PATIENCE:
                break
        if more is problem and passes >= PATIENCE and is_small(table):
            so_far, is_stopped = Progress(passes=done, since=since, best=best), False

            def go_on(*_: float, now: Progress = so_far) -> bool:
                nonlocal is_stopped
                is_stopped = not tell(now)
                return not is_stopped

            closed = close(table, got, go_on=go_on)
            found = _checked(problem, more, table, closed.at, keep_until_min)
            if found is not None and found.key < best.key:
                best = found
                is_stopped |= not tell(Progress(passes=done, since=0, best=best))
            if is_stopped:
                return best
    return best


def refine(
    table: Timetable, at: IntArray, *, seed: int, passes: int
) -> Iterator[tuple[IntArray, bool]]:
    """
    Improve a table by what its prices say, pass by pass.

    Prices of places are worked out where something is not served.

    Yields
    ------
    at, is_gain
        The best table so far, and whether this pass gained.
    """
    arrays, rents, rounds = tours.arrays_of(table), _no_rents(table), _rounds(table)
    value, is_short = -np.inf, _is_short(table, arrays, at)
    for number in range(passes):
        heat = HEATS[number % len(HEATS)]
        if not is_short:
            stops = CALM[number % len(CALM)] * table.stop_price
            heat = stops / max(float(table.worth.sum()), 1e-9)
        got, worth = tours.search(
            arrays,
            at,
            rents,
            rounds * min(1 + number, LONGEST),
            seed + number,
            heat,
            BUCKETS,
            MOST,
        )
        is_gain = worth > value + 1e-6
        if is_gain:
            at, value = got, worth
            is_short = _is_short(table, arrays, at)
        yield at, is_gain
        if number == 0 and is_short:
            rents = _rents(table, at, value)


def _is_short(table: Timetable, arrays: tours.Arrays, at: IntArray) -> bool:
    """Whether a table leaves anything unserved."""
    share = tours.laid(at, arrays).share
    served = np.zeros_like(table.need_wh)
    batteries, cells = np.nonzero((at > 0) & (at <= len(table.stations)))
    served[at[batteries, cells] - 1, cells] = share[batteries, cells]
    return bool(np.any(served[table.need_wh > 0] < 1.0 - 1e-6))


def _rounds(table: Timetable) -> int:
    cells = table.count * table.places * BUCKETS
    return int(np.clip(PASS_CELLS / cells, 100, 5000))


def _checked(
    problem: Problem,
    more: Problem,
    table: Timetable,
    at: IntArray,
    keep_until_min: int,
) -> Found | None:
    """A table as a rotation; None when it can't be carried out after all."""
    try:
        legs = legs_of(table, at)
    except NoCrewLeft:
        return None
    legs = grouped(problem, legs, keep_until_min=keep_until_min)
    return _found(problem, more, legs)


def _found(problem: Problem, more: Problem, legs: tuple[Leg, ...]) -> Found | None:
    """A rotation with what it is compared by; None when it breaks a rule."""
    report = verify(problem, legs)
    if not report.is_valid:
        return None
    key = key_of(problem, legs, report.outcome)
    if more is not problem:
        losses = verify(more, legs).outcome
        key = key_with_margin(problem, legs, report.outcome, losses)
    return Found(legs=legs, report=report, key=key)


def _no_rents(table: Timetable) -> tuple[FloatArray, FloatArray]:
    return np.zeros_like(table.worth), np.zeros((len(table.bays), table.count))


def _rents(
    table: Timetable, at: IntArray, value: float
) -> tuple[FloatArray, FloatArray]:
    """What being at a station and on a bay is worth to all others."""
    master = Master(table, buckets=BUCKETS)
    for battery, row in enumerate(at):
        master.add(battery, row)
    effort = PASS_CELLS / (table.count * len(at) * BUCKETS)
    rounds = int(np.clip(effort, 5, 25))
    prices = descend(master, climb(master, value), rounds=rounds)
    return (
        prices[master.at_station : master.at_bay].reshape(table.worth.shape),
        prices[master.at_bay : master.at_come].reshape(-1, table.count),
    )
