"""The best life of one battery at given prices: a longest path."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from powercore.rotation.tours.arrays import (
    DEAD,
    NEVER,
    Arrays,
    Fees,
    Left,
    Room,
    compiled,
    inlined,
)
from powercore.rotation.tours.physics import charge_on, charged, serve
from powercore.rotation.tours.stock import relief_of
from powercore.values import BoolArray, FloatArray, IntArray

#: How a life came to be where it is, for the walk back along it.
_STAY, _OUT, _BACK, _ON, _START, _SWAP = 1, 2, 3, 4, 5, 6
#: Terms of an interval at a station: energy asked for [Wh], what the battery holds from
#: full to empty [Wh], its floor and reserve, what serving is worth, the price of a Wh
#: of reserve, the factor on both, the rent; then what is left over there: as a share
#: of the battery, for how many hours, and how it takes it.
_NEED, _HOLDS, _FLOOR, _RESERVE, _WORTH, _BELOW, _FACTOR, _RENT = range(8)
_SPARE, _SPARE_H, _BULK, _TAIL, _TAPER_H = range(8, 13)
#: Terms of an interval on a bay: hours, watts for a share an hour, Wh in store, watts
#: left and what may be had of them, the price of a watt; rent and rates as above.
_HOURS, _W_PER_RATE, _STORE, _POWER, _MOST, _WATT = range(6)
_TERMS = 13
#: What happens in a place in an interval.
_WAITS, _SERVES, _CHARGES = 0, 1, 2


class _Ways(NamedTuple):
    """Where one battery may be, go and come from: intervals × places."""

    is_open: BoolArray
    #: What happens there, and its terms. (P, places) and (P, places, _TERMS)
    does: IntArray
    terms: FloatArray
    #: The point at which it is in the yard when it leaves at the interval's start, and
    #: what that costs; -1: it can't.
    back: IntArray
    back_cost: FloatArray
    #: The point at which it left the yard to be there then, and what that costs.
    since: IntArray
    since_cost: FloatArray
    #: Places it may be swapped from there and then by operators; -1: none. (…, 3)
    others: IntArray


class _Way(NamedTuple):
    """A way into a place: from where, why, what the walk back is to know, its cost."""

    point: int
    place: int
    why: int
    mark: int
    cost: float


@compiled
def best_tour(
    b: int, t: Arrays, fees: Fees, left: Left, is_bound: bool, room: Room
) -> tuple[IntArray, float]:
    """
    Best life of battery `b` at given prices.

    First it is worked out where the battery may be and go, then the longest path runs
    over that.

    Parameters
    ----------
    t : Arrays
        The timetable.
    fees : Fees
        What it is paid and what it costs beside the timetable's prices.
    left : Left
        What others leave.
    is_bound : bool
        Whether the value must not be too low: lives that share a bucket are then
        joined to one that is as good as each. The tour means nothing then.
    room : Room
        A `workspace`; its last axis says into how many buckets charge is cut.

    Returns
    -------
    at : int array, shape (P,)
        Where the battery is in each interval.
    value : float
        What that is worth, fees taken off.
    """
    ways = _ways(b, t, fees, left)
    relief = relief_of(left.spilt, t)
    _begin(t.start_at[b], t.start_soc[b], room)
    bays = 1 + t.seat_at.size, 1 + t.seat_at.size + t.bulk.shape[0]
    _longest(ways, relief, t.watched, (bays[0], bays[1], t.prices[1]), is_bound, room)
    p, k, best = _best_end(t.prices[2], room)
    at = np.zeros(t.points.size - 1, dtype=np.int64)
    if is_bound or best <= DEAD:
        at[:] = t.start_at[b]
    else:
        _walk_back(p, k, room, at)
    return at, best


@compiled
def _ways(b: int, t: Arrays, fees: Fees, left: Left) -> _Ways:
    """Work out where a battery may be, go and come from, and on what terms."""
    count, places = t.points.size - 1, t.may.shape[1]
    shape = count, places
    ways = _Ways(
        np.zeros(shape, dtype=np.bool_),
        np.zeros(shape, dtype=np.int64),
        np.empty((count, places, _TERMS)),
        np.full(shape, -1, dtype=np.int64),
        np.zeros(shape),
        np.full(shape, -1, dtype=np.int64),
        np.zeros(shape),
        np.full((count, places, 3), -1, dtype=np.int64),
    )
    # How many intervals up to each in which it may not be in the yard.
    barred = np.zeros(count + 1, dtype=np.int64)
    for i in range(count):
        barred[i + 1] = barred[i] + (not t.may[b, 0, i])
    first_bay = 1 + t.seat_at.size
    first_rack = first_bay + t.bulk.shape[0]
    for p in range(places):
        if first_bay <= p < first_rack:
            _at_bay(b, p, t, fees, left, ways)
        elif p == 0:
            ways.is_open[:, 0] = t.may[b, 0, :count]
            ways.terms[:, 0, _RENT] = 0.0
        else:
            if p < first_bay:
                _at_seat(b, p, t, fees, ways)
            else:
                r = p - first_rack
                for i in range(count):
                    is_free = left.racked[r, i] < t.rack_room[r]
                    ways.is_open[i, p] = t.may[b, p, i] and is_free
                    ways.terms[i, p, _RENT] = 0.0
            _by_walks(b, p, t, fees, barred, ways)
    return ways


@compiled
def _at_seat(b: int, p: int, t: Arrays, fees: Fees, ways: _Ways) -> None:
    """Serve a station, where nobody else does."""
    seat, s = p - 1, t.station_at[p]
    for i in range(t.points.size - 1):
        ways.is_open[i, p] = t.may[b, p, i] and fees.rent_s[s, i] < np.inf
        if not ways.is_open[i, p]:
            continue
        ways.does[i, p] = _SERVES
        term = ways.terms[i, p]
        term[_NEED], term[_HOLDS] = t.need_wh[seat, i], t.holds_wh[seat, b]
        term[_FLOOR], term[_RESERVE] = t.floor[seat, b], t.reserve[seat, b]
        term[_WORTH], term[_BELOW] = t.worth[seat, i], t.reserve_price[seat]
        term[_FACTOR], term[_RENT] = fees.factor[s, i], fees.rent_s[s, i]
        term[_SPARE] = t.surplus_wh[seat, i] / t.w_per_rate[b]
        term[_SPARE_H] = t.surplus_h[seat, i]
        term[_BULK] = t.takes[0, seat, b]
        term[_TAIL], term[_TAPER_H] = t.takes[1, seat, b], t.takes[2, seat, b]


@compiled
def _at_bay(b: int, p: int, t: Arrays, fees: Fees, left: Left, ways: _Ways) -> None:
    """Charge on a bay, where nobody else does, or wait there."""
    y = p - 1 - t.seat_at.size
    q = t.source_of[y]
    for i in range(t.points.size - 1):
        ways.is_open[i, p] = t.may[b, p, i] and fees.rent_y[y, i] < np.inf
        if not ways.is_open[i, p]:
            continue
        ways.does[i, p] = _CHARGES if t.is_on[y, i] else _WAITS
        if i == 0 and t.start_at[b] == 0:
            ways.since[i, p] = 0
        elif i > 0 and t.watched[i]:
            ways.since[i, p], ways.since_cost[i, p] = i, t.prices[1]
        term = ways.terms[i, p]
        term[_HOURS] = (t.points[i + 1] - t.points[i]) / 60.0
        term[_W_PER_RATE] = t.w_per_rate[b]
        term[_STORE], term[_POWER] = left.store_wh[q, i], left.power_w[q, i]
        term[_MOST] = left.power_w[q, i] if t.is_shared[q] else np.inf
        term[_WATT] = fees.watt[q, i] + t.watt_price[q, i]
        term[_RENT] = fees.rent_y[y, i]
        term[_BULK], term[_TAIL] = t.bulk[y, b], t.tail[y, b]
        term[_TAPER_H] = t.taper_h[y, b]


@compiled
def _by_walks(
    b: int, p: int, t: Arrays, fees: Fees, barred: IntArray, ways: _Ways
) -> None:
    """Come to a station and leave it by walks, and be swapped there by operators."""
    count, s = t.points.size - 1, t.station_at[p]
    first_rack = 1 + t.seat_at.size + t.bulk.shape[0]
    extra = t.prices[1] if p >= first_rack else 0.0
    for i in range(count):
        back, price = t.back_at[s, i], fees.go[s, i] + extra
        can_go = t.moves[b] and i > 0 and 0 <= back <= count and price < np.inf
        if can_go and barred[max(i, back)] == barred[i]:
            ways.back[i, p], ways.back_cost[i, p] = back, price
        if not ways.is_open[i, p]:
            continue
        out, cost = t.out_from[s, i], fees.come[s, i] + extra
        if i == 0:
            ways.since[i, p] = 0 if t.start_at[b] == 0 else -1
        elif t.moves[b] and cost < np.inf and barred[i] == barred[max(out, 0)]:
            ways.since[i, p], ways.since_cost[i, p] = out, cost
        for m in range(3):
            other = t.mates[s, m]
            is_spare = p >= first_rack or m == 2
            is_other = other >= 0 and other != p
            if is_other and (not is_spare or t.swaps[t.mates[s, 2] - first_rack, i]):
                ways.others[i, p, m] = other


@inlined
def _longest(
    ways: _Ways,
    relief: FloatArray,
    watched: BoolArray,
    bays: tuple[int, int, float],
    is_bound: bool,
    room: Room,
) -> None:
    """Run through the intervals; `bays` are their first and last place and the fee."""
    first_bay, first_rack, bay_price = bays
    has, count, places = room.has, ways.does.shape[0], ways.does.shape[1]
    for i in range(count):
        # Off the bays first: the yard is complete before anybody goes on.
        if watched[i] and i > 0:
            for p in range(first_bay, first_rack):
                if has[i, p]:
                    _leave(i, p, i, bay_price, is_bound, room)
        if has[i, 0]:
            _prune(room.value[i, 0])
        for p in range(places):
            is_bay = first_bay <= p < first_rack
            if p > 0 and not is_bay and has[i, p]:
                _prune(room.value[i, p])
                if ways.back[i, p] >= 0:
                    cost = ways.back_cost[i, p]
                    _leave(i, p, ways.back[i, p], cost, is_bound, room)
            if not ways.is_open[i, p]:
                continue
            is_there = _stay(i, p, room)
            since = ways.since[i, p]
            if since >= 0 and has[since, 0]:
                way = _Way(
                    since, 0, _ON if is_bay else _OUT, since, ways.since_cost[i, p]
                )
                is_there |= _enter(i, p, way, is_bound, room)
            for m in range(3):
                other = ways.others[i, p, m]
                if other >= 0 and has[i, other]:
                    cost = bay_price if i > 0 else 0.0
                    way = _Way(i, other, _SWAP, other, cost)
                    is_there |= _enter(i, p, way, is_bound, room)
            if is_there:
                _through(i, p, ways, relief[i], is_bound, room)


@inlined
def _through(
    i: int, p: int, ways: _Ways, relief: float, is_bound: bool, room: Room
) -> None:
    """Serve, charge or wait in a place through an interval, up to its end."""
    does, term = ways.does[i, p], ways.terms[i, p]
    buckets = room.value.shape[2]
    for k in range(buckets):
        value = room.in_value[p, k]
        if value <= DEAD:
            continue
        soc, took = room.in_soc[p, k], max(0.0, room.in_took[p, k] - relief)
        after = soc
        if does == _SERVES:
            after, gain = _served(soc, term)
            value += gain
        else:
            value -= term[_RENT]
            if does == _CHARGES:
                after, asked_w, given = charge_on(
                    soc,
                    term[_HOURS],
                    (term[_BULK], term[_TAIL], term[_TAPER_H], term[_W_PER_RATE]),
                    term[_STORE] - took,
                    term[_MOST],
                )
                if asked_w > term[_POWER] + 1e-7:
                    continue
                took += given
                value -= term[_WATT] * asked_w
        _note(i, p, k, (value, after, took), is_bound, room)


@inlined
def _served(soc: float, term: FloatArray) -> tuple[float, float]:
    """Charge after an interval at a station, and what it earned."""
    after, share, below = serve(
        soc, term[_NEED], term[_HOLDS], term[_FLOOR], term[_RESERVE]
    )
    if term[_SPARE] > 0.0:
        rates = term[_BULK], term[_TAIL], term[_TAPER_H]
        full = charged(after, term[_SPARE_H], rates[0], rates[1], rates[2])
        after = min(after + term[_SPARE], full)
    gain = share * term[_WORTH] - below * term[_BELOW]
    return after, term[_FACTOR] * gain - term[_RENT]


@inlined
def _begin(first: int, soc: float, room: Room) -> None:
    """Nobody is anywhere but the battery where it is at the start."""
    room.value[:] = NEVER
    room.has[:] = False
    buckets = room.value.shape[2]
    k = min(buckets - 1, int(soc * buckets))
    room.has[0, first] = True
    room.value[0, first, k] = 0.0
    room.soc[0, first, k] = soc
    room.took[0, first, k] = 0.0
    room.why[0, first, k] = _START


@compiled
def _prune(values: FloatArray) -> None:
    """Less charge for less value is of no use."""
    top = NEVER
    for k in range(values.size - 1, -1, -1):
        if values[k] <= top:
            values[k] = NEVER
        else:
            top = values[k]


@inlined
def _leave(i: int, p: int, back: int, price: float, is_bound: bool, room: Room) -> None:
    """Leave a place at a point, to be in the yard then or at a later one."""
    places, buckets = room.value.shape[1], room.value.shape[2]
    for k in range(buckets):
        value = room.value[i, p, k] - price
        if value > DEAD and is_bound and room.value[back, 0, k] > DEAD:
            room.value[back, 0, k] = max(room.value[back, 0, k], value)
            room.soc[back, 0, k] = max(room.soc[back, 0, k], room.soc[i, p, k])
            room.took[back, 0, k] = min(room.took[back, 0, k], room.took[i, p, k])
        elif value > room.value[back, 0, k]:
            room.has[back, 0] = True
            room.value[back, 0, k] = value
            room.soc[back, 0, k] = room.soc[i, p, k]
            room.took[back, 0, k] = room.took[i, p, k]
            room.why[back, 0, k] = _BACK
            room.origin[back, 0, k] = (i * places + p) * buckets + k


@inlined
def _enter(i: int, p: int, way: _Way, is_bound: bool, room: Room) -> bool:
    """
    Be in a place through the next interval, from another where it was at a point.

    False when nobody comes that way.
    """
    buckets, comes = room.value.shape[2], False
    j, q = way.point, way.place
    for k in range(buckets):
        value = room.value[j, q, k] - way.cost
        if value > DEAD and is_bound and room.in_value[p, k] > DEAD:
            room.in_value[p, k] = max(room.in_value[p, k], value)
            room.in_soc[p, k] = max(room.in_soc[p, k], room.soc[j, q, k])
            room.in_took[p, k] = min(room.in_took[p, k], room.took[j, q, k])
        elif value > room.in_value[p, k]:
            comes = True
            room.in_value[p, k] = value
            room.in_soc[p, k] = room.soc[j, q, k]
            room.in_took[p, k] = room.took[j, q, k]
            room.in_why[i, p, k] = way.why
            room.in_origin[i, p, k] = way.mark * buckets + k
    return comes


@inlined
def _stay(i: int, p: int, room: Room) -> bool:
    """Who is in a place already stays there."""
    is_there = room.has[i, p]
    for k in range(room.value.shape[2]):
        room.in_value[p, k] = NEVER
        if is_there:
            room.in_value[p, k] = room.value[i, p, k]
            room.in_soc[p, k] = room.soc[i, p, k]
            room.in_took[p, k] = room.took[i, p, k]
            room.in_why[i, p, k] = _STAY
    return is_there


@inlined
def _note(
    i: int,
    p: int,
    k: int,
    life: tuple[float, float, float],
    is_bound: bool,
    room: Room,
) -> None:
    """Keep a life at the end of an interval, where none in its bucket is better."""
    value, after, took = life
    buckets = room.value.shape[2]
    to = min(buckets - 1, int(after * buckets))
    old = room.value[i + 1, p, to]
    if is_bound and old > DEAD:
        room.value[i + 1, p, to] = max(old, value)
        room.soc[i + 1, p, to] = max(room.soc[i + 1, p, to], after)
        room.took[i + 1, p, to] = min(room.took[i + 1, p, to], took)
    elif value > old or (value == old and after > room.soc[i + 1, p, to]):
        room.has[i + 1, p] = True
        room.value[i + 1, p, to] = value
        room.soc[i + 1, p, to] = after
        room.took[i + 1, p, to] = took
        room.why[i + 1, p, to] = _STAY
        room.origin[i + 1, p, to] = k


@compiled
def _best_end(left_price: float, room: Room) -> tuple[int, int, float]:
    """The place and bucket of the best life, and what that is worth."""
    count, places, buckets = room.value.shape
    best, best_p, best_k = NEVER, 0, 0
    for p in range(places):
        if room.has[count - 1, p]:
            for k in range(buckets):
                value = room.value[count - 1, p, k]
                if value > DEAD:
                    value += left_price * room.soc[count - 1, p, k]
                    if value > best:
                        best, best_p, best_k = value, p, k
    return best_p, best_k, best


@compiled
def _walk_back(p: int, k: int, room: Room, at: IntArray) -> None:
    """Fill in where a life was, from its end to its start; -1: on the way."""
    places, buckets = room.value.shape[1], room.value.shape[2]
    i = at.size
    while room.why[i, p, k] != _START:
        # At a point: how did it come to be here?
        origin = room.origin[i, p, k]
        if room.why[i, p, k] == _BACK:
            k = origin % buckets
            rest = origin // buckets
            j, p = rest // places, rest % places
            at[j:i] = -1
            i = j
            continue
        # It was here during the interval before.
        i, k = i - 1, origin
        at[i] = p
        why, origin = room.in_why[i, p, k], room.in_origin[i, p, k]
        if why == _OUT:
            j = origin // buckets
            at[j:i] = -1
            i, p, k = j, 0, origin % buckets
        elif why == _ON:
            p, k = 0, origin % buckets
        elif why == _SWAP:
            p, k = origin // buckets, origin % buckets
