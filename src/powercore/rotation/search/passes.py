"""Passes of ruin and recreate over one table."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from powercore.rotation.proof.climb import WH_PRICES, climb, descend
from powercore.rotation.proof.master import Master
from powercore.rotation.timetable import Timetable
from powercore.rotation.tours.arrays import Arrays, arrays_of
from powercore.rotation.tours.prices import value_of
from powercore.rotation.tours.recreate import Effort, search
from powercore.rotation.tours.table import laid
from powercore.values import FloatArray, IntArray

#: Buckets of charge in a pass; most batteries taken out at once while something is not
#: served, pass by pass, and once all is.
BUCKETS, MOST, MOST_CALM = 24, (3, 2), 3
#: How much worse a pass may go for a while, pass by pass: as shares of what serving a
#: station is worth, and in stops of walks where everything is served already.
HEATS, CALM = (0.0005, 0.002, 0.006, 0.001), (1.0, 4.0, 12.0, 2.0)
#: Cells of one shortest path, over all rounds of a pass.
PASS_CELLS = 5e7
#: Cells of all batteries' shortest paths up to which prices of places get full effort.
RENTS_CELLS = 2e6
#: Passes grow longer, up to this many times the first.
LONGEST = 6


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
    apart, rents, rounds = arrays_of(table), _no_rents(table), _rounds(table)
    together = arrays_of(table, together=table.together)
    value, is_short = -np.inf, _is_short(table, apart, at)
    for number in range(passes):
        arrays = together if number % 2 and not is_short else apart
        if number and not is_short:
            value = value_of(laid(at, arrays), arrays)
        heat = HEATS[number % len(HEATS)] / max(1, len(table.stations))
        most = MOST[number % len(MOST)]
        if not is_short:
            stops = CALM[number % len(CALM)] * table.stop_price
            heat, most = stops / max(float(table.worth.sum()), 1e-9), MOST_CALM
        length = rounds * min(1 + number, LONGEST)
        effort = Effort(length, seed + number, heat, BUCKETS, most)
        got, worth = search(arrays, at, rents, effort)
        is_gain = worth > value + 1e-6
        if is_gain:
            at, value = got, worth
            is_short = _is_short(table, arrays, at)
        yield at, is_gain
        if number == 0 and is_short:
            rents = _rents(table, at, value)


def _is_short(table: Timetable, arrays: Arrays, at: IntArray) -> bool:
    """Whether a table leaves anything unserved."""
    share = laid(at, arrays).share
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
