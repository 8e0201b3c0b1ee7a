"""Tours put on a table and taken off it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from powercore.rotation.tours.arrays import (
    ENDLESS_STORE_WH,
    Arrays,
    Left,
    State,
    compiled,
)
from powercore.rotation.tours.physics import at_seat, charge_on
from powercore.rotation.tours.prices import crew_is_free
from powercore.rotation.tours.stock import store_left
from powercore.rotation.tours.together import is_shared, settle
from powercore.values import FloatArray, IntArray


class Life(NamedTuple):
    """
    What one battery's tour comes to, to be filled.

    Its charge at each point, (P + 1,); in each interval, (P,), the share it serves
    and Wh of that from below its reserve, what its bay draws, and Wh of that from a
    store.
    """

    soc: FloatArray
    share: FloatArray
    below: FloatArray
    watts: FloatArray
    took: FloatArray


@compiled
def walk_through(
    b: int,
    at: IntArray,
    t: Arrays,
    left: Left,
    life: Life,
) -> None:
    """
    Carry a tour out: fill its charge, what it serves, and what its bays draw.

    `left` is as for `best_tour`.
    """
    power_w, store_wh, spilt = left.power_w, left.store_wh, left.spilt
    soc, share, below, watts, took = life
    owes = np.zeros(store_wh.shape[0])
    points, seats = t.points, t.need_wh.shape[0]
    first_rack = 1 + seats + t.bulk.shape[0]
    soc[0] = t.start_soc[b]
    for i in range(at.size):
        share[i], below[i], watts[i], took[i] = 0.0, 0.0, 0.0, 0.0
        for q in range(owes.size):
            owes[q] = max(0.0, owes[q] - spilt[q, i])
        p, now = at[i], soc[i]
        after = now
        if 0 < p <= seats:
            after, share[i], below[i] = at_seat(now, b, p - 1, i, t)
        elif seats < p < first_rack:
            y = p - 1 - seats
            if t.is_on[y, i]:
                q = t.source_of[y]
                hours = (points[i + 1] - points[i]) / 60.0
                rates = (t.bulk[y, b], t.tail[y, b], t.taper_h[y, b], t.w_per_rate[b])
                after, watts[i], took[i] = charge_on(
                    now,
                    hours,
                    rates,
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
        np.full((sources, count), ENDLESS_STORE_WH),
        np.zeros((sources, count)),
        np.zeros((stations, count + 1), dtype=np.int64),
        np.zeros(t.crews.size, dtype=np.int64),
    )
    for q in range(sources):
        store_left(q, t, state)
    for b in range(batteries):
        put(b, at[b], t, state)
    if is_shared(t):
        settle(t, state)
    return state


@compiled
def put(b: int, at: IntArray, t: Arrays, state: State) -> bool:
    """
    Give a battery that is off the table a tour, and put it on.

    False when a walk of it finds no crew; the table then counts it all the same.
    """
    state.at[b] = at
    left = Left(state.power_w, state.store_wh, state.spilt, state.racked)
    life = Life(
        state.soc[b], state.share[b], state.below[b], state.watts[b], state.took[b]
    )
    walk_through(b, at, t, left, life)
    return lay(b, 1, t, state)


@compiled
def lay(b: int, sign: int, t: Arrays, state: State) -> bool:
    """
    Put a battery's tour on the table (`sign` 1) or take it off it (-1).

    False when a walk of it finds no crew; the table then counts it all the same.
    """
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
        before, now = t.station_at[at[i - 1]], t.station_at[at[i]]
        if before != now:
            if before >= 0:
                fits = _stop(before, i, sign, t, state) and fits
            if now >= 0:
                fits = _stop(now, i, sign, t, state) and fits
    return fits


@compiled
def _stop(s: int, i: int, sign: int, t: Arrays, state: State) -> bool:
    """Count one more or one less at a stop; False when a new walk finds no crew."""
    fits, before = True, state.stops[s, i]
    state.stops[s, i] = before + sign
    if sign > 0 and before == 0:
        fits = crew_is_free(t.points[i], t.walk_min[s], state.used, t.crews)
        _walk(t.points[i], t.walk_min[s], 1, state.used)
    elif sign < 0 and before == 1:
        _walk(t.points[i], t.walk_min[s], -1, state.used)
    return fits


@compiled
def _walk(minute: int, walk: int, sign: int, used: IntArray) -> None:
    for m in range(max(0, minute - walk), min(used.size, minute + walk)):
        used[m] += sign
