"""The master program over tours."""

from __future__ import annotations

import ctypes
import os
import sys
from functools import lru_cache

import highspy
import numpy as np

from powercore.rotation.timetable import Timetable
from powercore.rotation.tours.arrays import Fees, Left, Room, arrays_of, workspace
from powercore.rotation.tours.path import best_tour
from powercore.rotation.tours.table import Life, walk_through
from powercore.values import FloatArray, IntArray

#: Buckets of charge when tours are searched.
SEARCHED = 96
#: A price that is none, and shares of the best prices that are tried.
ANY_PRICE, SMOOTHING = 1e6, (0.8, 0.5, 0.2, 0.0)
#: Rows that a tour uses, how much of each, and what it is worth.
Column = tuple[np.ndarray, FloatArray, float]


def _solver() -> highspy.Highs:
    """A solver that says nothing: as it is made it prints a banner, whatever is set."""
    flush = ctypes.CDLL(None).fflush
    sys.stdout.flush()
    kept, nowhere = os.dup(1), os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 1)
        solver = highspy.Highs()
        flush(None)
    finally:
        os.dup2(kept, 1)
        os.close(kept)
        os.close(nowhere)
    return solver


class NoAnswer(ArithmeticError):
    """The linear program could not be solved."""


class Master:
    """The master program over the tours found so far."""

    def __init__(self, table: Timetable, buckets: int = SEARCHED) -> None:
        self.table = table
        self.arrays = arrays_of(table)
        self.stations, self.bays = len(table.stations), len(table.bays)
        self.seats = table.seats
        self.batteries, self.count = len(table.batteries), table.count
        self.sources = table.most_w.shape[0]
        self.buckets = buckets
        self.room = room_for(self.count, table.places, buckets)
        #: What a battery has of the sources as if it were alone: of a store, all
        #: that has come into it.
        self.alone = Left(
            table.most_w,
            table.store_wh[:, None] + np.cumsum(table.fills_wh, axis=1),
            np.zeros_like(table.fills_wh),
            np.zeros((table.rack_at.size, table.count), dtype=np.int64),
        )
        #: The station of each place; the last is that of a battery on the way.
        self.station_of = np.array([*map(table.station_of, range(table.places)), -1])
        #: The tours in the program, by battery and places, in its order.
        self.tours: dict[tuple[int, bytes], tuple[IntArray, Column]] = {}
        self._rows()
        self.highs = _solver()
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
        life = Life(np.zeros(self.count + 1), *(np.zeros(self.count) for _ in range(4)))
        walk_through(b, at, self.arrays, self.alone, life)
        soc, share, below, watts, _ = life
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

    def fees(self, prices: FloatArray) -> Fees:
        """Prices of rows as fees of a tour."""
        s, y, q, n = self.stations, self.bays, self.sources, self.count
        come, go = np.full((s, n + 1), np.inf), np.full((s, n + 1), np.inf)
        come[:, :n] = prices[self.at_come : self.at_go].reshape(s, n)
        go[:, :n] = prices[self.at_go : self.at_watt].reshape(s, n)
        come[:, :n][~self.table.duty[:, :n]] = np.inf
        go[:, :n][~self.table.duty[:, :n]] = np.inf
        return Fees(
            np.ones((self.stations, self.count)),
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
        self, b: int, fees: Fees, room: Room, *, is_bound: bool
    ) -> tuple[IntArray, float]:
        """Best tour of a battery at some fees, and what it earns."""
        return best_tour(b, self.arrays, fees, self.alone, is_bound, room)

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


@lru_cache(maxsize=6)
def room_for(count: int, places: int, buckets: int) -> Room:
    """Room for shortest paths, which many programs use one after the other."""
    return workspace(count, places, buckets)
