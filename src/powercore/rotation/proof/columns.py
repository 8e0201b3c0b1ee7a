"""
What no plan can be better than, and what places are worth: tours and their prices.

The master program chooses one tour for each battery among those found; its dual
values are prices for being at a station or on a bay, for a stop and for power. Each
battery's best tour at those prices joins it until none is worth joining. Any prices
give a bound by themselves (Lagrange): what all batteries could earn at them, plus
what the places are rented for. Two usual cures for prices that jump are used one after
the other: prices may not move far in one round, the boxstep method [1]_, and prices
smoothed towards the best so far [2]_.

The bound holds for plans whose moves are at the timetable's points. Not priced are
how many spares fit into a rack, what is in a bank and what panels give at the yard:
each battery counts as if it had these for itself.

References
----------
.. [1] R. E. Marsten, W. W. Hogan, J. W. Blankenship, "The boxstep method for
   large-scale optimization", Operations Research 23 (1975), pp. 389-405. From memory.
.. [2] P. Wentges, "Weighted Dantzig-Wolfe decomposition for linear mixed-integer
   programming", International Transactions in Operational Research 4 (1997),
   pp. 151-162. From memory.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import highspy
import numpy as np

from powercore.event.problem import Leg, Problem
from powercore.rotation import tours
from powercore.rotation.timetable import (
    IntArray,
    Prices,
    Timetable,
    places_of,
    timetable,
)
from powercore.values import FloatArray

#: Buckets of charge when tours are searched, and how much finer they get at the end.
SEARCHED, FINER = 96, (1, 4, 32)
#: Batteries × places × intervals up to which the finest is worth its time.
SMALL = 2_500
#: Cells of the shortest path that proves a bound, and bounds of its buckets.
PROVEN_CELLS, LEAST_PROVEN, MOST_PROVEN = 2e7, 1536, 50_000
#: How far a price may move at the most, in what is usual, and how often a box that
#: got too narrow is widened.
WIDEST, WIDENINGS = 4.0, 3
#: A price that is none, and shares of the best prices that are tried.
ANY_PRICE, SMOOTHING = 1e6, (0.8, 0.5, 0.2, 0.0)
#: Rounds without gain after which steps are halved.
PATIENCE = 10
#: Prices of a watt-hour to begin with, as shares of the highest worth of one.
WH_PRICES = (0.02, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.7)
_TINY = 1e-7


#: Rows that a tour uses, how much of each, and what it is worth.
Column = tuple[np.ndarray, FloatArray, float]


@dataclass(frozen=True, slots=True)
class Bound:
    """What no table can be worth more than."""

    value: float
    #: Prices of the rows at which it holds.
    prices: FloatArray


class NoAnswer(ArithmeticError):
    """The linear program could not be solved."""


class Master:
    """The master program over the tours found so far."""

    def __init__(self, table: Timetable, buckets: int = SEARCHED) -> None:
        self.table = table
        self.arrays = tours.arrays_of(table)
        self.stations, self.bays = len(table.stations), len(table.bays)
        self.seats = table.seats
        self.batteries, self.count = len(table.batteries), table.count
        self.sources = table.most_w.shape[0]
        self.buckets = buckets
        self.room = _room(self.count, table.places, buckets)
        #: What a battery has of the sources as if it were alone: of a store, all
        #: that has come into it.
        self.alone = (
            table.most_w,
            table.store_wh[:, None] + np.cumsum(table.fills_wh, axis=1),
            np.zeros_like(table.fills_wh),
        )
        #: The station of each place; the last is that of a battery on the way.
        self.station_of = np.array([*map(table.station_of, range(table.places)), -1])
        #: The tours in the program, by battery and places, in its order.
        self.tours: dict[tuple[int, bytes], tuple[IntArray, Column]] = {}
        self._rows()
        self.highs = highspy.Highs()
        self.highs.setOptionValue("output_flag", False)
        self.highs.setOptionValue("log_to_console", False)
        self.highs.setOptionValue("threads", 1)
        self._build()

    def _rows(self) -> None:
        """Number the rows: batteries, stations, bays, coming, going, power, crews."""
        cells, slots = self.stations * self.count, self.bays * self.count
        self.at_station = self.batteries
        self.at_bay = self.at_station + cells
        self.at_come = self.at_bay + slots
        self.at_go = self.at_come + cells
        self.at_watt = self.at_go + cells
        self.at_crew = self.at_watt + self.sources * self.count
        table = self.table
        starts = set()
        for s in range(self.stations):
            for i in range(1, self.count):
                if table.duty[s, i]:
                    starts.add(int(table.points[i] - table.walk_min[s]))
        self.crew_minutes = np.array(sorted(starts), dtype=np.int64)
        self.rows = self.at_crew + self.crew_minutes.size
        rows = np.ones(self.rows)
        rows[self.at_come : self.at_watt] = 0.0
        rows[self.at_watt : self.at_crew] = table.most_w.ravel()
        rows[self.at_crew :] = table.crews[self.crew_minutes]
        self.limits = rows

    def _build(self) -> None:
        inf = highspy.kHighsInf
        low = np.full(self.rows, -inf)
        low[: self.batteries] = 1.0
        none = np.array([], dtype=np.int32)
        self.highs.addRows(
            self.rows, low, self.limits, 0, none, none, np.array([], dtype=float)
        )
        # A battery without a tour: dear, so that the program always has an answer.
        dear = 10.0 * float(self.table.worth.sum()) + 1e3
        for b in range(self.batteries):
            self.highs.addCol(dear, 0.0, inf, 1, np.array([b], np.int32), np.ones(1))
        self.stop_rows: list[np.ndarray] = []
        for s in range(self.stations):
            for i in range(1, self.count):
                rows = self._stop(s, i)
                values = np.ones(rows.size)
                values[:2] = -1.0
                most = 1.0 if self.table.duty[s, i] else 0.0
                price = self.table.stop_prices[s, i]
                self.highs.addCol(price, 0.0, most, rows.size, rows, values)
                self.stop_rows.append(rows)
        self.at_room = self.batteries + len(self.stop_rows)
        rows = np.arange(self.batteries, self.rows, dtype=np.int32)
        for sign in (-1.0, 1.0):
            self.highs.addCols(
                rows.size,
                np.zeros(rows.size),
                np.zeros(rows.size),
                np.full(rows.size, inf),
                rows.size,
                np.arange(rows.size, dtype=np.int32),
                rows,
                np.full(rows.size, sign),
            )
        self.first_tour = self.at_room + 2 * rows.size

    def _stop(self, s: int, i: int) -> np.ndarray:
        table, cell = self.table, s * self.count + i
        minute, walk = table.points[i], table.walk_min[s]
        busy = np.flatnonzero(
            (self.crew_minutes >= minute - walk) & (self.crew_minutes < minute + walk)
        )
        return np.concatenate(
            [[self.at_come + cell, self.at_go + cell], self.at_crew + busy]
        ).astype(np.int32)

    def add(self, b: int, at: IntArray, column: Column | None = None) -> bool:
        """Add a tour, whose column may be known; False when it is there already."""
        mark = (b, at.tobytes())
        if mark in self.tours:
            return False
        rows, values, worth = column or self.column(b, at)
        self.tours[mark] = at, (rows, values, worth)
        self.highs.addCol(-worth, 0.0, highspy.kHighsInf, rows.size, rows, values)
        return True

    def column(self, b: int, at: IntArray) -> Column:
        """Rows that a tour uses, how much of each, and what it is worth."""
        table = self.table
        soc, share = np.zeros(self.count + 1), np.zeros(self.count)
        below, watts = np.zeros(self.count), np.zeros(self.count)
        tours.walk_through(
            b,
            at,
            self.arrays,
            self.alone,
            soc,
            share,
            below,
            watts,
            np.zeros(self.count),
        )
        worth = table.left_price * float(soc[-1])
        is_out = (at > 0) & (at <= self.seats)
        cells, places = np.flatnonzero(is_out), at[is_out] - 1
        worth += float((share[cells] * table.worth[places, cells]).sum())
        worth -= float((below[cells] * table.reserve_price[places]).sum())
        on_bay = (at > self.seats) & (at < table.first_rack)
        slots = np.flatnonzero(on_bay)
        bays = at[slots] - 1 - self.seats
        changed = np.flatnonzero(np.diff(at)) + 1
        before, now = self.station_of[at[changed - 1]], self.station_of[at[changed]]
        is_swap = (before == now) & (now >= 0)
        effort = (at[changed - 1] > self.seats).sum() + (at[changed] > self.seats).sum()
        effort += (is_out[changed - 1] & is_out[changed]).sum()
        worth -= table.bay_price * float(effort)
        came = (now >= 0) & ~is_swap
        left_it = (before >= 0) & ~is_swap
        drawn = np.flatnonzero(watts > 0)
        sources = table.source_of[at[drawn] - 1 - self.seats]
        worth -= float((watts[drawn] * table.watt_price[sources, drawn]).sum())
        is_priced = ~table.is_shared[sources]
        drawn, sources = drawn[is_priced], sources[is_priced]
        rows = np.concatenate(
            [
                [b],
                self.at_station + table.seat_at[places] * self.count + cells,
                self.at_bay + bays * self.count + slots,
                self.at_come + now[came] * self.count + changed[came],
                self.at_go + before[left_it] * self.count + changed[left_it],
                self.at_watt + sources * self.count + drawn,
            ]
        ).astype(np.int32)
        ones = rows.size - drawn.size
        values = np.concatenate([np.ones(ones), watts[drawn]])
        return rows, values, worth

    def solve(self, centre: FloatArray, reach: FloatArray) -> tuple[float, FloatArray]:
        """
        Worth of the best mixture of tours, and a price for each row.

        No price is further from a centre than some reach: room may be bought at the
        highest price of its row, and sold at the lowest.
        """
        rows = np.arange(self.batteries, self.rows)
        low = np.maximum(0.0, (centre - reach)[rows])
        high = (centre + reach)[rows]
        size = rows.size
        first = np.arange(self.at_room, self.at_room + size, dtype=np.int32)
        self.highs.changeColsCost(size, first, high)
        self.highs.changeColsCost(size, first + size, -low)
        self._run()
        duals = np.array(self.highs.getSolution().row_dual)
        prices = -duals
        prices[self.batteries :] = np.clip(prices[self.batteries :], low, high)
        return -self.highs.getInfo().objective_function_value, prices

    def weights(self) -> FloatArray:
        """How much of each tour is in the best mixture, in the order of `tours`."""
        self.solve(np.zeros(self.rows), np.full(self.rows, ANY_PRICE))
        return np.array(self.highs.getSolution().col_value)[self.first_tour :]

    def _run(self) -> None:
        """Solve; from scratch, then by another method, when it goes in circles."""
        optimal = highspy.HighsModelStatus.kOptimal
        self.highs.setOptionValue("simplex_iteration_limit", 4_000)
        for solver, strategy in (("choose", 1), ("choose", 4), ("ipm", 1)):
            self.highs.setOptionValue("solver", solver)
            self.highs.setOptionValue("simplex_strategy", strategy)
            self.highs.run()
            if self.highs.getModelStatus() == optimal:
                return
            self.highs.clearSolver()
        raise NoAnswer(f"The program has no answer: {self.highs.getModelStatus()}.")

    def fees(self, prices: FloatArray) -> tours.Fees:
        """Prices of rows as fees of a tour."""
        s, y, q, n = self.stations, self.bays, self.sources, self.count
        come, go = np.full((s, n + 1), np.inf), np.full((s, n + 1), np.inf)
        come[:, :n] = prices[self.at_come : self.at_go].reshape(s, n)
        go[:, :n] = prices[self.at_go : self.at_watt].reshape(s, n)
        come[:, :n][~self.table.duty[:, :n]] = np.inf
        go[:, :n][~self.table.duty[:, :n]] = np.inf
        return (
            prices[self.at_station : self.at_bay].reshape(s, n),
            prices[self.at_bay : self.at_come].reshape(y, n),
            come,
            go,
            np.where(
                self.table.is_shared[:, None],
                0.0,
                prices[self.at_watt : self.at_crew].reshape(q, n),
            ),
        )

    def priced(
        self, b: int, fees: tours.Fees, room: tours.Room, *, is_bound: bool
    ) -> tuple[IntArray, float]:
        """Best tour of a battery at some fees, and what it earns."""
        racked = np.zeros((self.table.rack_at.size, self.count), dtype=np.int64)
        left = (*self.alone, racked)
        plain = np.ones((self.stations, self.count))
        return tours.best_tour(b, self.arrays, plain, fees, left, is_bound, room)

    def stops_at(self, prices: FloatArray) -> list[tuple[np.ndarray, float]]:
        """Stops that pay at some prices: their rows, and what is gained by each."""
        found = []
        for rows in self.stop_rows:
            s, i = divmod(int(rows[0]) - self.at_come, self.count)
            gain = prices[rows[0]] + prices[rows[1]] - prices[rows[2:]].sum()
            price = float(self.table.stop_prices[s, i])
            if self.table.duty[s, i] and gain > price:
                found.append((rows, float(gain) - price))
        return found

    def rented(self, prices: FloatArray) -> float:
        """What all places, crews and sources are rented for, stops included."""
        limits = self.limits.copy()
        limits[: self.batteries] = 0.0
        total = float((prices * limits)[prices > 0].sum())
        for _, gain in self.stops_at(prices):
            total += gain
        return total


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
    rounds: int = 400,
    is_near: bool = False,
    enough: float = -np.inf,
    cells: float = PROVEN_CELLS,
    go_on: Callable[[], bool] = lambda: True,
) -> Bound:
    """
    Bring the best tours into the master program and prove a bound.

    Parameters
    ----------
    master, start, rounds, is_near, enough, go_on
        See `descend`.
    cells : float
        Cells of the shortest path that proves the bound.

    Returns
    -------
    Bound
        Valid whenever it stops.
    """
    prices = descend(
        master, start, rounds=rounds, is_near=is_near, enough=enough, go_on=go_on
    )
    each = master.count * master.table.places
    buckets = int(np.clip(cells / each, LEAST_PROVEN, MOST_PROVEN))
    room = _room(master.count, master.table.places, buckets)
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


@lru_cache(maxsize=6)
def _room(count: int, places: int, buckets: int) -> tours.Room:
    """Room for shortest paths, which many programs use one after the other."""
    return tours.workspace(count, places, buckets)


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
        self.room = _room(self.master.count, self.master.table.places, buckets)
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


def least_off_air_min(
    problem: Problem,
    legs: Sequence[Leg],
    tier: int,
    *,
    step_min: int = 30,
    rounds: int = 400,
    go_on: Callable[[], bool] = lambda: True,
) -> float:
    """
    Return minutes off the air in one tier that no rotation can be under.

    Zero where the sun or a supply charges batteries at a station of that tier: such
    power is not bounded. It holds for rotations whose moves are at the regular points
    or at those of the rotation given, whatever they do to other tiers.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule, to begin with.
    tier : int
        Which stations count.
    step_min : int
        Distance of the regular points. [min]
    rounds, go_on
        See `prove`.
    """
    of_tier = [one.tier == tier for one in problem.stations.values()]
    gets = zip(problem.surplus_w.values(), problem.sun_w.values(), of_tier, strict=True)
    if any(counts and (more.any() or sun.any()) for more, sun, counts in gets):
        return 0.0  # what comes in at a station is not bounded
    # Where demand is the same all through an interval, a share of its energy is the
    # same share of its minutes.
    edges = {minute for leg in legs for minute in (leg.start_min, leg.end_min)}
    for key, counts in zip(problem.stations, of_tier, strict=True):
        if counts:
            changes = np.flatnonzero(np.diff(problem.demand_w[key])) + 1
            edges |= {int(i) * problem.grid.step_min for i in changes}
    only = Prices(
        minute=1,
        wh=0,
        tier_ratio=1,
        reserve_wh=0,
        stop=0,
        bay_change=0,
        engine_wh=0,
        left=0,
    )
    table = timetable(problem, step_min=step_min, prices=only, also=edges)
    weights = np.array([one.weight for one in problem.stations.values()])
    counted = np.array(of_tier) / weights
    table = replace(table, worth=table.worth * counted[:, None])
    master = Master(table)
    for battery, row in enumerate(places_of(table, legs)):
        master.add(battery, row)
    total = float(table.worth.sum())
    bound = prove(master, climb(master, total), rounds=rounds, go_on=go_on)
    return max(0.0, total - bound.value)


def _earn(
    master: Master,
    prices: FloatArray,
    room: tours.Room | None = None,
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
