"""
What batteries get from a source that they share, all of them at once.

Put on a table one by one, the first gets all that it asks of panels or a bank, and the
last what is left. In truth each gets the same part, and when the first is full there
is more for the others. So where a source is shared the whole table is carried out anew
after each change, interval by interval and just as the verifier does it: what a table
is worth does not hang on the order in which it was laid.
"""

from __future__ import annotations

import numpy as np

from powercore.rotation.tours.arrays import ENDLESS_STORE_WH, Arrays, State, compiled
from powercore.rotation.tours.physics import at_seat, charge_rate, charged
from powercore.rotation.tours.stock import store_left
from powercore.values import FloatArray, IntArray

#: Halvings until the moment is found at which a bank runs dry.
HALVINGS = 50


@compiled
def is_shared(t: Arrays) -> bool:
    """Whether several bays are on one source that may give less than they ask for."""
    for q in range(t.is_shared.size):
        is_scarce = t.is_shared[q] or t.store_wh[q] < ENDLESS_STORE_WH
        if is_scarce and np.sum(t.source_of == q) > 1:
            return True
    return False


@compiled
def settle(t: Arrays, state: State) -> bool:
    """
    Carry all tours of a table out together.

    False where a source that shares nothing out is asked for more than it gives.
    """
    level, fits = t.store_wh.copy(), True
    batteries, count = state.at.shape
    state.soc[:, 0] = t.start_soc
    state.drawn[:] = 0.0
    state.power_w[:] = t.most_w
    bay, first_bay = np.full(batteries, -1), 1 + t.seat_at.size
    first_rack = first_bay + t.bulk.shape[0]
    for i in range(count):
        for q in range(level.size):
            if level[q] < ENDLESS_STORE_WH:
                level[q] = min(t.store_most[q], level[q] + t.fills_wh[q, i])
        for b in range(batteries):
            p, soc = state.at[b, i], state.soc[b, i]
            after, bay[b] = soc, -1
            state.share[b, i], state.below[b, i] = 0.0, 0.0
            state.watts[b, i], state.took[b, i] = 0.0, 0.0
            if 0 < p < first_bay:
                after, state.share[b, i], state.below[b, i] = at_seat(
                    soc, b, p - 1, i, t
                )
            elif first_bay <= p < first_rack and t.is_on[p - first_bay, i]:
                bay[b] = p - first_bay
            state.soc[b, i + 1] = after
        for q in range(level.size):
            fits = _give(q, i, bay, level, t, state) and fits
    for q in range(level.size):
        store_left(q, t, state)
    return fits


@compiled
def _give(
    q: int, i: int, bay: IntArray, level: FloatArray, t: Arrays, state: State
) -> bool:
    """Charge all that are on a source in an interval; False where it gives less."""
    asked_w, hours = 0.0, (t.points[i + 1] - t.points[i]) / 60.0
    for b in range(bay.size):
        if bay[b] >= 0 and t.source_of[bay[b]] == q:
            rate = charge_rate(state.soc[b, i], *_rates(b, bay[b], t))
            state.watts[b, i] = rate * t.w_per_rate[b]
            asked_w += state.watts[b, i]
    if asked_w <= 0.0:
        return True
    most_w, part, has_store = t.most_w[q, i], 1.0, level[q] < ENDLESS_STORE_WH
    if t.is_shared[q]:
        part = min(1.0, most_w / asked_w)
    if has_store and _taken(q, i, hours, bay, t, state) > level[q]:
        low = 0.0
        for _ in range(HALVINGS):
            middle = (low + hours) / 2.0
            if _taken(q, i, middle, bay, t, state) <= level[q]:
                low = middle
            else:
                hours = middle
        hours = low
    for b in range(bay.size):
        if bay[b] < 0 or t.source_of[bay[b]] != q:
            continue
        before = state.soc[b, i]
        gain = part * (charged(before, hours, *_rates(b, bay[b], t)) - before)
        state.soc[b, i + 1] = before + gain
        state.watts[b, i] *= part
        state.power_w[q, i] -= state.watts[b, i]
        if has_store:
            state.took[b, i] = gain * t.w_per_rate[b]
            state.drawn[q, i] += state.took[b, i]
            level[q] -= state.took[b, i]
    return part < 1.0 or asked_w <= most_w + 1e-6


@compiled
def _rates(b: int, y: int, t: Arrays) -> tuple[float, float, float]:
    """How a battery charges on a bay: `bulk`, `tail` and `taper_h`."""
    return t.bulk[y, b], t.tail[y, b], t.taper_h[y, b]


@compiled
def _taken(
    q: int, i: int, hours: float, bay: IntArray, t: Arrays, state: State
) -> float:
    """What all on a source take from its store in some hours of an interval. [Wh]"""
    total = 0.0
    for b in range(bay.size):
        if bay[b] >= 0 and t.source_of[bay[b]] == q:
            soc = state.soc[b, i]
            after = charged(soc, hours, *_rates(b, bay[b], t))
            total += (after - soc) * t.w_per_rate[b]
    return total
