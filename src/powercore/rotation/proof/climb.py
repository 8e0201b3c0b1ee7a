"""Prices that prove a bound, and prices that lead."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from powercore.rotation.proof.master import (
    ANY_PRICE,
    SMOOTHING,
    Master,
    NoAnswer,
    room_for,
)
from powercore.rotation.tours.arrays import Room
from powercore.values import FloatArray, IntArray

#: Rounds of tours that a bound takes in, where nobody says.
ROUNDS = 400
#: How many times as fine buckets of charge get at the end.
FINER = (1, 4, 32)
#: Batteries × places × intervals up to which the finest is worth its time.
SMALL = 2_500
#: Cells of the shortest path that proves a bound, and bounds of its buckets.
PROVEN_CELLS, LEAST_PROVEN, MOST_PROVEN = 2e7, 1536, 50_000
#: How far a price may move at the most, in what is usual, and how often a box that
#: got too narrow is widened.
WIDEST, WIDENINGS = 4.0, 3
#: Rounds without gain after which steps are halved.
PATIENCE = 10
#: Prices of a watt-hour to begin with, as shares of the highest worth of one.
WH_PRICES = (0.02, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.7)
_TINY = 1e-7


@dataclass(frozen=True, slots=True)
class Bound:
    """What no table can be worth more than."""

    value: float
    #: Prices of the rows at which it holds.
    prices: FloatArray


def _by_energy(master: Master, wh: float, charge: float) -> FloatArray:
    """Prices as if only energy were scarce: at one price for a watt-hour."""
    table = master.table
    hours = np.diff(table.points) / 60
    holds = table.holds_wh.mean(axis=0) if table.stations else np.zeros(0)
    bay_wh = (table.bulk * holds).max(axis=1, initial=0.0)
    prices = np.zeros(master.rows)
    need_wh = np.where(table.need_wh > 0, table.need_wh, np.inf)[: master.stations]
    worth = table.worth[: master.stations]
    wh *= float((worth / need_wh).max(initial=0.0))
    rent = np.maximum(0.0, worth - np.where(need_wh < np.inf, wh * need_wh, 0.0))
    prices[master.at_station : master.at_bay] = rent.ravel()
    slots = charge * wh * bay_wh[:, None] * hours[None, :] * table.is_on
    prices[master.at_bay : master.at_come] = slots.ravel()
    prices[master.at_come : master.at_watt] = table.stop_price / 2
    return prices


def climb(
    master: Master,
    target: float,
    *,
    rounds: int = 20,
    wh_prices: Sequence[float] = WH_PRICES,
) -> FloatArray:
    """
    Good prices without any linear program, by deflected subgradients.

    Parameters
    ----------
    target : float
        What a known table is worth; steps are as long as that says.
    rounds : int
        How many steps.
    wh_prices : sequence of float
        Prices of a watt-hour to begin with, of which the best is taken.

    Returns
    -------
    float array, shape (rows,)
        The prices at which the sum of earnings and rents was lowest.
    """
    starts = [
        _by_energy(master, wh, charge) for wh in wh_prices for charge in (0.85, 1.0)
    ]
    best, best_prices = min(
        ((_earn(master, prices)[0], prices) for prices in starts),
        key=lambda pair: pair[0],
    )
    prices, way = best_prices, np.zeros(master.rows)
    reach, since = 1.0, 0
    for number in range(rounds):
        total, wanted = _earn(master, prices)
        usage = np.zeros(master.rows)
        for rows, _ in master.stops_at(prices):
            usage[rows[:2]] -= 1.0
            usage[rows[2:]] += 1.0
        for b, at in enumerate(wanted):
            rows, values, _ = master.column(b, at)
            np.add.at(usage, rows, values)
        slack = master.limits - usage
        slack[: master.batteries] = 0.0
        if total < best - _TINY:
            best, best_prices, since = total, prices, 0
        else:
            since += 1
            if since >= PATIENCE:
                reach, since, prices = reach / 2, 0, best_prices
        slack[(slack > 0) & (prices <= 0)] = 0.0
        way = slack + 0.5 * way if number else slack
        size = float(way @ way)
        if size < _TINY:
            break
        step = reach * max(total - target, 1e-3 * abs(total)) / size
        prices = np.maximum(0.0, prices - step * way)
    return best_prices


def prove(
    master: Master,
    start: FloatArray,
    *,
    cells: float = PROVEN_CELLS,
    **way: Any,
) -> Bound:
    """
    Bring the best tours into the master program and prove a bound.

    Parameters
    ----------
    master, start, way
        See `descend`.
    cells : float
        Cells of the shortest path that proves the bound.

    Returns
    -------
    Bound
        Valid whenever it stops.
    """
    prices = descend(master, start, **{"rounds": ROUNDS} | way)
    each = master.count * master.table.places
    buckets = int(np.clip(cells / each, LEAST_PROVEN, MOST_PROVEN))
    room = room_for(master.count, master.table.places, buckets)
    return Bound(_earn(master, prices, room, is_bound=True)[0], prices)


def descend(
    master: Master,
    start: FloatArray,
    *,
    rounds: int,
    is_near: bool = False,
    enough: float = -np.inf,
    go_on: Callable[[], bool] = lambda: True,
) -> FloatArray:
    """
    Bring the best tours into the master program, and find the best prices.

    First prices may move only so far from the best so far in one round; where that
    foresees no more, prices between the best and the program's own lead to the very
    optimum, with finer and finer cuts of charge.

    Parameters
    ----------
    master : Master
        With the tours of a plan at least.
    start : float array
        Prices to begin with, one for each row.
    rounds : int
        When to stop at the latest.
    is_near : bool
        Whether the prices are nearly right already.
    enough : float
        Nothing below this is looked for.
    go_on : callable
        Asked after each round.
    """
    descent = _Descent(master, start, rounds, enough, go_on)
    times = FINER if master.table.cells <= SMALL else FINER[:-1]
    coarse, *finer = (master.buckets * one for one in times)
    try:
        for buckets in () if is_near else (coarse, finer[0]):
            descent.refine(buckets)
            _boxed(descent)
        for buckets in (coarse, finer[0]) if is_near else finer:
            descent.refine(buckets)
            _smoothed(descent)
    except NoAnswer:
        pass
    return descent.centre


class _Descent:
    """The lowest sum of earnings and rents so far, and the prices it is at."""

    def __init__(
        self,
        master: Master,
        start: FloatArray,
        rounds: int,
        enough: float,
        go_on: Callable[[], bool],
    ) -> None:
        self.master, self.centre, self.best = master, start, np.inf
        self.left, self.enough, self.go_on = rounds, enough, go_on
        self.room, self.is_over = master.room, False

    def refine(self, buckets: int) -> None:
        """Cut charge into so many buckets from now on."""
        if self.is_over:
            return
        self.room = room_for(self.master.count, self.master.table.places, buckets)
        self.best = np.inf
        self.look(self.centre)

    def look(self, prices: FloatArray) -> tuple[float, bool]:
        """Earnings and rents at some prices, and whether they brought new tours."""
        earned, wanted = _earn(self.master, prices, self.room)
        gained = [self.master.add(b, at) for b, at in enumerate(wanted)]
        if earned < self.best:
            self.best, self.centre = earned, prices
        self.left -= 1
        is_done = self.left <= 0 or self.best <= self.enough
        self.is_over = self.is_over or is_done or not self.go_on()
        return earned, any(gained)


def _boxed(descent: _Descent, trust: float = 0.1) -> None:
    """
    Go on with prices that may move only so far from the best.

    Further when the program foresaw well what the tours would earn, less far when
    not; where it foresees no more in a narrow box, a wider one is tried a few times.
    """
    master, widened = descent.master, 0
    scale = _scale(master, descent.centre)
    while not descent.is_over:
        before = descent.best
        value, prices = master.solve(descent.centre, trust * scale)
        earned, is_new = descent.look(prices)
        foreseen, real = before - value, before - earned
        if real > 0:
            scale = _scale(master, descent.centre)
        if real > 0.5 * foreseen:
            trust = min(WIDEST, trust * 1.5)
        elif real < 0.1 * foreseen:
            trust = max(1e-4, trust * 0.8)
        if foreseen >= 1e-4 * max(1.0, abs(before)) and (is_new or real > 0):
            continue
        if widened == WIDENINGS or trust >= 0.2:
            return
        trust, widened = min(1.0, max(8 * trust, 0.02)), widened + 1


def _smoothed(descent: _Descent) -> None:
    """
    Go on with prices between the best and the program's own, to the optimum [2]_.

    Nearer to the program's own where that brings no new tour.
    """
    master = descent.master
    nowhere, anywhere = np.zeros(master.rows), np.full(master.rows, ANY_PRICE)
    while not descent.is_over:
        value, prices = master.solve(nowhere, anywhere)
        if descent.best - value < 1e-5 * max(1.0, abs(value)):
            return
        for share in SMOOTHING:
            centre = descent.centre
            _, is_new = descent.look(share * centre + (1 - share) * prices)
            if is_new or descent.is_over:
                break
        else:
            return


def _earn(
    master: Master,
    prices: FloatArray,
    room: Room | None = None,
    *,
    is_bound: bool = False,
) -> tuple[float, list[IntArray]]:
    """What everything is worth at some prices, and each battery's best tour."""
    fees, total, wanted = master.fees(prices), master.rented(prices), []
    for b in range(master.batteries):
        at, worth = master.priced(b, fees, room or master.room, is_bound=is_bound)
        total += worth
        wanted.append(at)
    return total, wanted


def _scale(master: Master, prices: FloatArray) -> FloatArray:
    """How far a price may sensibly move."""
    scale = np.full(master.rows, max(master.table.stop_price, 1e-3))
    cells = slice(master.at_station, master.at_bay)
    worth = master.table.worth[: master.stations]
    scale[cells] = np.maximum(0.3 * worth.ravel(), prices[cells])
    slots = slice(master.at_bay, master.at_come)
    typical = float(prices[slots].max(initial=0.0)) or 1.0
    scale[slots] = np.maximum(prices[slots], 0.3 * typical)
    scale[master.at_watt :] = 1.0
    return np.maximum(scale, 1e-6)
