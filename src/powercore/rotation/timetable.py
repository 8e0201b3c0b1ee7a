"""
The search's view of a problem: points in time, and numbers between them on arrays.

Batteries change places at points only. Between points energy is counted exactly as
the verifier counts it, so points may lie as far apart as one likes: they say when
somebody may walk, not how the physics is cut. Plain numpy; the compiled search is
in `tours`.

Places are numbered: 0 is the yard, then the seats at stations, then the bays, then the
racks for spares at stations that have one. Each station has a seat: a battery in it
feeds the station as agreed. Where the search may choose low power, a station with a
lower step has another one: who sits there feeds it on that step. Seats of one station
exclude each other, and operators change between them. Shapes: P intervals (P + 1
points), S stations, N seats, Y bays, R racks, Q sources, B batteries.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np

from powercore.event.problem import (
    CARRIED,
    CARRY_KG,
    CHARGE,
    SERVE,
    WAIT,
    YARD,
    Feed,
    Leg,
    Problem,
)
from powercore.event.scenario import AWAY, LOW, OF_STATIONS, BatteryPlan, Pin
from powercore.rotation.objective import NIGHT, SLACK_LATENESS
from powercore.sun.sources import ENGINES, SUN
from powercore.values import BoolArray, FloatArray, IntArray

#: Passes of the search without gain after which nothing more is expected.
PATIENCE = 10
#: On the way between the yard and a station.
ON_THE_WAY = -1
#: Low power that asks for less than this less is none. [W], [Wh]
LEAST_W, LEAST_WH = 0.1, 1e-6
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


def timetable(
    problem: Problem,
    *,
    step_min: int = 30,
    prices: Prices | None = None,
    also: Iterable[int] = (),
    may_lower: bool = False,
) -> Timetable:
    """
    Lay out a problem for the search.

    Parameters
    ----------
    problem : Problem
        The event.
    step_min : int
        Distance of the regular points. [min]
    prices : Prices
        What leads the search.
    also : iterable of int
        Further points, such as those of a plan that is to be improved. [min]
    may_lower : bool
        Whether stations have a seat on low power as well.
    """
    prices = prices or Prices()
    points = _points(problem, step_min, also)
    stations, bays = list(problem.stations.values()), list(problem.bays.values())
    batteries = list(problem.batteries.values())
    seats = [(number, problem) for number in range(len(stations))]
    if may_lower:
        low, drawn_w = problem.all_low, problem.load_w
        seats += [
            (number, low)
            for number, one in enumerate(stations)
            if np.any(low.load_w[one.key] < drawn_w[one.key] - LEAST_W)
        ]
    shape = (len(seats), points.size - 1)
    need, worth, more, more_h = (np.zeros(shape) for _ in range(4))
    bottom = max((one.tier for one in stations), default=1)
    reserve_price = np.full(len(seats), prices.reserve_wh)
    edges = problem.grid.edges_min

    def between(sums: FloatArray) -> FloatArray:
        return np.diff(np.interp(points, edges, sums))

    for seat, (number, served) in enumerate(seats):
        one = stations[number]
        scale = one.weight * prices.tier_ratio ** (bottom - one.tier)
        need[seat] = between(served.asked_wh[one.key])
        drawn, opened = (
            between(series[one.key]) for series in (problem.drawn_wh, problem.open_min)
        )
        worth[seat] = scale * (prices.minute * opened + prices.wh * drawn)
        if served is not problem:
            price = prices.low if one.tier == bottom else prices.low_above
            worth[seat] -= scale * prices.minute * price * opened
        watts = served.surplus_w[one.key]
        lasts = np.where(watts > 0, 1.0, 0.0)
        for row, series in ((more, watts), (more_h, lasts)):
            row[seat] = between(problem.grid.cumulative_wh(series))
    seat_at = np.array([number for number, _ in seats], dtype=np.int64)
    feeds = [
        [problem.feed(stations[number].key, b.key) for b in batteries]
        for number in seat_at
    ]
    models = [[problem.charge_model(y.key, b.key) for b in batteries] for y in bays]
    fields = [
        [problem.field_model(one.key, stations[number].key) for one in batteries]
        for number in seat_at
    ]
    walk = np.array([one.walk_min for one in stations], dtype=np.int64)
    sources = list(problem.sources.values())
    number_of = {source.key: number for number, source in enumerate(sources)}
    racks = [number for number, one in enumerate(stations) if one.spares]
    return Timetable(
        problem=problem,
        stations=tuple(problem.stations),
        bays=tuple(problem.bays),
        batteries=tuple(problem.batteries),
        points=points,
        seat_at=seat_at,
        need_wh=need,
        worth=worth,
        surplus_wh=more,
        surplus_h=more_h,
        takes=np.array(
            [
                _numbers(fields, batteries, lambda m, b: m.bulk / b.pack.trusted_ah),
                _numbers(fields, batteries, lambda m, b: m.tail / b.pack.trusted_ah),
                _numbers(fields, batteries, lambda m, _: m.taper_h),
            ]
        ),
        reserve_price=reserve_price,
        stop_price=prices.stop,
        stop_prices=np.where(
            _nights(problem, points), (1.0 + NIGHT) * prices.stop, prices.stop
        ),
        together=prices.together if _carries_two(problem) else 0.0,
        between_min=np.array(
            [[problem.between_min(a.key, b.key) for b in stations] for a in stations],
            dtype=np.int64,
        ).reshape(len(stations), len(stations)),
        bay_price=prices.bay_change,
        left_price=prices.left,
        watt_price=np.outer(
            [prices.engine_wh * (one.kind in ENGINES) for one in sources],
            np.diff(points) / 60,
        ).reshape(len(sources), points.size - 1),
        holds_wh=_numbers(feeds, batteries, lambda feed, _: feed.capacity_wh),
        floor=_numbers(feeds, batteries, lambda feed, _: feed.floor_soc),
        reserve=_wanted(problem, feeds, seat_at),
        bulk=_numbers(models, batteries, lambda m, b: m.bulk / b.pack.trusted_ah),
        tail=_numbers(models, batteries, lambda m, b: m.tail / b.pack.trusted_ah),
        taper_h=_numbers(models, batteries, lambda m, _: m.taper_h),
        w_per_rate=np.array(
            [problem.bay_w(one.key, one.pack.trusted_ah) for one in batteries]
        ),
        is_on=np.array(
            [[problem.source_is_on(y.source, p) for p in points[:-1]] for y in bays],
            dtype=bool,
        ).reshape(len(bays), points.size - 1),
        source_of=np.array([number_of[y.source] for y in bays], dtype=np.int64),
        most_w=_most_w(problem, points),
        is_shared=np.array([one.kind == SUN for one in sources], dtype=bool),
        store_most=np.array(
            [ENDLESS_WH if one.energy_wh is None else one.holds_wh for one in sources],
            dtype=float,
        ),
        fills_wh=np.array(
            [
                between(problem.grid.cumulative_wh(problem.fills_w[one.key]))
                for one in sources
            ]
        ).reshape(len(sources), points.size - 1),
        store_wh=np.array(
            [ENDLESS_WH if one.energy_wh is None else one.energy_wh for one in sources],
            dtype=float,
        ),
        watched=_watched(problem, points),
        walk_min=walk,
        duty=_duty(problem, points),
        crews=_crews(problem),
        **_ways(points, walk, problem),
        rack_at=np.array(racks, dtype=np.int64),
        rack_room=np.array([stations[s].spares for s in racks], dtype=np.int64),
        swaps=np.array(
            [
                [
                    problem.may_swap(stations[s].key, int(p))
                    and not problem.is_untouched(stations[s].key, int(p))
                    for p in points
                ]
                for s in racks
            ],
            dtype=bool,
        ).reshape(len(racks), points.size),
        may=_may(problem, points, seat_at, need),
        start_at=np.array(
            [_start(problem, one, len(seats)) for one in batteries], dtype=np.int64
        ),
        start_soc=np.array([one.start_soc for one in batteries], dtype=float),
    )


def _carries_two(problem: Problem) -> bool:
    """Whether one round may bring two of the usual batteries."""
    people = [one.people for one in problem.scenario.crews if one.does == "walks"]
    masses = [problem.mass_kg(key) for key in problem.batteries]
    if not people or not masses:
        return False
    return 2 * float(np.median(masses)) <= max(people) * CARRY_KG


def _wanted(
    problem: Problem, feeds: Sequence[Sequence[Feed]], seat_at: IntArray
) -> FloatArray:
    """The reserve, and above it what a station uses in the slack a relief wants."""
    hours = SLACK_LATENESS * problem.scenario.lateness_min / 60
    wanted = np.zeros((len(feeds), len(problem.batteries)))
    keys = list(problem.stations)
    for number, (row, station) in enumerate(zip(feeds, seat_at, strict=True)):
        watts = problem.demand_w[keys[station]]
        mean_w = float(watts[watts > 0].mean()) if (watts > 0).any() else 0.0
        for battery, feed in enumerate(row):
            more = hours * mean_w / feed.capacity_wh
            wanted[number, battery] = min(feed.reserve_soc + more, 1.0)
    return wanted


def _numbers(
    rows: Sequence[Sequence[Any]], batteries: Sequence[Any], of: Any
) -> FloatArray:
    table = [[of(x, b) for x, b in zip(row, batteries, strict=True)] for row in rows]
    return np.array(table, dtype=float).reshape(len(rows), len(batteries))


def _points(problem: Problem, step_min: int, also: Iterable[int]) -> IntArray:
    span = problem.span_min
    points = {0, span, *range(0, span, step_min), *also}
    for source in problem.sources.values():
        for window in source.windows:
            points |= {window.start_min, window.end_min}
    for window in problem.scenario.watches:
        points |= {window.start_min, window.end_min}
    for pin in (*problem.scenario.pins, *problem.scenario.steps):
        points |= {pin.start_min, pin.end_min}
    return np.array(sorted(p for p in points if 0 <= p <= span), dtype=np.int64)


def _most_w(problem: Problem, points: IntArray) -> FloatArray:
    """What each source gives at the most; panels, what they give on average. (Q, P)"""
    rows = np.zeros((len(problem.sources), points.size - 1))
    edges, hours = problem.grid.edges_min, np.diff(points) / 60
    for number, (key, source) in enumerate(problem.sources.items()):
        rows[number] = source.max_w
        if source.kind == SUN:
            watts = np.minimum(problem.yard_sun_w[key], source.max_w)
            sums = problem.grid.cumulative_wh(watts)
            rows[number] = np.diff(np.interp(points, edges, sums)) / hours
    return rows


def _watched(problem: Problem, points: IntArray) -> BoolArray:
    return np.array([problem.is_watched(int(p)) for p in points], dtype=bool)


def _minded(problem: Problem, points: IntArray, bay: str) -> BoolArray:
    """Intervals in which a bay has no power, or somebody watches it. shape (P,)"""
    minded = np.ones(points.size - 1, dtype=bool)
    for window in problem.unminded[bay]:
        minded &= (points[1:] <= window.start_min) | (points[:-1] >= window.end_min)
    return minded


def _duty(problem: Problem, points: IntArray) -> BoolArray:
    table = [
        [problem.may_walk(key, int(point)) for point in points]
        for key in problem.stations
    ]
    return np.array(table, dtype=bool).reshape(len(problem.stations), points.size)


def _nights(problem: Problem, points: IntArray) -> BoolArray:
    """Whether a walk that is at a station at a point is in the dark. (S, P + 1)"""
    table = [
        [problem.is_night(int(p) - one.walk_min, int(p) + one.walk_min) for p in points]
        for one in problem.stations.values()
    ]
    return np.array(table, dtype=bool).reshape(len(problem.stations), points.size)


def _crews(problem: Problem) -> IntArray:
    """How many crews are on duty in each minute; who is alone, only by day."""
    step = problem.grid.step_min
    is_dark = np.repeat(problem.dark, step)[: problem.span_min]
    alone = ~is_dark if problem.scenario.two_at_night else np.ones_like(is_dark)
    on = {
        crew.name: np.zeros(problem.span_min, dtype=bool)
        for crew in problem.scenario.crews
        if crew.does == "walks"
    }
    for crew in problem.scenario.crews:
        if crew.does == "walks":
            during = slice(max(0, crew.start_min), max(0, crew.end_min))
            on[crew.name][during] |= crew.people > 1 or alone[during]
    total = np.zeros(problem.span_min, dtype=np.int64)
    for row in on.values():
        total += row
    return total


def _ways(points: IntArray, walk: IntArray, problem: Problem) -> dict[str, IntArray]:
    leave, come = points[None, :] - walk[:, None], points[None, :] + walk[:, None]
    out = np.searchsorted(points, leave, side="right") - 1
    rested = np.minimum(come + problem.scenario.settle_min, problem.span_min)
    back = np.searchsorted(points, rested, side="left")
    return {
        "out_from": np.where(leave >= 0, out, -1).astype(np.int64),
        "back_at": np.where(come <= problem.span_min, back, -1).astype(np.int64),
    }


def _may(
    problem: Problem, points: IntArray, seat_at: IntArray, need_wh: FloatArray
) -> BoolArray:
    count, seats = points.size - 1, seat_at.size
    racks = _racks(problem)
    minded = {bay: _minded(problem, points, bay) for bay in problem.bays}
    first_rack = 1 + seats + len(problem.bays)
    places = first_rack + len(racks)
    may = np.ones((len(problem.batteries), places, count), dtype=bool)
    for number, (key, battery) in enumerate(problem.batteries.items()):
        if battery.is_on_hold:
            may[number, 1:] = False
            continue
        for place, station in enumerate(problem.stations, start=1):
            may[number, place] = problem.feed(station, key).refusal is None
        for place, bay in enumerate(problem.bays, start=1 + seats):
            may[number, place] = problem.bay_refusal(bay, key) is None
            if problem.needs_watch(bay, key):
                may[number, place] &= minded[bay]
        for place, station in enumerate(racks, start=first_rack):
            may[number, place] = problem.feed(station, key).refusal is None
    for number, battery in enumerate(problem.batteries.values()):
        place = _start(problem, battery, seats)
        if place and not battery.is_spare:
            may[:, place, 0] = False
        if place:
            may[number, place, 0] = True
        if battery.start_place in problem.bays and not battery.is_on_hold:
            # What charges there goes on until somebody comes.
            may[number, place, points[:-1] < problem.first_watch_min] = True
    for pin in problem.scenario.pins:
        _keep_pin(problem, points, seats, pin, may)
    for seat in range(len(problem.stations), seats):
        # As in the other seat there, while that asks for more.
        station = seat_at[seat]
        is_less = need_wh[seat] < need_wh[station] - LEAST_WH
        may[:, 1 + seat] = may[:, 1 + station] & is_less
    return may


def _keep_pin(
    problem: Problem, points: IntArray, seats: int, pin: Pin, may: BoolArray
) -> None:
    """Leave only what a pin allows; walks are a matter of `duty`."""
    if pin.kind in OF_STATIONS:
        return
    first = int(np.searchsorted(points, pin.start_min, side="left"))
    last = int(np.searchsorted(points, pin.end_min, side="left"))
    place = _number(problem, pin.place, seats)
    keys = list(problem.batteries)
    own = keys.index(pin.battery) if pin.battery else slice(None)
    if pin.kind == AWAY:
        may[own, place, first:last] = False
        if pin.place in _racks(problem):
            rack = _number(problem, pin.place, seats, is_spare=True)
            may[own, rack, first:last] = False
        return
    could = may[own, place, first:last].copy()
    may[own, :, first:last] = False
    may[:, place, first:last] = False
    may[own, place, first:last] = could


def _start(problem: Problem, battery: BatteryPlan, seats: int) -> int:
    if battery.is_on_hold:
        return 0
    return _number(problem, battery.start_place, seats, is_spare=battery.is_spare)


def _racks(problem: Problem) -> list[str]:
    """Stations at which spares may wait."""
    return [key for key, one in problem.stations.items() if one.spares]


def _number(problem: Problem, place: str, seats: int, *, is_spare: bool = False) -> int:
    if is_spare and place in problem.stations:
        racks = _racks(problem)
        first = 1 + seats + len(problem.bays)
        return first + racks.index(place) if place in racks else 0
    if place in problem.stations:
        return 1 + list(problem.stations).index(place)
    if place in problem.bays:
        return 1 + seats + list(problem.bays).index(place)
    return 0


# --- plans and tables -------------------------------------------------------------


def places_of(
    table: Timetable, legs: Sequence[Leg], steps: Sequence[Pin] = ()
) -> IntArray:
    """
    Where each battery is in each interval of a plan. shape (B, P)

    Every time of the plan's bars and of its steps must be a point; a walk need not.
    """
    number_of = {key: n for n, key in enumerate(table.batteries)}
    at = np.zeros((len(table.batteries), table.count), dtype=np.int64)
    for leg in legs:
        row = at[number_of[leg.battery]]
        first = int(np.searchsorted(table.points, leg.start_min, side="left"))
        last = int(np.searchsorted(table.points, leg.end_min, side="left"))
        if leg.kind in (SERVE, CHARGE) or leg.station:
            is_spare = leg.kind == WAIT
            row[first:last] = _number(
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


class NoCrewLeft(Exception):
    """The walks of a table don't fit the crews' duties."""


def legs_of(table: Timetable, at: IntArray) -> tuple[Leg, ...]:
    """
    Return a table of places as a plan in whole minutes, with crews and rounds.

    Raises
    ------
    NoCrewLeft
        If no crew is left for one of the walks.
    """
    problem, points = table.problem, table.points
    stays: dict[int, list[tuple[int, int, int]]] = {}
    for number, row in enumerate(at):
        changes = [0, *(np.flatnonzero(np.diff(row)) + 1).tolist(), table.count]
        stays[number] = [
            (int(row[a]), int(points[a]), int(points[b]))
            for a, b in pairwise(changes)
            if row[a] > 0
        ]
    stops = sorted(
        {
            (minute, station)
            for life in stays.values()
            for station, start, end in _visits(table, life)
            for minute in (start, end)
            if 0 < minute < problem.span_min
        }
    )
    rounds = _manned(table, stops)
    legs: list[Leg] = []
    for number, life in stays.items():
        battery = problem.batteries[table.batteries[number]]
        if not battery.is_on_hold:
            legs += _life(table, battery.key, life, rounds)
    return tuple(legs)


def _visits(
    table: Timetable, life: Sequence[tuple[int, int, int]]
) -> list[tuple[int, int, int]]:
    """Stations a battery is at and from when to when, in use or as a spare."""
    found: list[tuple[int, int, int]] = []
    for place, start, end in life:
        station = table.station_of(place)
        if station < 0:
            continue
        if found and found[-1][0] == station and found[-1][2] == start:
            start = found.pop()[1]
        found.append((station, start, end))
    return found


def _manned(
    table: Timetable, stops: Sequence[tuple[int, int]]
) -> dict[tuple[int, int], tuple[str, int]]:
    """
    A crew and a number for each stop.

    Whoever is free and alone goes first, then who goes off duty first.
    """
    free_at: dict[str, int] = {}
    given = {}
    by_leaving = sorted(
        stops, key=lambda stop: (stop[0] - table.walk_min[stop[1]], stop)
    )
    for number, (minute, station) in enumerate(by_leaving, start=1):
        walk = int(table.walk_min[station])
        able = [
            crew
            for crew in table.problem.crews_for(minute - walk, minute + walk)
            if free_at.get(crew.name, 0) <= minute - walk
        ]
        if not able:
            raise NoCrewLeft(f"at minute {minute}")
        crew = min(able, key=lambda crew: (crew.people > 1, crew.end_min, crew.name))
        free_at[crew.name] = minute + walk
        given[minute, station] = (crew.name, number)
    return given


def _life(
    table: Timetable,
    key: str,
    life: Sequence[tuple[int, int, int]],
    rounds: dict[tuple[int, int], tuple[str, int]],
) -> list[Leg]:
    first_bay, span = 1 + table.seats, table.problem.span_min
    visits = _visits(table, life)
    came = {(station, start) for station, start, _ in visits}
    leaves = {(station, end) for station, _, end in visits}
    legs: list[Leg] = []
    now = 0
    for place, start, end in life:
        station = table.station_of(place)
        if station < 0:
            legs += _wait(key, now, start)
            legs.append(_leg(CHARGE, key, table.bays[place - first_bay], start, end))
            now = end
            continue
        walk = int(table.walk_min[station])
        if start > 0 and (station, start) in came:
            crew, number = rounds[start, station]
            legs += _wait(key, now, start - walk)
            legs.append(_carried(key, start - walk, start, crew, number))
        kind = SERVE if place < first_bay else WAIT
        if (
            legs
            and now == start
            and (legs[-1].kind, legs[-1].place)
            == (
                kind,
                table.stations[station],
            )
        ):
            start = legs.pop().start_min  # the other seat there
        legs.append(_leg(kind, key, table.stations[station], start, end))
        now = end
        if end < span and (station, end) in leaves:
            crew, number = rounds[end, station]
            now = min(end + walk, span)
            legs.append(_carried(key, end, now, crew, number))
    return legs + _wait(key, now, span)


def _leg(kind: str, key: str, place: str, start: int, end: int) -> Leg:
    return Leg(kind=kind, battery=key, place=place, start_min=start, end_min=end)


def _wait(key: str, start: int, end: int) -> list[Leg]:
    return [_leg(WAIT, key, YARD, start, end)] if end > start else []


def _carried(key: str, start: int, end: int, crew: str, number: int) -> Leg:
    return Leg(
        kind=CARRIED,
        battery=key,
        place="",
        start_min=start,
        end_min=end,
        crew=crew,
        round=number,
    )
