"""
The best table of a small event, with its proof: branch and price over tours [1]_.

The linear program over tours mixes several for one battery. Where it does, one
question divides all tables in two: is this battery in this place in this interval?
Each half is proven anew, with the tours found so far that fit; the half that promises
most comes next. A half whose program mixes no more is a table, often a better one
than ruin and recreate finds; a half that promises no more than the best table is
done. Deterministic for a number of halves.

References
----------
.. [1] C. Barnhart et al., "Branch-and-price: column generation for solving huge
   integer programs", Operations Research 46 (1998), pp. 316-329. From memory.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from powercore.rotation.proof.climb import Bound, climb, prove
from powercore.rotation.proof.master import Column, Master
from powercore.rotation.timetable import NoCrewLeft, Timetable, legs_of
from powercore.rotation.tours.arrays import Arrays, arrays_of
from powercore.rotation.tours.prices import value_of
from powercore.rotation.tours.table import laid
from powercore.values import FloatArray, IntArray

#: Batteries × places × intervals up to which an event is small, and how many of these
#: all halves together may have, where nobody says how many halves.
SMALL, WORK = 1_500, 60_000
#: Rounds of one half's program, and cells of its proof.
ROUNDS, CELLS = 150, 1e6
#: Tours of a battery that a half takes over.
USEFUL = 60
#: Halves that promise less above the best table are done: a share of a stop's price.
CLOSE = 0.01
#: A tour's weight below this is none.
_TINY = 1e-6
#: How much a bay or the yard matters beside a station, where tours are mixed.
_BAY, _YARD = 0.02, 0.01


@dataclass(frozen=True, slots=True)
class Closed:
    """The best table known, what it is worth, and what no table is worth more than."""

    at: IntArray
    value: float
    bound: float
    #: Halves that were proven.
    halves: int


def is_small(table: Timetable) -> bool:
    """Whether branching is likely to get anywhere."""
    return table.cells <= SMALL


def close(
    table: Timetable,
    at: IntArray,
    *,
    halves: int | None = None,
    go_on: Callable[[float, float], bool] = lambda value, bound: True,
) -> Closed:
    """
    Close the gap between a table and what none can be worth more than.

    Parameters
    ----------
    table : Timetable
        The event.
    at : int array, shape (B, P)
        A table that can be carried out, to begin with.
    halves : int
        How many are proven at the most; None: as many as take a minute or so.
    go_on : callable
        Told the best value and the bound after each half; False stops.

    Returns
    -------
    Closed
        Valid whenever it stops; spares in racks are not priced, so with these the
        bound may stay above what is possible.
    """
    arrays, best = arrays_of(table), at.astype(np.int64)
    value = value_of(laid(best, arrays), arrays)
    near = CLOSE * table.stop_price
    if halves is None:
        halves = WORK // max(1, table.cells)
    master = Master(table)
    for b, row in enumerate(best):
        master.add(b, row)
    bound = prove(master, climb(master, value))
    heap = [_Half(-bound.value, 0, bound.prices, table, _useful(master, bound.prices))]
    done, count, least = 0, 0, -np.inf
    while heap and done < halves and -heap[0].promises > value + near:
        half = heapq.heappop(heap)
        master, bound = _proven(half, value)
        prices, promises = bound.prices, min(-half.promises, bound.value)
        done += 1
        weights = master.weights()
        cell = _divided(master, weights)
        if cell is None:
            found = _heaviest(master, weights)
            new = -np.inf if found is None else _worth(table, arrays, found)
            if found is not None and new > value:
                best, value = found, new
        if cell is None or promises <= value + near:
            least = max(least, promises)
        else:
            useful = _useful(master, prices)
            for part in _parts(half.table, *cell):
                count += 1
                heapq.heappush(heap, _Half(-promises, count, prices, part, useful))
        if not go_on(value, _bound(heap, value, least)):
            break
    return Closed(best, value, _bound(heap, value, least), done)


def _proven(half: _Half, enough: float) -> tuple[Master, Bound]:
    """A half's own program, with the tours that fit it, and its bound."""
    master = Master(half.table)
    every = np.arange(half.table.count)
    for (b, _), (row, column) in half.tours.items():
        if half.table.may[b, np.maximum(row, 0), every].all():
            master.add(b, row, column)
    bound = prove(
        master, half.prices, rounds=ROUNDS, is_near=True, enough=enough, cells=CELLS
    )
    return master, bound


class _Half(NamedTuple):
    """Some of all tables: those with the most promise first, then the oldest."""

    promises: float
    number: int
    #: Where the half it was made of was proven, and its tours that count.
    prices: FloatArray
    table: Timetable
    tours: dict[tuple[int, bytes], tuple[IntArray, Column]]


def _bound(heap: list[_Half], value: float, least: float) -> float:
    """What no table can be worth more than: the best of what is open and closed."""
    return max(value, least, -heap[0].promises if heap else -np.inf)


def _useful(
    master: Master, prices: FloatArray
) -> dict[tuple[int, bytes], tuple[IntArray, Column]]:
    """Each battery's tours that earn most at some prices."""
    earned: dict[int, list[tuple[float, tuple[int, bytes]]]] = {}
    for mark, (_, (rows, values, worth)) in master.tours.items():
        paid = float(values[1:] @ prices[rows[1:]])
        earned.setdefault(mark[0], []).append((worth - paid, mark))
    return {
        mark: master.tours[mark]
        for own in earned.values()
        for _, mark in sorted(own, reverse=True)[:USEFUL]
    }


def _divided(master: Master, weights: FloatArray) -> tuple[int, int, int] | None:
    """The battery, place and interval that tours are most at odds about."""
    table = master.table
    share = np.zeros(table.may.shape)
    intervals = np.arange(table.count)
    for (b, _), (row, _), weight in zip(
        master.tours, master.tours.values(), weights, strict=True
    ):
        if weight > _TINY:
            share[b, np.maximum(row, 0), intervals] += weight
    matters = np.full(table.may.shape[1:], _BAY * table.worth.max(initial=1e-9))
    matters[0] *= _YARD / _BAY
    matters[1 : 1 + table.seats] = np.maximum(table.worth, _TINY)
    odds = np.minimum(share, 1 - share) * (share > _TINY) * (share < 1 - _TINY)
    score = odds * np.sqrt(matters)
    if score.max(initial=0.0) <= 0:
        return None
    battery, place, i = np.unravel_index(int(np.argmax(score)), score.shape)
    return int(battery), int(place), int(i)


def _parts(
    table: Timetable, battery: int, place: int, i: int
) -> tuple[Timetable, Timetable]:
    """The tables in which a battery is not there, and those in which it is."""
    not_there, there = table.may.copy(), table.may.copy()
    not_there[battery, place, i] = False
    there[battery, :, i] = False
    if 0 < place <= table.seats:
        seats = 1 + np.flatnonzero(table.seat_at == table.station_of(place))
        there[:, seats, i] = False
    elif 0 < place < table.first_rack:
        there[:, place, i] = False
    there[battery, place, i] = True
    return replace(table, may=not_there), replace(table, may=there)


def _heaviest(master: Master, weights: FloatArray) -> IntArray | None:
    """Each battery's heaviest tour; None where one has none."""
    found: dict[int, tuple[float, IntArray]] = {}
    for (b, _), (row, _), weight in zip(
        master.tours, master.tours.values(), weights, strict=True
    ):
        if weight > max(_TINY, found.get(b, (0.0, row))[0]):
            found[b] = (float(weight), row)
    if len(found) < master.batteries:
        return None
    return np.array([found[b][1] for b in range(master.batteries)])


def _worth(table: Timetable, arrays: Arrays, at: IntArray) -> float:
    """What a table is worth; nothing where it can't be carried out."""
    try:
        legs_of(table, at)
    except NoCrewLeft:
        return -np.inf
    state = laid(at, arrays)
    if state.racked.size and (state.racked.max(axis=1) > table.rack_room).any():
        return -np.inf
    return value_of(state, arrays)
