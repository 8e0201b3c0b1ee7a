"""What the stores of sources leave for one more, and what they take back."""

from __future__ import annotations

import numpy as np

from powercore.rotation.tours.arrays import ENDLESS_STORE_WH, Arrays, State, compiled
from powercore.values import FloatArray


@compiled
def store_left(q: int, t: Arrays, state: State) -> None:
    """
    Work out what one more could take from a store in each interval, and what it spills.

    Filled first, then taken from. What is taken comes back where it would have been
    spilt.
    """
    count = t.points.size - 1
    level = t.store_wh[q]
    if level >= ENDLESS_STORE_WH:
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
def relief_of(spilt: FloatArray, t: Arrays) -> FloatArray:
    """What every store takes back in each interval of what a tour has taken. (P,)"""
    found, is_any = np.full(spilt.shape[1], np.inf), False
    for q in range(spilt.shape[0]):
        if t.store_wh[q] < ENDLESS_STORE_WH:
            is_any = True
            for i in range(found.size):
                found[i] = min(found[i], spilt[q, i])
    if not is_any:
        found[:] = 0.0
    return found
