"""
Tours: one battery's whole life as one object, found by a compiled shortest path.

With all other batteries fixed, the best life of one is a longest path over points
in time × places × charge. Charge is cut into buckets, and each bucket keeps its best
life with that life's exact charge, so nothing is lost by rounding and every tour
found can be carried out as it is. Loads and charging follow the verifier's physics.

Ruin and recreate over tours then improves a whole plan: some related batteries are
taken out and put back one by one, each by its best tour. All but the last are put
back at a low price of energy; else each snatches what it can get, and walks never
become fewer. Deterministic for a seed and a number of rounds.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar, cast

import numba
import numpy as np

from powercore.rotation.polish.rounds import NEAR_MIN
from powercore.rotation.timetable import ON_THE_WAY, Timetable
from powercore.values import BoolArray, FloatArray, IntArray

_TINY = 1e-9
#: Reasons of a node in the backward walk.
_STAY, _OUT, _BACK, _ON, _START, _SWAP = 1, 2, 3, 4, 5, 6
_NEVER, _DEAD = -1e18, -1e17
#: Stops of one round, at the most, that the search counts on.
MOST_STOPS = 3
#: A source with less than this has a store. [Wh]
_STORE = 1e11


class Arrays(NamedTuple):
    """A timetable's arrays, as the compiled search takes them; see `Timetable`."""

    points: IntArray
    seat_at: IntArray
    #: The station of each place, -1 where it is at none, and last of who is on the way;
    #: the places at each station: seat, seat on low power, rack; -1: none. shape (S, 3)
    station_at: IntArray
    mates: IntArray
    need_wh: FloatArray
    worth: FloatArray
    reserve_price: FloatArray
    stop_prices: FloatArray
    #: Of a stop by day, of putting a battery on a bay or a rack or taking it off, of
    #: a full battery at the end, and what is saved by one round to two. shape (4,)
    prices: FloatArray
    between_min: IntArray
    surplus_wh: FloatArray
    surplus_h: FloatArray
    takes: FloatArray
    holds_wh: FloatArray
    floor: FloatArray
    reserve: FloatArray
    bulk: FloatArray
    tail: FloatArray
    taper_h: FloatArray
    w_per_rate: FloatArray
    is_on: BoolArray
    source_of: IntArray
    most_w: FloatArray
    watt_price: FloatArray
    is_shared: BoolArray
    store_wh: FloatArray
    store_most: FloatArray
    fills_wh: FloatArray
    watched: BoolArray
    walk_min: IntArray
    duty: BoolArray
    crews: IntArray
    out_from: IntArray
    back_at: IntArray
    rack_at: IntArray
    rack_room: IntArray
    swaps: BoolArray
    may: BoolArray
    start_at: IntArray
    start_soc: FloatArray


class State(NamedTuple):
    """
    A whole table under way: every battery's tour, and what they leave for others.

    Shapes: B batteries, P intervals, S stations, Y bays, R racks, Q sources.
    """

    #: Where batteries are, (B, P), and with what, (B, P + 1).
    at: IntArray
    soc: FloatArray
    #: What they serve and take from below reserve, what their bays draw, and what
    #: of that they take from a store. (B, P)
    share: FloatArray
    below: FloatArray
    watts: FloatArray
    took: FloatArray
    #: 0 where nobody is, infinite where somebody is. (S, P) and (Y, P)
    rent_s: FloatArray
    rent_y: FloatArray
    #: How many wait as spares. (R, P)
    racked: IntArray
    #: What is left of each source, what all take from its store, what one more could
    #: take without anybody having less later, and what that store spills. (Q, P)
    power_w: FloatArray
    drawn: FloatArray
    store_wh: FloatArray
    spilt: FloatArray
    #: How many come to or leave a station at a point, (S, P + 1), and walks under
    #: way in each minute.
    stops: IntArray
    used: IntArray


def arrays_of(table: Timetable, *, together: float = 0.0) -> Arrays:
    """
    Return a timetable's arrays for the compiled search.

    `together` is the share of a stop that is saved by one round to two; bounds count
    each by itself.
    """
    prices = np.array([table.stop_price, table.bay_price, table.left_price, together])
    places = [*range(table.places), ON_THE_WAY]
    station_at = np.array([table.station_of(place) for place in places])
    mates = np.full((len(table.stations), 3), -1)
    for place in range(1, table.places):
        station = station_at[place]
        if station >= 0:
            is_rack, is_low = place >= table.first_rack, place > len(table.stations)
            mates[station, 2 if is_rack else int(is_low)] = place
    made = {"prices": prices, "station_at": station_at, "mates": mates}
    own = {name: getattr(table, name) for name in Arrays._fields if name not in made}
    return Arrays(**own, **made)


#: Fees of a tour; see `best_tour`.
Fees = tuple[FloatArray, FloatArray, FloatArray, FloatArray, FloatArray]
#: Room for one shortest path; see `workspace`.
Room = tuple[Any, ...]

_F = TypeVar("_F", bound=Callable[..., Any])


def compiled(function: _F) -> _F:
    """Compile a function, once for all processes."""
    return cast(_F, numba.njit(cache=True)(function))


@compiled
def charge_rate(soc: float, bulk: float, tail: float, taper_h: float) -> float:
    """Share of a battery stored an hour; 0 when it is full."""
    if soc >= 1.0:
        return 0.0
    return min(bulk, tail + (1.0 - soc) / taper_h)


@compiled
def charged(
    soc: float, hours: float, bulk: float, tail: float, taper_h: float
) -> float:
    """State of charge after some hours on a bay; as `ChargeModel.after`."""
    if bulk <= 0.0 or hours <= 0.0 or soc >= 1.0:
        return soc
    knee = 1.0 - taper_h * max(0.0, bulk - tail)
    bulk_h = max(0.0, (knee - soc) / bulk)
    if hours <= bulk_h:
        return soc + bulk * hours
    soc = max(soc, knee)
    if bulk <= tail:
        return min(1.0, soc + bulk * (hours - bulk_h))
    gap = 1.0 - soc + taper_h * tail
    gap *= math.exp(-(hours - bulk_h) / taper_h)
    return min(1.0, 1.0 + taper_h * tail - gap)


@compiled
def charge_on(
    soc: float,
    hours: float,
    bulk: float,
    tail: float,
    taper_h: float,
    w_per_rate: float,
    store_wh: float,
    most_w: float,
) -> tuple[float, float, float]:
    """
    Charge a battery on a bay whose source runs and has so much in its store.

    Returns
    -------
    after, watts, taken_wh : float
        Its charge then, what it asks for at first and gets of `most_w`, and what it
        takes out of the store; nothing is taken out of one without end.
    """
    watts = charge_rate(soc, bulk, tail, taper_h) * w_per_rate
    after = charged(soc, hours, bulk, tail, taper_h)
    wanted = (after - soc) * w_per_rate
    given = wanted
    if watts > most_w:
        given = min(given, max(0.0, most_w) * hours)
        watts = given / hours
    if store_wh < _STORE:
        given = min(given, max(0.0, store_wh))
    if given < wanted:
        after = soc + (after - soc) * given / wanted
    return after, watts, given if store_wh < _STORE else 0.0


@compiled
def store_left(q: int, t: Arrays, state: State) -> None:
    """
    Work out what one more could take from a store in each interval, and what it spills.

    Filled first, then taken from. What is taken comes back where it would have been
    spilt.
    """
    count = t.points.size - 1
    level = t.store_wh[q]
    if level >= _STORE:
        return
    for i in range(count):
        filled = level + t.fills_wh[q, i]
        level = min(t.store_most[q], filled)
        state.spilt[q, i] = filled - level
        level -= state.drawn[q, i]
        state.store_wh[q, i] = max(0.0, level)
    for i in range(count - 2, -1, -1):
        later = state.store_wh[q, i + 1] + state.spilt[q, i + 1]
        state.store_wh[q, i] = min(state.store_wh[q, i], later)


@compiled
def _relief(spilt: FloatArray, t: Arrays) -> FloatArray:
    """What every store takes back in each interval of what a tour has taken. (P,)"""
    found, is_any = np.full(spilt.shape[1], np.inf), False
    for q in range(spilt.shape[0]):
        if t.store_wh[q] < _STORE:
            is_any = True
            for i in range(found.size):
                found[i] = min(found[i], spilt[q, i])
    if not is_any:
        found[:] = 0.0
    return found


@compiled
def crew_is_free(minute: int, walk: int, used: IntArray, crews: IntArray) -> bool:
    """Whether one more walk that is at its station at a minute finds a crew."""
    first, last = max(0, minute - walk), min(used.size, minute + walk)
    return bool(np.all(used[first:last] < crews[first:last]))


@compiled
def saved(passed: float, way: float, together: float) -> float:
    """Share of a stop that is saved so long after another, so far away. [min]"""
    return together * max(0.0, 1.0 - abs(passed - way) / NEAR_MIN)


@compiled
def stop_prices(t: Arrays, state: State) -> FloatArray:
    """What a stop costs at each station and point: 0 where somebody comes anyway."""
    points, walk, duty, crews = t.points, t.walk_min, t.duty, t.crews
    stops, used, between, together = state.stops, state.used, t.between_min, t.prices[3]
    price = t.stop_prices
    found = np.empty(stops.shape)
    for s in range(stops.shape[0]):
        for i in range(stops.shape[1]):
            if stops[s, i] > 0:
                found[s, i] = 0.0
            elif duty[s, i] and crew_is_free(points[i], walk[s], used, crews):
                found[s, i] = price[s, i]
            else:
                found[s, i] = np.inf
    if together <= 0.0:
        return found
    # Less where a crew that is at another station about then could go on to it.
    for r in range(stops.shape[0]):
        for j in range(1, stops.shape[1]):
            if stops[r, j] == 0:
                continue
            for s in range(stops.shape[0]):
                most = NEAR_MIN + between[r, s]
                for way in (-1, 1):
                    i = j if way > 0 else j - 1
                    while 0 < i < points.size and abs(points[i] - points[j]) < most:
                        if s != r and 0.0 < found[s, i] < np.inf:
                            passed = abs(points[i] - points[j])
                            left = 1.0 - saved(passed, between[r, s], together)
                            found[s, i] = min(found[s, i], price[s, i] * left)
                        i += way
    return found


@compiled
def together_saves(t: Arrays, state: State) -> float:
    """What is saved by stops that one round could do together, up to three each."""
    points, stops, price, between = t.points, state.stops, t.stop_prices, t.between_min
    together, total, n = t.prices[3], 0.0, 0
    if together <= 0.0:
        return total
    at_s, at_i = np.zeros(stops.size, dtype=np.int64), np.zeros(stops.size, np.int64)
    for i in range(1, stops.shape[1]):
        for s in range(stops.shape[0]):
            if stops[s, i] > 0:
                at_s[n], at_i[n] = s, i
                n += 1
    length, goes_on = np.ones(n, dtype=np.int64), np.zeros(n, dtype=np.bool_)
    furthest = NEAR_MIN + np.max(between)
    for b in range(1, n):
        best, before = 0.0, -1
        for a in range(b - 1, -1, -1):
            passed = points[at_i[b]] - points[at_i[a]]
            if passed >= furthest:
                break
            if goes_on[a] or length[a] >= MOST_STOPS or at_s[a] == at_s[b]:
                continue
            stop = min(price[at_s[a], at_i[a]], price[at_s[b], at_i[b]])
            gain = saved(passed, between[at_s[a], at_s[b]], together) * stop
            if gain > best:
                best, before = gain, a
        if before >= 0:
            total += best
            goes_on[before], length[b] = True, length[before] + 1
    return total


@compiled
def serve(
    soc: float, need_wh: float, holds_wh: float, floor: float, reserve: float
) -> tuple[float, float, float]:
    """Charge after an interval at a station, the share served, Wh below reserve."""
    left = max(0.0, (soc - floor) * holds_wh)
    given = min(need_wh, left)
    after = soc - given / holds_wh
    share = 1.0 if need_wh <= left + _TINY else given / need_wh
    above = max(0.0, (soc - reserve) * holds_wh)
    return after, share, max(0.0, given - above)


@compiled
def topped_up(soc: float, b: int, s: int, i: int, t: Arrays) -> float:
    """Charge after what is left over at a seat in an interval has come in."""
    if t.surplus_wh[s, i] <= 0.0:
        return soc
    takes = t.takes
    most = soc + t.surplus_wh[s, i] / t.w_per_rate[b]
    full = charged(
        soc, t.surplus_h[s, i], takes[0, s, b], takes[1, s, b], takes[2, s, b]
    )
    return min(most, full)


@compiled
def _prune(values: FloatArray) -> None:
    """Less charge for less value is of no use."""
    top = _NEVER
    for k in range(values.size - 1, -1, -1):
        if values[k] <= top:
            values[k] = _NEVER
        else:
            top = values[k]


@compiled
def _leave(i: int, p: int, back: int, price: float, is_bound: bool, room: Room) -> None:
    """Leave a place at a point, to be in the yard then or at a later one."""
    a_val, a_soc, a_took, a_why, a_from = room[0], room[1], room[2], room[3], room[4]
    places, buckets = a_val.shape[1], a_val.shape[2]
    for k in range(buckets):
        value = a_val[i, p, k] - price
        if value > _DEAD and is_bound and a_val[back, 0, k] > _DEAD:
            a_val[back, 0, k] = max(a_val[back, 0, k], value)
            a_soc[back, 0, k] = max(a_soc[back, 0, k], a_soc[i, p, k])
            a_took[back, 0, k] = min(a_took[back, 0, k], a_took[i, p, k])
        elif value > a_val[back, 0, k]:
            room[10][back, 0] = True
            a_val[back, 0, k] = value
            a_soc[back, 0, k] = a_soc[i, p, k]
            a_took[back, 0, k] = a_took[i, p, k]
            a_why[back, 0, k] = _BACK
            a_from[back, 0, k] = (i * places + p) * buckets + k


@compiled
def _enter(
    i: int,
    p: int,
    origin: tuple[int, int],
    way: tuple[int, int],
    room: Room,
    cost: float,
    is_bound: bool,
) -> bool:
    """
    Be in a place through the next interval, from another where it was at a point.

    `origin` is that point and place; `way` is why, and what the backward walk is to
    know. False when nobody comes that way.
    """
    a_val, a_soc, a_took = room[0], room[1], room[2]
    o_val, o_soc, o_took, o_why, o_from = room[5], room[6], room[7], room[8], room[9]
    buckets, comes = a_val.shape[2], False
    j, q = origin
    for k in range(buckets):
        value = a_val[j, q, k] - cost
        if value > _DEAD and is_bound and o_val[p, k] > _DEAD:
            o_val[p, k] = max(o_val[p, k], value)
            o_soc[p, k] = max(o_soc[p, k], a_soc[j, q, k])
            o_took[p, k] = min(o_took[p, k], a_took[j, q, k])
        elif value > o_val[p, k]:
            comes = True
            o_val[p, k] = value
            o_soc[p, k] = a_soc[j, q, k]
            o_took[p, k] = a_took[j, q, k]
            o_why[i, p, k] = way[0]
            o_from[i, p, k] = way[1] * buckets + k
    return comes


@compiled
def workspace(count: int, places: int, buckets: int) -> Room:
    """Room for one shortest path, made once."""
    shape = (count + 1, places, buckets)
    return (
        np.full(shape, _NEVER),
        np.zeros(shape),
        np.zeros(shape),
        np.zeros(shape, dtype=np.int8),
        np.zeros(shape, dtype=np.int64),
        np.full((places, buckets), _NEVER),
        np.zeros((places, buckets)),
        np.zeros((places, buckets)),
        np.zeros(shape, dtype=np.int8),
        np.zeros(shape, dtype=np.int64),
        np.zeros((count + 1, places), dtype=np.bool_),
    )


@compiled
def best_tour(
    b: int,
    t: Arrays,
    factor: FloatArray,
    fees: Fees,
    left: tuple[FloatArray, FloatArray, FloatArray, IntArray],
    is_bound: bool,
    room: Room,
) -> tuple[IntArray, float]:
    """
    Best life of battery `b` at given prices.

    Parameters
    ----------
    t : Arrays
        The timetable.
    factor : float array, shape (S, P)
        What serving is worth now, as a share of its worth.
    fees : tuple of float arrays
        For being in use at a station and on a bay, shapes (S, P) and (Y, P); for
        coming to a station and leaving it, shape (S, P + 1) each; for a watt of each
        source, shape (Q, P). Infinite: not allowed.
    left : tuple of arrays
        What others leave of each source: watts, Wh in store and Wh that it spills,
        shape (Q, P) each; and how many of them wait as spares, shape (R, P).
    is_bound : bool
        Whether the value must not be too low: lives that share a bucket are then
        joined to one that is as good as each. The tour means nothing then.
    room : tuple
        A `workspace`; its last axis says into how many buckets charge is cut.

    Returns
    -------
    at : int array, shape (P,)
        Where the battery is in each interval.
    value : float
        What that is worth, fees taken off.
    """
    points, need_wh, worth = t.points, t.need_wh, t.worth
    reserve_price, prices = t.reserve_price, t.prices
    holds_wh, floor, reserve, is_on = t.holds_wh, t.floor, t.reserve, t.is_on
    bulk, tail, taper_h, w_per_rate = t.bulk, t.tail, t.taper_h, t.w_per_rate
    source_of = t.source_of
    watched, out_from, back_at = t.watched, t.out_from, t.back_at
    may, start_at, start_soc = t.may, t.start_at, t.start_soc
    rent_s, rent_y, come, go, watt_fee = fees
    power_w, store_wh, spilt, racked = left
    relief = _relief(spilt, t)
    rack_at, rack_room, swaps = t.rack_at, t.rack_room, t.swaps
    # "a": at a point, in a place since before; "o": in it during the next interval.
    a_val, a_soc, a_took, a_why, a_from = room[0], room[1], room[2], room[3], room[4]
    o_val, o_soc, o_took, o_why, o_from = room[5], room[6], room[7], room[8], room[9]
    has = room[10]
    buckets = a_val.shape[2]
    bay_price, left_price = prices[1], prices[2]
    count = points.size - 1
    seats, bays = t.seat_at.size, t.bulk.shape[0]
    first_rack = 1 + seats + bays
    places = first_rack + rack_at.size
    station_at, mates = t.station_at, t.mates
    a_val[:] = _NEVER
    has[:] = False
    first = start_at[b]
    k = min(buckets - 1, int(start_soc[b] * buckets))
    has[0, first] = True
    a_val[0, first, k] = 0.0
    a_soc[0, first, k] = start_soc[b]
    a_took[0, first, k] = 0.0
    a_why[0, first, k] = _START
    for i in range(count):
        hours = (points[i + 1] - points[i]) / 60.0
        # Off the bays first: the yard is complete before anybody goes on.
        if watched[i] and i > 0:
            for p in range(1 + seats, first_rack):
                if has[i, p]:
                    _leave(i, p, i, bay_price, is_bound, room)
        if has[i, 0]:
            _prune(a_val[i, 0])
        for p in range(places):
            s, y, seat = station_at[p], p - 1 - seats, p - 1
            is_bay, is_rack = seats < p < first_rack, p >= first_rack
            here = may[b, p, i]
            if is_rack:
                here = here and racked[p - first_rack, i] < rack_room[p - first_rack]
            elif is_bay:
                here = here and rent_y[y, i] < np.inf
            elif p > 0:
                here = here and rent_s[s, i] < np.inf
            if p > 0 and not is_bay and has[i, p]:
                _prune(a_val[i, p])
                back = back_at[s, i]
                price = go[s, i] + (bay_price if is_rack else 0.0)
                can_go = i > 0 and 0 <= back <= count and price < np.inf
                if can_go and np.all(may[b, 0, i:back]):
                    _leave(i, p, back, price, is_bound, room)
            if not here:
                continue
            # Who is in this place during the interval: who stays, who comes.
            alive = False
            for k in range(buckets):
                o_val[p, k] = _NEVER
            if has[i, p]:
                alive = True
                for k in range(buckets):
                    o_val[p, k] = a_val[i, p, k]
                    o_soc[p, k] = a_soc[i, p, k]
                    o_took[p, k] = a_took[i, p, k]
                    o_why[i, p, k] = _STAY
            origin, cost, why = -1, 0.0, _OUT
            if i == 0:
                if first == 0 and p > 0:
                    origin = 0
                    why = _ON if is_bay else _OUT
            elif p > 0 and not is_bay:
                if np.all(may[b, 0, max(out_from[s, i], 0) : i]):
                    origin, cost = out_from[s, i], come[s, i]
                    cost += bay_price if is_rack else 0.0
            elif is_bay and watched[i]:
                origin, cost, why = i, bay_price, _ON
            if origin >= 0 and cost < np.inf and has[origin, 0]:
                way = (why, origin)
                alive |= _enter(i, p, (origin, 0), way, room, cost, is_bound)
            # Operators swap a spare in or out, or change the power step.
            for m in range(3 if s >= 0 else 0):
                other = mates[s, m]
                if other < 0 or other == p or not has[i, other]:
                    continue
                if (is_rack or m == 2) and not swaps[mates[s, 2] - first_rack, i]:
                    continue
                cost = bay_price if i > 0 else 0.0
                way = (_SWAP, other)
                alive |= _enter(i, p, (i, other), way, room, cost, is_bound)
            if not alive:
                continue
            # Through the interval.
            for k in range(buckets):
                value = o_val[p, k]
                if value <= _DEAD:
                    continue
                soc, took = o_soc[p, k], max(0.0, o_took[p, k] - relief[i])
                after = soc
                if 0 < p <= seats:
                    after, share, below = serve(
                        soc,
                        need_wh[seat, i],
                        holds_wh[seat, b],
                        floor[seat, b],
                        reserve[seat, b],
                    )
                    after = topped_up(after, b, seat, i, t)
                    gain = share * worth[seat, i] - below * reserve_price[seat]
                    value += factor[s, i] * gain - rent_s[s, i]
                elif is_bay:
                    value -= rent_y[y, i]
                if is_bay and is_on[y, i]:
                    q = source_of[y]
                    after, asked_w, given = charge_on(
                        soc,
                        hours,
                        bulk[y, b],
                        tail[y, b],
                        taper_h[y, b],
                        w_per_rate[b],
                        store_wh[q, i] - took,
                        power_w[q, i] if t.is_shared[q] else np.inf,
                    )
                    if asked_w > power_w[q, i] + 1e-7:
                        continue
                    took += given
                    value -= (watt_fee[q, i] + t.watt_price[q, i]) * asked_w
                to = min(buckets - 1, int(after * buckets))
                old = a_val[i + 1, p, to]
                if is_bound and old > _DEAD:
                    a_val[i + 1, p, to] = max(old, value)
                    a_soc[i + 1, p, to] = max(a_soc[i + 1, p, to], after)
                    a_took[i + 1, p, to] = min(a_took[i + 1, p, to], took)
                elif value > old or (value == old and after > a_soc[i + 1, p, to]):
                    has[i + 1, p] = True
                    a_val[i + 1, p, to] = value
                    a_soc[i + 1, p, to] = after
                    a_took[i + 1, p, to] = took
                    a_why[i + 1, p, to] = _STAY
                    a_from[i + 1, p, to] = k
    best, best_p, best_k = _NEVER, 0, 0
    for p in range(places):
        if not has[count, p]:
            continue
        for k in range(buckets):
            value = a_val[count, p, k]
            if value > _DEAD:
                value += left_price * a_soc[count, p, k]
                if value > best:
                    best, best_p, best_k = value, p, k
    at = np.zeros(count, dtype=np.int64)
    if is_bound or best <= _DEAD:
        at[:] = first
        return at, best
    i, p, k = count, best_p, best_k
    while True:
        # A node "at a point": how did it come to be here?
        why, origin = a_why[i, p, k], a_from[i, p, k]
        if why == _START:
            break
        if why == _BACK:
            k = origin % buckets
            rest = origin // buckets
            j, p = rest // places, rest % places
            for m in range(j, i):
                at[m] = -1
            i = j
            continue
        # It was here during the interval before.
        i, k = i - 1, origin
        at[i] = p
        why, origin = o_why[i, p, k], o_from[i, p, k]
        if why == _OUT:
            j = origin // buckets
            for m in range(j, i):
                at[m] = -1
            i, p, k = j, 0, origin % buckets
        elif why == _ON:
            p, k = 0, origin % buckets
        elif why == _SWAP:
            p, k = origin // buckets, origin % buckets
    return at, best


@compiled
def walk_through(
    b: int,
    at: IntArray,
    t: Arrays,
    left: tuple[FloatArray, FloatArray, FloatArray],
    soc: FloatArray,
    share: FloatArray,
    below: FloatArray,
    watts: FloatArray,
    took: FloatArray,
) -> None:
    """
    Carry a tour out: fill its charge, what it serves, and what its bays draw.

    `left` is as for `best_tour`, without the spares; `share`, `below`, `watts` and
    `took` have shape (P,).
    """
    power_w, store_wh, spilt = left
    owes = np.zeros(store_wh.shape[0])
    points, need_wh = t.points, t.need_wh
    holds_wh, floor, reserve = t.holds_wh, t.floor, t.reserve
    seats = need_wh.shape[0]
    first_rack = 1 + seats + t.bulk.shape[0]
    soc[0] = t.start_soc[b]
    for i in range(at.size):
        share[i], below[i], watts[i], took[i] = 0.0, 0.0, 0.0, 0.0
        for q in range(owes.size):
            owes[q] = max(0.0, owes[q] - spilt[q, i])
        p, now = at[i], soc[i]
        after = now
        if 0 < p <= seats:
            s = p - 1
            after, share[i], below[i] = serve(
                now, need_wh[s, i], holds_wh[s, b], floor[s, b], reserve[s, b]
            )
            after = topped_up(after, b, s, i, t)
        elif seats < p < first_rack:
            y = p - 1 - seats
            if t.is_on[y, i]:
                q = t.source_of[y]
                hours = (points[i + 1] - points[i]) / 60.0
                after, watts[i], took[i] = charge_on(
                    now,
                    hours,
                    t.bulk[y, b],
                    t.tail[y, b],
                    t.taper_h[y, b],
                    t.w_per_rate[b],
                    store_wh[q, i] - owes[q],
                    power_w[q, i] if t.is_shared[q] else np.inf,
                )
                owes[q] += took[i]
        soc[i + 1] = after


@compiled
def laid(at: IntArray, t: Arrays) -> State:
    """Return a table with all its tours laid out."""
    batteries, count = at.shape
    stations, bays, sources = t.walk_min.size, t.bulk.shape[0], t.most_w.shape[0]
    state = State(
        at.copy(),
        np.zeros((batteries, count + 1)),
        np.zeros((batteries, count)),
        np.zeros((batteries, count)),
        np.zeros((batteries, count)),
        np.zeros((batteries, count)),
        np.zeros((stations, count)),
        np.zeros((bays, count)),
        np.zeros((t.rack_at.size, count), dtype=np.int64),
        t.most_w.copy(),
        np.zeros((sources, count)),
        np.full((sources, count), _STORE),
        np.zeros((sources, count)),
        np.zeros((stations, count + 1), dtype=np.int64),
        np.zeros(t.crews.size, dtype=np.int64),
    )
    for q in range(sources):
        store_left(q, t, state)
    for b in range(batteries):
        put(b, at[b], t, state)
    return state


@compiled
def put(b: int, at: IntArray, t: Arrays, state: State) -> bool:
    """
    Give a battery that is off the table a tour, and put it on.

    False when a walk of it finds no crew; the table then counts it all the same.
    """
    state.at[b] = at
    walk_through(
        b,
        at,
        t,
        (state.power_w, state.store_wh, state.spilt),
        state.soc[b],
        state.share[b],
        state.below[b],
        state.watts[b],
        state.took[b],
    )
    return lay(b, 1, t, state)


@compiled
def lay(b: int, sign: int, t: Arrays, state: State) -> bool:
    """
    Put a battery's tour on the table (`sign` 1) or take it off it (-1).

    False when a walk of it finds no crew; the table then counts it all the same.
    """
    points, walk, used, stops = t.points, t.walk_min, state.used, state.stops
    at, seats, fits = state.at[b], t.seat_at.size, True
    first_rack = 1 + seats + t.bulk.shape[0]
    rent = np.inf if sign > 0 else 0.0
    for i in range(at.size):
        p = at[i]
        if 0 < p <= seats:
            state.rent_s[t.seat_at[p - 1], i] = rent
        elif p >= first_rack:
            state.racked[p - first_rack, i] += sign
        elif p > seats:
            y = p - 1 - seats
            state.rent_y[y, i] = rent
            state.power_w[t.source_of[y], i] -= sign * state.watts[b, i]
            state.drawn[t.source_of[y], i] += sign * state.took[b, i]
    if np.any(state.took[b] > 0.0):
        for q in range(t.store_wh.size):
            store_left(q, t, state)
    for i in range(1, at.size):
        if at[i] == at[i - 1]:
            continue
        before, now = t.station_at[at[i - 1]], t.station_at[at[i]]
        if before == now:
            continue
        for s in (before, now):
            if s < 0:
                continue
            if sign > 0:
                if stops[s, i] == 0:
                    if not crew_is_free(points[i], walk[s], used, t.crews):
                        fits = False
                    _walk(points[i], walk[s], 1, used)
                stops[s, i] += 1
            else:
                stops[s, i] -= 1
                if stops[s, i] == 0:
                    _walk(points[i], walk[s], -1, used)
    return fits


@compiled
def _walk(minute: int, walk: int, sign: int, used: IntArray) -> None:
    for m in range(max(0, minute - walk), min(used.size, minute + walk)):
        used[m] += sign


@compiled
def value_of(state: State, t: Arrays) -> float:
    """What a whole table is worth: served, less reserve, stops and bay changes."""
    at, share, below, stops = state.at, state.share, state.below, state.stops
    worth, reserve_price, prices = t.worth, t.reserve_price, t.prices
    seats = worth.shape[0]
    total = 0.0
    for b in range(at.shape[0]):
        for i in range(at.shape[1]):
            p = at[b, i]
            if 0 < p <= seats:
                total += share[b, i] * worth[p - 1, i]
                total -= below[b, i] * reserve_price[p - 1]
            elif state.watts[b, i] > 0.0:
                q = t.source_of[p - 1 - seats]
                total -= t.watt_price[q, i] * state.watts[b, i]
            before = at[b, i - 1] if i > 0 else p
            if p != before:
                total -= prices[1] * ((p > seats) + (before > seats))
                if 0 < p <= seats and 0 < before <= seats:
                    total -= prices[1]
        total += prices[2] * state.soc[b, at.shape[1]]
    for s in range(stops.shape[0]):
        for i in range(1, stops.shape[1]):
            if stops[s, i] > 0:
                total -= t.stop_prices[s, i]
    return total + together_saves(t, state)


@compiled
def _chosen(count: int, t: Arrays, state: State) -> IntArray:
    """Related batteries: around one stretch of one station, and some at random."""
    worth, at = t.worth, state.at
    stations, seats, intervals = t.walk_min.size, worth.shape[0], worth.shape[1]
    seat_at = t.seat_at
    batteries = at.shape[0]
    picked = np.full(count, -1, dtype=np.int64)
    n = 0
    # A stretch: where something is not served, when there is such; else any.
    s, i = np.random.randint(stations), np.random.randint(intervals)
    if np.random.random() < 0.7:
        lost = np.zeros((stations, intervals))
        for x in range(stations):
            for j in range(intervals):
                if state.rent_s[x, j] < np.inf:
                    lost[x, j] = worth[x, j]
        for b in range(batteries):
            for j in range(intervals):
                p = at[b, j]
                if 0 < p <= seats:
                    x, got = seat_at[p - 1], state.share[b, j] * worth[p - 1, j]
                    lost[x, j] = max(0.0, worth[x, j] - got)
        total = lost.sum()
        if total > 1e-9:
            mark = np.random.random() * total
            for x in range(stations):
                for j in range(intervals):
                    mark -= lost[x, j]
                    if mark <= 0.0 and lost[x, j] > 0.0:
                        s, i = x, j
                        break
                if mark <= 0.0:
                    break
    for width in range(intervals):
        if n >= (count + 1) // 2 or width > 2 + intervals // 4:
            break
        for side in (-1, 1):
            j = i + side * width
            if not 0 <= j < intervals:
                continue
            for b in range(batteries):
                is_there = 0 < at[b, j] <= seats and seat_at[at[b, j] - 1] == s
                if is_there and n < count and not np.any(picked == b):
                    picked[n] = b
                    n += 1
    for _ in range(50 * count):
        if n >= count:
            break
        b = np.random.randint(batteries)
        if not np.any(picked == b):
            picked[n] = b
            n += 1
    return picked[:n]


@compiled
def _interests(interest: FloatArray, count: int) -> None:
    """What a watt-hour seems worth for once: low, and nothing in some stretches."""
    low = 0.2 + 0.8 * np.random.random()
    masked = np.random.random() * 0.8
    for s in range(interest.shape[0]):
        interest[s] = low
        if np.random.random() < masked:
            first = np.random.randint(count)
            last = first + 1 + np.random.randint(max(1, count // 2))
            interest[s, first:last] = 0.0


@compiled
def _coming(
    s: int, i: int, since: int, may_begin: bool, t: Arrays, state: State
) -> int:
    """A stop before a point that a battery in the yard since another could join."""
    found, seen = -1, 0
    for j in range(i):
        joins = state.stops[s, j] > 0 and t.out_from[s, j] >= since
        if joins or (j == 0 and since == 0 and may_begin):
            seen += 1
            if np.random.randint(seen) == 0:
                found = j
    return found


@compiled
def _going(s: int, i: int, until: int, t: Arrays, state: State) -> int:
    """A stop after a point, or the end, for a battery not wanted until another."""
    count, found, seen = state.at.shape[1], -1, 0
    for j in range(i + 1, count + 1):
        joins = j < count and state.stops[s, j] > 0 and 0 <= t.back_at[s, j] <= until
        if joins or (j == count and until == count):
            seen += 1
            if np.random.randint(seen) == 0:
                found = j
    return found


@compiled
def _stocked(t: Arrays, state: State) -> tuple[IntArray, IntArray]:
    """
    Do without one stop of a walk at a station that has a rack.

    What that walk brings comes with an earlier one, or is there from the start, and
    waits; or a battery that stands idle does so in its stead. What the walk takes
    away waits for a later one. Chosen at random.

    Returns
    -------
    picked : int array
        The batteries whose tours change; empty where there is no such stop.
    rows : int array, shape (picked, P)
        Their new tours, which may still find no room or no crew.
    """
    at, stops, count = state.at, state.stops, state.at.shape[1]
    none = np.zeros(0, dtype=np.int64), np.zeros((0, count), dtype=np.int64)
    r = np.random.randint(t.rack_at.size)
    s, place = t.rack_at[r], t.may.shape[1] - t.rack_at.size + r
    new, old, i, first = -1, -1, 0, np.random.randint(count)
    for n in range(count):
        i = (first + n) % count
        if i == 0 or stops[s, i] == 0 or not t.swaps[r, i]:
            continue
        new, old = -1, -1
        for b in range(at.shape[0]):
            before, now = t.station_at[at[b, i - 1]], t.station_at[at[b, i]]
            if at[b, i] == s + 1 and before != s:
                new = b
            if at[b, i - 1] == s + 1 and now != s:
                old = b
        if new >= 0:
            break
    if new < 0:
        return none
    leaves = i
    while leaves < count and at[new, leaves] == s + 1:
        leaves += 1
    stays = leaves < count and t.station_at[at[new, leaves]] == s
    back = leaves if leaves == count else t.back_at[s, leaves]
    comes = new
    if np.random.random() < 0.5 and not stays:
        # An idle battery instead, if there is one.
        start = np.random.randint(at.shape[0])
        for n in range(at.shape[0]):
            b = (start + n) % at.shape[0]
            if np.all(at[b, i - 1 : back] == 0) and t.may[b, s + 1, i]:
                comes = b
                break
    rows = np.zeros((3, count), dtype=np.int64)
    picked = np.array([comes, new, old])
    rows[0], rows[1] = at[comes], at[new]
    out = t.out_from[s, i]
    since = out if comes == new else i - 1
    free = since
    while free > 0 and rows[0, free - 1] == 0:
        free -= 1
    come = _coming(s, i, free, t.start_at[comes] == 0, t, state)
    if come < 0:
        return none
    rows[0, free:i] = 0
    if come > 0:
        rows[0, t.out_from[s, come] : come] = -1
    rows[0, come:i] = place
    if comes != new:
        rows[0, i:back] = at[new, i:back]
        rows[1, out:back] = 0
    size = 1 if comes == new else 2
    if old >= 0:
        until = t.back_at[s, i]
        while until < count and at[old, until] == 0:
            until += 1
        go = _going(s, i, until, t, state)
        if go < 0:
            return none
        picked[size], rows[size] = old, at[old]
        rows[size, i:until] = 0
        rows[size, i:go] = place
        if go < count:
            rows[size, go : t.back_at[s, go]] = -1
        size += 1
    for n in range(size):
        for j in range(count):
            if not t.may[picked[n], max(rows[n, j], 0), j]:
                return none
    return picked[:size], rows[:size]


@compiled
def _has_room(t: Arrays, state: State) -> bool:
    """Whether no rack holds more spares than it can."""
    for r in range(t.rack_room.size):
        if np.max(state.racked[r]) > t.rack_room[r]:
            return False
    return True


@compiled
def search(
    t: Arrays,
    at: IntArray,
    rents: tuple[FloatArray, FloatArray],
    rounds: int,
    seed: int,
    heat: float,
    buckets: int,
    most: int,
) -> tuple[IntArray, float]:
    """
    Improve a table by ruin and recreate.

    Parameters
    ----------
    t : Arrays
        The timetable.
    at : int array, shape (B, P)
        Where batteries are at the start; all of it can be carried out.
    rents : tuple of float arrays, shapes (S, P) and (Y, P)
        What being at a station and on a bay seems worth to others; zeros if unknown.
    rounds : int
        How often something is taken out and put back.
    heat : float
        How much worse a plan may become at the start, as a share of what all
        demand is worth; it falls to nothing.
    buckets, most : int
        Charge buckets; most batteries taken out at once.

    Returns
    -------
    at : int array, shape (B, P)
        The best table.
    value : float
        What it is worth.
    """
    np.random.seed(seed)
    batteries, count = at.shape
    stations, sources = t.walk_min.size, t.most_w.shape[0]
    state = laid(at, t)
    value = value_of(state, t)
    best_at, best_value = state.at.copy(), value
    start_heat = heat * t.worth[:stations].sum()
    no_watt_fee = np.zeros((sources, count))
    plain, interest = np.ones((stations, count)), np.ones((stations, count))
    room = workspace(count, t.may.shape[1], buckets)
    has_rents, none = rents[0].sum() > 0.0, np.zeros((0, count), dtype=np.int64)
    for number in range(rounds):
        limit = start_heat * (1.0 - number / rounds) ** 3
        size = min(batteries, 1 + np.random.randint(most))
        picked: IntArray = np.zeros(0, dtype=np.int64)
        rows = none
        if t.rack_at.size > 0 and np.random.random() < 0.3:
            picked, rows = _stocked(t, state)
            limit = min(limit, t.prices[0])
        if picked.size == 0:
            picked = _chosen(size, t, state)
            np.random.shuffle(picked)
        kept = (
            state.at[picked],
            state.soc[picked],
            state.share[picked],
            state.below[picked],
            state.watts[picked],
            state.took[picked],
        )
        for b in picked:
            lay(b, -1, t, state)
        fits, done = True, 0
        for n in range(rows.shape[0]):
            fits = put(picked[n], rows[n], t, state) and fits
            done += 1
        for n in range(rows.shape[0], picked.size):
            b = picked[n]
            price = stop_prices(t, state)
            factor = plain
            asked_s, asked_y = state.rent_s, state.rent_y
            if n < picked.size - 1:
                _interests(interest, count)
                factor = interest
                if t.rack_at.size > 0 and np.random.random() < 0.5:
                    # As if nobody came anyway: a spare saves a walk only when what
                    # it relieves does without that walk as well.
                    price = np.maximum(price, t.stop_prices)
                if has_rents and np.random.random() < 0.7:
                    weight = 1.2 * np.random.random()
                    for s in range(stations):
                        for i in range(count):
                            interest[s, i] = 1.0 if interest[s, i] > 0.0 else 0.0
                    asked_s = state.rent_s + weight * rents[0]
                    asked_y = state.rent_y + weight * rents[1]
            tour, earned = best_tour(
                b,
                t,
                factor,
                (asked_s, asked_y, price, price, no_watt_fee),
                (state.power_w, state.store_wh, state.spilt, state.racked),
                False,
                room,
            )
            if earned <= _DEAD:
                # It has no way: others took the crew of a walk that is kept.
                fits = False
                break
            fits = put(b, tour, t, state) and fits
            done += 1
        new = value_of(state, t)
        fits = fits and _has_room(t, state)
        if fits and new >= value - limit * np.random.random():
            value = new
            if value > best_value + 1e-9:
                best_at, best_value = state.at.copy(), value
            continue
        for b in picked[:done]:
            lay(b, -1, t, state)
        # As it was: put anew, batteries might share a store in another way.
        for n in range(picked.size):
            b = picked[n]
            state.at[b], state.soc[b], state.share[b] = (
                kept[0][n],
                kept[1][n],
                kept[2][n],
            )
            state.below[b], state.watts[b] = kept[3][n], kept[4][n]
            state.took[b] = kept[5][n]
            lay(b, 1, t, state)
    return best_at, best_value
