"""A problem laid out as a timetable."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np

from powercore.event.plans import AWAY, OF_STATIONS, BatteryPlan, Pin
from powercore.event.problem import CARRY_KG, Feed, Problem
from powercore.physics.charging import ChargeModel
from powercore.rotation.objective import NIGHT, SLACK_LATENESS
from powercore.rotation.timetable.table import (
    ENDLESS_WH,
    Prices,
    Timetable,
    number_of,
    racks_of,
)
from powercore.sun.sources import ENGINES, SUN
from powercore.values import BoolArray, FloatArray, IntArray

#: Low power that asks for less than this less is none. [W], [Wh]
LEAST_W, LEAST_WH = 0.1, 1e-6


def timetable(
    problem: Problem,
    *,
    step_min: int = 30,
    prices: Prices | None = None,
    extra: Iterable[int] = (),
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
    extra : iterable of int
        Further points, such as those of a plan that is to be improved. [min]
    may_lower : bool
        Whether stations have a seat on low power as well.
    """
    prices = prices or Prices()
    points = _points(problem, step_min, extra)
    seats = _seats(problem, may_lower=may_lower)
    served = _of_seats(problem, seats, points, prices)
    return Timetable(
        problem=problem,
        stations=tuple(problem.stations),
        bays=tuple(problem.bays),
        batteries=tuple(problem.batteries),
        points=points,
        stop_price=prices.stop,
        together=prices.together if _carries_two(problem) else 0.0,
        bay_price=prices.bay_change,
        left_price=prices.left,
        watched=_watched(problem, points),
        may=_may(problem, points, served["seat_at"], served["need_wh"]),
        **served,
        **_of_batteries(problem, served["seat_at"]),
        **_of_bays(problem, points),
        **_of_sources(problem, points, prices),
        **_of_walks(problem, points, prices),
        **_of_racks(problem, points),
    )


#: Seats: the number of a station, and the event as it is served there.
_Seats = list[tuple[int, Problem]]


def _seats(problem: Problem, *, may_lower: bool) -> _Seats:
    """A seat at each station, and on low power where that makes a difference."""
    stations = list(problem.stations.values())
    seats = [(number, problem) for number in range(len(stations))]
    if may_lower:
        low, drawn_w = problem.all_low, problem.load_w
        seats += [
            (number, low)
            for number, one in enumerate(stations)
            if np.any(low.load_w[one.key] < drawn_w[one.key] - LEAST_W)
        ]
    return seats


def _between(problem: Problem, points: IntArray, sums: FloatArray) -> FloatArray:
    """What a sum over the grid's edges grows by in each interval."""
    return np.diff(np.interp(points, problem.grid.edges_min, sums))


def _of_seats(
    problem: Problem, seats: _Seats, points: IntArray, prices: Prices
) -> dict[str, Any]:
    """What is asked for at each seat, what that is worth, and what is left over."""
    stations = list(problem.stations.values())
    shape = (len(seats), points.size - 1)
    need, worth, more, more_h = (np.zeros(shape) for _ in range(4))
    bottom = max((one.tier for one in stations), default=1)
    for seat, (number, served) in enumerate(seats):
        one = stations[number]
        scale = one.weight * prices.tier_ratio ** (bottom - one.tier)
        need[seat] = _between(problem, points, served.asked_wh[one.key])
        drawn, opened = (
            _between(problem, points, series[one.key])
            for series in (problem.drawn_wh, problem.open_min)
        )
        worth[seat] = scale * (prices.minute * opened + prices.wh * drawn)
        if served is not problem:
            price = prices.low if one.tier == bottom else prices.low_above
            worth[seat] -= scale * prices.minute * price * opened
        watts = served.surplus_w[one.key]
        lasts = np.where(watts > 0, 1.0, 0.0)
        for row, series in ((more, watts), (more_h, lasts)):
            row[seat] = _between(problem, points, problem.grid.cumulative_wh(series))
    return {
        "seat_at": np.array([number for number, _ in seats], dtype=np.int64),
        "need_wh": need,
        "worth": worth,
        "surplus_wh": more,
        "surplus_h": more_h,
        "reserve_price": np.full(len(seats), float(prices.reserve_wh)),
    }


def _of_batteries(problem: Problem, seat_at: IntArray) -> dict[str, Any]:
    """What batteries hold at each seat, how they charge there, and how they start."""
    stations = list(problem.stations.values())
    batteries = list(problem.batteries.values())
    feeds = [
        [problem.feed(stations[number].key, b.key) for b in batteries]
        for number in seat_at
    ]
    fields = [
        [problem.field_model(one.key, stations[number].key) for one in batteries]
        for number in seat_at
    ]
    seats = len(seat_at)
    starts = [_start(problem, one, seats) for one in batteries]
    return {
        "holds_wh": _numbers(feeds, batteries, lambda feed, _: feed.capacity_wh),
        "floor": _numbers(feeds, batteries, lambda feed, _: feed.floor_soc),
        "reserve": _wanted(problem, feeds, seat_at),
        "takes": np.array(_rates(fields, batteries)),
        "w_per_rate": np.array(
            [problem.bay_w(one.key, one.pack.trusted_ah) for one in batteries]
        ),
        "moves": np.array(
            [problem.can_be_carried(one.key) for one in batteries], dtype=bool
        ),
        "start_at": np.array(starts, dtype=np.int64),
        "start_soc": np.array([one.start_soc for one in batteries], dtype=float),
    }


def _rates(
    models: Sequence[Sequence[ChargeModel]], batteries: Sequence[BatteryPlan]
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Charging as shares of a battery an hour, at most and in the tail; the taper."""
    return (
        _numbers(models, batteries, lambda m, b: m.bulk / b.pack.trusted_ah),
        _numbers(models, batteries, lambda m, b: m.tail / b.pack.trusted_ah),
        _numbers(models, batteries, lambda m, _: m.taper_h),
    )


def _of_bays(problem: Problem, points: IntArray) -> dict[str, Any]:
    """How each battery charges on each bay, and when that has power."""
    bays, batteries = list(problem.bays.values()), list(problem.batteries.values())
    models = [[problem.charge_model(y.key, b.key) for b in batteries] for y in bays]
    number_of_source = {key: number for number, key in enumerate(problem.sources)}
    bulk, tail, taper_h = _rates(models, batteries)
    return {
        "bulk": bulk,
        "tail": tail,
        "taper_h": taper_h,
        "is_on": np.array(
            [[problem.source_is_on(y.source, p) for p in points[:-1]] for y in bays],
            dtype=bool,
        ).reshape(len(bays), points.size - 1),
        "source_of": np.array(
            [number_of_source[y.source] for y in bays], dtype=np.int64
        ),
    }


def _of_sources(problem: Problem, points: IntArray, prices: Prices) -> dict[str, Any]:
    """What sources give, hold and are filled with."""
    sources = list(problem.sources.values())
    shape = len(sources), points.size - 1
    endless = [one.energy_wh is None for one in sources]
    return {
        "watt_price": np.outer(
            [prices.engine_wh * (one.kind in ENGINES) for one in sources],
            np.diff(points) / 60,
        ).reshape(shape),
        "most_w": _most_w(problem, points),
        "is_shared": np.array([one.kind == SUN for one in sources], dtype=bool),
        "store_most": np.where(
            endless, ENDLESS_WH, np.array([one.holds_wh for one in sources], float)
        ),
        "fills_wh": np.array(
            [
                _between(
                    problem, points, problem.grid.cumulative_wh(problem.fills_w[key])
                )
                for key in problem.sources
            ]
        ).reshape(shape),
        "store_wh": np.array(
            [ENDLESS_WH if one.energy_wh is None else one.energy_wh for one in sources],
            dtype=float,
        ),
    }


def _of_walks(problem: Problem, points: IntArray, prices: Prices) -> dict[str, Any]:
    """How long walks take, when they may be, and what a stop costs."""
    stations = list(problem.stations.values())
    walk = np.array([one.walk_min for one in stations], dtype=np.int64)
    return {
        "stop_prices": np.where(
            _nights(problem, points), (1.0 + NIGHT) * prices.stop, prices.stop
        ),
        "between_min": np.array(
            [[problem.between_min(a.key, b.key) for b in stations] for a in stations],
            dtype=np.int64,
        ).reshape(len(stations), len(stations)),
        "walk_min": walk,
        "duty": _duty(problem, points),
        "crews": _crews(problem),
        **_ways(points, walk, problem),
    }


def _of_racks(problem: Problem, points: IntArray) -> dict[str, Any]:
    """Where spares may wait, how many, and when operators may swap them."""
    stations = list(problem.stations.values())
    racks = [number for number, one in enumerate(stations) if one.spares]
    return {
        "rack_at": np.array(racks, dtype=np.int64),
        "rack_room": np.array([stations[s].spares for s in racks], dtype=np.int64),
        "swaps": np.array(
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
    }


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


def _points(problem: Problem, step_min: int, extra: Iterable[int]) -> IntArray:
    span = problem.span_min
    points = {0, span, *range(0, span, step_min), *extra}
    for source in problem.sources.values():
        for window in source.windows:
            points |= {window.start_min, window.end_min}
    for window in problem.watches:
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
    racks = racks_of(problem)
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
    if problem.scenario.is_under_way:
        _carry_all(problem, seats, may)
    for pin in problem.scenario.pins:
        _keep_pin(problem, points, seats, pin, may)
    for seat in range(len(problem.stations), seats):
        # As in the other seat there, while that asks for more.
        station = seat_at[seat]
        is_less = need_wh[seat] < need_wh[station] - LEAST_WH
        may[:, 1 + seat] = may[:, 1 + station] & is_less
    return may


def _carry_all(problem: Problem, seats: int, may: BoolArray) -> None:
    """Let nothing be at a station in the first interval but what was there before."""
    first_bay, first_rack = 1 + seats, 1 + seats + len(problem.bays)
    for number, battery in enumerate(problem.batteries.values()):
        own = [_start(problem, battery, seats)]
        if battery.is_spare and not battery.is_on_hold:
            own.append(number_of(problem, battery.start_place, seats))
        could = may[number, own, 0]
        may[number, 1:first_bay, 0] = False
        may[number, first_rack:, 0] = False
        may[number, own, 0] = could


def _keep_pin(
    problem: Problem, points: IntArray, seats: int, pin: Pin, may: BoolArray
) -> None:
    """Leave only what a pin allows; walks are a matter of `duty`."""
    if pin.kind in OF_STATIONS:
        return
    first = int(np.searchsorted(points, pin.start_min, side="left"))
    last = int(np.searchsorted(points, pin.end_min, side="left"))
    place = number_of(problem, pin.place, seats)
    keys = list(problem.batteries)
    own = keys.index(pin.battery) if pin.battery else slice(None)
    if pin.kind == AWAY:
        may[own, place, first:last] = False
        if pin.place in racks_of(problem):
            rack = number_of(problem, pin.place, seats, is_spare=True)
            may[own, rack, first:last] = False
        return
    could = may[own, place, first:last].copy()
    may[own, :, first:last] = False
    may[:, place, first:last] = False
    may[own, place, first:last] = could


def _start(problem: Problem, battery: BatteryPlan, seats: int) -> int:
    if battery.is_on_hold:
        return 0
    return number_of(problem, battery.start_place, seats, is_spare=battery.is_spare)
