"""What a stop costs, and what a whole table is worth."""

from __future__ import annotations

import numpy as np

from powercore.rotation.polish.rounds import NEAR_MIN
from powercore.rotation.tours.arrays import Arrays, State, compiled
from powercore.values import FloatArray, IntArray

#: Stops of one round, at the most, that the search counts on.
MOST_STOPS = 3


@compiled
def crew_is_free(minute: int, walk: int, used: IntArray, crews: IntArray) -> bool:
    """Whether one more walk that is at its station at a minute finds a crew."""
    for m in range(max(0, minute - walk), min(used.size, minute + walk)):
        if used[m] >= crews[m]:
            return False
    return True


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
