"""A timetable: points in time and numbers between them, and places in it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from powercore.event.plans import LOW, Pin
from powercore.event.problem import CHARGE, SERVE, WAIT, Leg, Problem
from powercore.values import BoolArray, FloatArray, IntArray

#: Passes of the search without gain after which nothing more is expected.
PATIENCE = 10
#: On the way between the yard and a station.
ON_THE_WAY = -1
#: What a source without a store holds. [Wh]
ENDLESS_WH = 1e12


@dataclass(frozen=True, slots=True, kw_only=True)
class Prices:
    """
    What the search pays, in one currency.

    Only differences matter. The strict order of the objective decides between plans
    that were found; prices only lead the search.
    """

    #: A minute off the air and a watt-hour not served, in the lowest tier; in each
    #: tier above it this many times as much.
    minute: float = 1.0
    wh: float = 0.02
    tier_ratio: float = 8.0
    #: A watt-hour taken from below the reserve and the slack that a relief wants.
    reserve_wh: float = 0.1
    #: One stop of a walk, and one battery put on or taken off a bay or a spares' rack.
    stop: float = 0.3
    bay_change: float = 0.02
    #: Share of a stop that is saved where one round does it with another, if it lies
    #: just right; the less, the more either has to be moved for that.
    together: float = 0.8
    #: A watt-hour from an engine.
    engine_wh: float = 2e-5
    #: A full battery's charge at the end.
    left: float = 0.01
    #: A minute on low power, in minutes off the air of its tier; and of a tier that has
    #: another below, which must not gain by it.
    low: float = 0.03
    low_above: float = 0.15


@dataclass(frozen=True, slots=True, kw_only=True)
class Timetable:
    """A problem on arrays."""

    problem: Problem
    stations: tuple[str, ...]
    bays: tuple[str, ...]
    batteries: tuple[str, ...]
    #: Minutes, shape (P + 1,).
    points: IntArray
    #: The station of each seat: first one for each, then those on low power. (N,)
    seat_at: IntArray
    #: Energy asked of batteries, and what serving all of it is worth. shape (N, P)
    need_wh: FloatArray
    worth: FloatArray
    #: What a watt-hour from below reserve costs. shape (N,)
    reserve_price: FloatArray
    #: Of a stop by day, and of one at each station and point. shape (S, P + 1)
    stop_price: float
    stop_prices: FloatArray
    #: What of it one round to two may save, and minutes between stations. shape (S, S)
    together: float
    between_min: IntArray
    bay_price: float
    left_price: float
    #: Of a watt from each source all through an interval. shape (Q, P)
    watt_price: FloatArray
    #: What charges a battery in a seat, and for how long. [Wh], [h], shape (N, P)
    surplus_wh: FloatArray
    surplus_h: FloatArray
    #: How a battery takes it: as `bulk`, `tail` and `taper_h`. shape (3, N, B)
    takes: FloatArray
    #: Feeds; the reserve is with the slack that a relief wants. shape (N, B)
    holds_wh: FloatArray
    floor: FloatArray
    reserve: FloatArray
    #: Charging in shares of the battery an hour, shape (Y, B); watts for a share an
    #: hour, shape (B,).
    bulk: FloatArray
    tail: FloatArray
    taper_h: FloatArray
    w_per_rate: FloatArray
    #: Power. shapes (Y, P), (Y,), (Q, P)
    is_on: BoolArray
    source_of: IntArray
    most_w: FloatArray
    #: Whether all on a source get what it has when that is less than they ask for,
    #: as from panels. shape (Q,)
    is_shared: BoolArray
    #: What its store holds at the start and can hold, shape (Q,), and what fills it,
    #: shape (Q, P).
    store_wh: FloatArray
    store_most: FloatArray
    fills_wh: FloatArray
    #: Whether somebody watches the yard, shape (P + 1,).
    watched: BoolArray
    #: Walks: minutes, shape (S,); whether a crew is on duty for one that is at the
    #: station at a point, shape (S, P + 1); crews on duty each minute.
    walk_min: IntArray
    duty: BoolArray
    crews: IntArray
    #: The last point to be in the yard before being there at a point, and the first
    #: point in the yard after leaving, rested if batteries rest before they charge;
    #: -1: none. shape (S, P + 1)
    out_from: IntArray
    back_at: IntArray
    #: Racks for spares: their stations, how many they hold, and whether operators
    #: are there to swap. shapes (R,), (R,), (R, P + 1)
    rack_at: IntArray
    rack_room: IntArray
    swaps: BoolArray
    #: Where each may be in each interval. shape (B, 1 + N + Y + R, P)
    may: BoolArray
    #: Whether any crew can carry it; else it stays where it was set up. shape (B,)
    moves: BoolArray
    #: Where batteries start and with what. shape (B,)
    start_at: IntArray
    start_soc: FloatArray

    @property
    def count(self) -> int:
        """How many intervals."""
        return self.points.size - 1

    @property
    def places(self) -> int:
        """How many places."""
        return self.first_rack + self.rack_at.size

    @property
    def seats(self) -> int:
        """How many seats."""
        return self.seat_at.size

    @property
    def cells(self) -> int:
        """Batteries × places × intervals."""
        return len(self.batteries) * self.places * self.count

    @property
    def first_rack(self) -> int:
        """The number of the first rack for spares."""
        return 1 + self.seats + len(self.bays)

    def station_of(self, place: int) -> int:
        """The station at which a battery in a place is, in use or not; -1: none."""
        if 1 <= place <= self.seats:
            return int(self.seat_at[place - 1])
        rack = place - self.first_rack
        return int(self.rack_at[rack]) if rack >= 0 else -1


def number_of(
    problem: Problem, place: str, seats: int, *, is_spare: bool = False
) -> int:
    """The number of a place in a timetable; 0: the yard."""
    if is_spare and place in problem.stations:
        racks = racks_of(problem)
        first = 1 + seats + len(problem.bays)
        return first + racks.index(place) if place in racks else 0
    if place in problem.stations:
        return 1 + list(problem.stations).index(place)
    if place in problem.bays:
        return 1 + seats + list(problem.bays).index(place)
    return 0


def places_of(
    table: Timetable, legs: Sequence[Leg], steps: Sequence[Pin] = ()
) -> IntArray:
    """
    Where each battery is in each interval of a plan. shape (B, P)

    Every time of the plan's bars and of its steps must be a point; a walk need not.
    """
    numbers = {key: n for n, key in enumerate(table.batteries)}
    at = np.zeros((len(table.batteries), table.count), dtype=np.int64)
    for leg in legs:
        row = at[numbers[leg.battery]]
        first = int(np.searchsorted(table.points, leg.start_min, side="left"))
        last = int(np.searchsorted(table.points, leg.end_min, side="left"))
        if leg.kind in (SERVE, CHARGE) or leg.station:
            is_spare = leg.kind == WAIT
            row[first:last] = number_of(
                table.problem, leg.place, table.seats, is_spare=is_spare
            )
    for step in steps:
        _sit_down(table, step, at)
    for number in range(len(table.batteries)):
        _mark_ways(table, at[number])
    return at


def _sit_down(table: Timetable, step: Pin, at: IntArray) -> None:
    """Put who feeds a station in its seat on low power, between a step's times."""
    station = table.stations.index(step.place)
    low = np.flatnonzero(table.seat_at[len(table.stations) :] == station)
    if not low.size:
        return
    seat = 1 + len(table.stations) + int(low[0])
    first, last = np.searchsorted(table.points, (step.start_min, step.end_min))
    there = at[:, first:last]
    there[(there == 1 + station) & table.may[:, seat, first:last]] = seat


def steps_of(table: Timetable, at: IntArray) -> tuple[Pin, ...]:
    """When stations are on low power in a table; see `Scenario.steps`."""
    found = []
    for seat in range(len(table.stations), table.seats):
        is_low = np.concatenate([[False], (at == 1 + seat).any(axis=0), [False]])
        edges = np.flatnonzero(np.diff(is_low.astype(int)))
        key = table.stations[table.seat_at[seat]]
        for first, last in zip(edges[::2], edges[1::2], strict=True):
            start, end = int(table.points[first]), int(table.points[last])
            found.append(Pin(kind=LOW, place=key, start_min=start, end_min=end))
    return tuple(found)


def keeping(table: Timetable, at: IntArray, until_min: int) -> Timetable:
    """
    Return the timetable with everything before a minute kept as a plan has it.

    A walk that is under way then is kept to its end.
    """
    may = table.may.copy()
    first = int(np.searchsorted(table.points, until_min, side="left"))
    for battery, row in enumerate(at):
        last = min(first, table.count)
        while 0 < last < table.count and ON_THE_WAY in (row[last - 1], row[last]):
            last += 1
        for i in range(last):
            may[battery, :, i] = False
        for i in range(last):
            place = max(int(row[i]), 0)
            if 0 < place <= table.seats:
                there = table.seat_at == table.seat_at[place - 1]
                may[:, 1 : 1 + table.seats, i][:, there] = False
            elif 0 < place < table.first_rack:
                may[:, place, i] = False
            may[battery, place, i] = True
    return replace(table, may=may)


def _mark_ways(table: Timetable, row: IntArray) -> None:
    """Mark the intervals in which a battery is not in the yard though not placed."""
    for i in range(1, table.count):
        before, now = table.station_of(int(row[i - 1])), row[i]
        if before >= 0 and now == 0:
            back = int(table.back_at[before, i])
            row[i : max(back, i)] = np.where(
                row[i : max(back, i)] == 0, ON_THE_WAY, row[i : max(back, i)]
            )
    for i in range(table.count - 1, 0, -1):
        station = table.station_of(int(row[i]))
        if station >= 0 and row[i - 1] == 0:
            out = int(table.out_from[station, i])
            row[out:i] = np.where(row[out:i] == 0, ON_THE_WAY, row[out:i])


def racks_of(problem: Problem) -> list[str]:
    """Stations at which spares may wait."""
    return [key for key, one in problem.stations.items() if one.spares]
