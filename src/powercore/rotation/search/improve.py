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

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from powercore.event.problem import CARRIED, CHARGE, SERVE, Leg, Problem
from powercore.event.scenario import Pin
from powercore.rotation import tours
from powercore.rotation.objective import (
    TAIL,
    Key,
    key_of,
    key_with_margin,
    key_with_risk,
)
from powercore.rotation.polish.rounds import grouped, mended
from powercore.rotation.polish.swaps import with_fewer_swaps
from powercore.rotation.polish.times import with_rounder_times
from powercore.rotation.proof.branch import close, is_small
from powercore.rotation.proof.columns import WH_PRICES, Master, climb, descend
from powercore.rotation.timetable import (
    PATIENCE,
    IntArray,
    NoCrewLeft,
    Prices,
    Timetable,
    keeping,
    legs_of,
    places_of,
    steps_of,
    timetable,
)
from powercore.rotation.verify import Report, verify
from powercore.values import FloatArray

#: Buckets of charge in a pass; most batteries taken out at once while something is not
#: served, pass by pass, and once all is.
BUCKETS, MOST, MOST_CALM = 24, (3, 2), 3
#: How much worse a pass may go for a while, pass by pass: as shares of what serving a
#: station is worth, and in stops of walks where everything is served already.
HEATS, CALM = (0.0005, 0.002, 0.006, 0.001), (1.0, 4.0, 12.0, 2.0)
#: Cells of one shortest path, over all rounds of a pass.
PASS_CELLS = 5e7
#: How many times as many points a rotation's own times make as regular ones do, for
#: passes to begin with those. [ratio]
ROUGH = 1.2
#: Cells of all batteries' shortest paths up to which prices of places get full effort.
RENTS_CELLS = 2e6
#: How much use each round of passes plans for, where futures say what is better.
USES = (1.0, 1.2, 1.35)
#: What each station risks in many futures; see `powercore.futures.stress.risk`.
Risk = Callable[[Problem, Sequence[Leg]], dict[str, float]]
#: Passes grow longer, up to this many times the first.
LONGEST = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """A rotation that breaks no rule, and what it is compared by."""

    legs: tuple[Leg, ...]
    #: When it has stations on low power by its own choice.
    steps: tuple[Pin, ...]
    report: Report
    key: Key
    #: What all its stations risk, where futures say what is better. [min]
    risk_min: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """How far a search is."""

    passes: int
    #: Passes since the last gain; it stops by itself at PATIENCE.
    since: int
    best: Found
    #: What the stations of the rotation it began with risk. [min]
    risk_start_min: float | None = None


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
    may_lower: bool = False,
    risk: Risk | None = None,
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
        Equal ones give equal rotations. With few passes none is spent on a rough
        beginning or on closing a small event.
    step_min : int
        How far apart the search's own times for moves are. [min]
    keep_until_min : int
        Nothing that happens before is changed, nor a walk that is under way. [min]
    prices : Prices
        What leads the search; the objective's order decides all the same.
    margin : float
        From a second round of passes on, the rotation should also stand so many times
        the use, as far as nothing as planned is lost by that.
    may_lower : bool
        Whether it may choose low power for stations, where that keeps one of the same
        tier or below on the air; else its steps stay as they are.
    risk : callable
        What stations risk in futures. Rounds of passes plan for use as planned, then
        for more, and what they find is compared by that once service as planned is
        equal; then `margin` says nothing.
    tell : callable
        Told after each pass; False stops the search.

    Raises
    ------
    powercore.rotation.pins.PinRefused
        If a pin can't be kept.
    """
    legs = mended(problem, legs, keep_until_min=keep_until_min)
    judge = _Judge(problem, risk=risk, keep_until_min=keep_until_min)
    best = judge.found(legs, problem.scenario.steps)
    assert best is not None  # noqa: S101 - what is kept breaks no rule
    if not problem.stations or not problem.batteries:
        return best
    began = best.risk_min
    now = Progress(passes=0, since=0, best=best, risk_start_min=began)
    # What it may lower is laid out as agreed, and lowered where a battery says so.
    base = problem.with_steps(()) if may_lower else problem
    uses = USES if risk is not None else (1.0, margin) if margin > 1 else (1.0,)
    asked, done = [base, *(Problem(base.scenario, use=use) for use in uses[1:])], 0
    for more in asked:
        if more is not base and risk is None:
            judge = _Judge(problem, use=margin, keep_until_min=keep_until_min)
            best = judge.found(best.legs, best.steps) or best
        ground = partial(
            _ground, more, keep_until_min, step_min, prices=prices, may_lower=may_lower
        )
        is_long = more is base and passes >= PATIENCE
        for is_rough in (True, False) if is_long else (False,):
            table, at = ground(best, is_rough=is_rough)
            if is_rough and not _is_begin(table, at, ground(best)[0]):
                continue
            since, got = 0, at
            for got, is_gain in refine(table, at, seed=seed, passes=passes):
                since, done = since + 1, done + 1
                found = judge.checked(table, got, best) if is_gain else None
                if found is not None and found.key < best.key:
                    since = 0 if found.key[:-TAIL] < best.key[:-TAIL] else since
                    best = found
                now = Progress(
                    passes=done, since=since, best=best, risk_start_min=began
                )
                if not tell(now):
                    return best
                if since >= PATIENCE:
                    break
        if is_long and is_small(table):
            is_stopped = False

            def go_on(*_: float, now: Progress = now) -> bool:
                nonlocal is_stopped
                is_stopped = not tell(now)
                return not is_stopped

            closed = close(table, got, go_on=go_on)
            found = judge.checked(table, closed.at, best)
            if found is not None and found.key < best.key:
                best = found
                is_stopped |= not tell(replace(now, since=0, best=best))
            if is_stopped:
                return best
    rounder = judge.at_rounder_times(best)
    if rounder is not best:
        best = rounder
        tell(replace(now, best=best))
    return best


def _ground(
    problem: Problem,
    keep_until_min: int,
    step_min: int,
    best: Found,
    *,
    prices: Prices | None,
    may_lower: bool,
    is_rough: bool = False,
) -> tuple[Timetable, IntArray]:
    """
    What passes work on: a timetable with a rotation's own times, and that rotation.

    Roughly, its times are regular from a minute on, and nothing is planned after.
    """
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
        problem, step_min=step_min, prices=prices, also=edges, may_lower=may_lower
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


def refine(
    table: Timetable, at: IntArray, *, seed: int, passes: int
) -> Iterator[tuple[IntArray, bool]]:
    """
    Improve a table by what its prices say, pass by pass.

    Prices of places are worked out where something is not served. Once all is, every
    other pass counts on rounds to several stations.

    Yields
    ------
    at, is_gain
        The best table so far, and whether this pass gained.
    """
    apart, rents, rounds = tours.arrays_of(table), _no_rents(table), _rounds(table)
    together = tours.arrays_of(table, together=table.together)
    value, is_short = -np.inf, _is_short(table, apart, at)
    for number in range(passes):
        arrays = together if number % 2 and not is_short else apart
        if number and not is_short:
            value = tours.value_of(tours.laid(at, arrays), arrays)
        heat = HEATS[number % len(HEATS)] / max(1, len(table.stations))
        most = MOST[number % len(MOST)]
        if not is_short:
            stops = CALM[number % len(CALM)] * table.stop_price
            heat, most = stops / max(float(table.worth.sum()), 1e-9), MOST_CALM
        got, worth = tours.search(
            arrays,
            at,
            rents,
            rounds * min(1 + number, LONGEST),
            seed + number,
            heat,
            BUCKETS,
            most,
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
    need_wh = table.need_wh[: len(table.stations)]
    served = np.zeros_like(need_wh)
    batteries, cells = np.nonzero((at > 0) & (at <= table.seats))
    seats = at[batteries, cells] - 1
    # Whom low power serves is served less than was agreed.
    agreed = seats < len(table.stations)
    served[table.seat_at[seats], cells] = share[batteries, cells] * agreed
    return bool(np.any(served[need_wh > 0] < 1.0 - 1e-6))


def _rounds(table: Timetable) -> int:
    cells = table.count * table.places * BUCKETS
    return int(np.clip(PASS_CELLS / cells, 100, 5000))


class _Judge:
    """Says what tables and rotations are worth, by the strict order."""

    def __init__(
        self,
        problem: Problem,
        *,
        use: float | None = None,
        risk: Risk | None = None,
        keep_until_min: int = 0,
    ) -> None:
        self.problem, self.use, self.risk = problem, use, risk
        self.keep_until_min = keep_until_min
        #: The event with a rotation's steps, as planned and with more use.
        self.known: dict[tuple[Pin, ...], tuple[Problem, Problem]] = {}

    def checked(self, table: Timetable, at: IntArray, best: Found) -> Found | None:
        """
        A table as a rotation; None when it can't be carried out after all.

        One that is better than the best so far goes to low power as late as it can.
        """
        try:
            legs = legs_of(table, at)
        except NoCrewLeft:
            return None
        can_choose = table.seats > len(table.stations)
        steps = steps_of(table, at) if can_choose else best.steps
        planned, _ = self._problems(steps)
        past = self.keep_until_min
        legs = with_fewer_swaps(planned, legs, keep_until_min=past)
        legs = grouped(planned, legs, keep_until_min=past)
        found = self.found(legs, steps)
        if found is None or not can_choose or not found.key < best.key:
            return found
        return self._trimmed(found)

    def found(self, legs: tuple[Leg, ...], steps: tuple[Pin, ...]) -> Found | None:
        """A rotation with what it is compared by; None when it breaks a rule."""
        planned, more = self._problems(steps)
        report = verify(planned, legs)
        if not report.is_valid:
            return None
        risk_min = None
        if self.risk is not None:
            risk = self.risk(planned, legs)
            key = key_with_risk(planned, legs, report.outcome, risk)
            risk_min = sum(risk.values())
        elif more is not planned:
            losses = verify(more, legs).outcome
            key = key_with_margin(planned, legs, report.outcome, losses)
        else:
            key = key_of(planned, legs, report.outcome)
        return Found(legs=legs, steps=steps, report=report, key=key, risk_min=risk_min)

    def at_rounder_times(self, found: Found) -> Found:
        """The same with walks at rounder times, if it is better so."""
        planned, _ = self._problems(found.steps)
        legs = with_rounder_times(
            planned, found.legs, keep_until_min=self.keep_until_min
        )
        made = self.found(legs, found.steps)
        return made if made is not None and made.key < found.key else found

    def _problems(self, steps: tuple[Pin, ...]) -> tuple[Problem, Problem]:
        found = self.known.get(steps)
        if found is None:
            planned = self.problem.with_steps(steps)
            more = planned if self.use is None else Problem(planned.scenario, self.use)
            found = self.known[steps] = planned, more
        return found

    def _trimmed(self, found: Found) -> Found:
        """The same with each step as short as it may be: begun later, or not at all."""
        plain, grain = _Judge(self.problem), self.problem.grid.step_min
        best = plain.found(found.legs, found.steps)
        assert best is not None  # noqa: S101 - it breaks no rule
        for step in found.steps:
            if step.start_min < self.keep_until_min:
                continue
            others = [one for one in best.steps if one != step]
            # How much of it is cut off; half of what is left is tried, and so on.
            least, most = 0, -(-(step.end_min - step.start_min) // grain)
            while least < most:
                cut = (least + most + 1) // 2
                start = step.start_min + cut * grain
                left = [replace(step, start_min=start)] if start < step.end_min else []
                steps = sorted(
                    others + left, key=lambda one: (one.place, one.start_min)
                )
                made = plain.found(found.legs, tuple(steps))
                if made is not None and made.key <= best.key:
                    best, least = made, cut
                else:
                    most = cut - 1
        return self.found(best.legs, best.steps) or found


def _no_rents(table: Timetable) -> tuple[FloatArray, FloatArray]:
    stations = np.zeros((len(table.stations), table.count))
    return stations, np.zeros((len(table.bays), table.count))


def _rents(
    table: Timetable, at: IntArray, value: float
) -> tuple[FloatArray, FloatArray]:
    """What being at a station and on a bay is worth to all others."""
    master = Master(table, buckets=BUCKETS)
    for battery, row in enumerate(at):
        master.add(battery, row)
    # On a huge event each round takes long, and the passes need the time more.
    share = min(1.0, RENTS_CELLS / (table.cells * BUCKETS))
    starts = WH_PRICES[:: 1 if share == 1.0 else 3]
    start = climb(master, value, rounds=math.ceil(20 * share), wh_prices=starts)
    prices = descend(master, start, rounds=math.ceil(25 * share))
    return (
        prices[master.at_station : master.at_bay].reshape(-1, table.count),
        prices[master.at_bay : master.at_come].reshape(-1, table.count),
    )
