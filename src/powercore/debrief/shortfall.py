"""
Where power really ran short: minutes and watt-hours of each way of running short.

Off the air, low power and shed are harm; into reserve is a broken promise and is
counted apart. Energy is counted at the battery's terminals.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from powercore.values import FloatArray, TimeGrid

#: The ways of running short, in the order of the harm they do.
WAYS = ("off_air", "low_power", "shed", "reserve")


@dataclass(frozen=True, slots=True, kw_only=True)
class Stretch:
    """A stretch of time, in minutes from the event's start."""

    start_min: float
    end_min: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Shortfall:
    """One stretch in which a station ran short."""

    what: str
    start_min: float
    end_min: float
    #: Minutes of it in which the station was to be open.
    minutes: float
    #: Energy it did not get; None where nobody knows what was shed. [Wh]
    energy_wh: float | None


def shortfall(
    what: str,
    stretch: Stretch,
    *,
    grid: TimeGrid,
    full_w: FloatArray,
    low_w: FloatArray,
) -> Shortfall:
    """
    Measure one stretch against what the station was planned to draw.

    Parameters
    ----------
    what : str
        One of `WAYS`.
    stretch : Stretch
        From when to when; what lies outside the event or the open hours does not
        count.
    grid : TimeGrid
        The event's time.
    full_w, low_w : array of shape (grid.count,)
        Demand as planned, and on low power. [W]

    Returns
    -------
    Shortfall
        Off the air loses the whole demand; low power the difference; into reserve
        loses nothing; what was shed is not known.
    """
    open_w = (np.asarray(full_w) > 0).astype(float) * 60.0
    minutes = _between(grid, open_w, stretch)
    energy_wh: float | None = 0.0
    if what == "off_air":
        energy_wh = _between(grid, full_w, stretch)
    elif what == "low_power":
        energy_wh = _between(grid, np.maximum(0.0, full_w - low_w), stretch)
    elif what == "shed":
        energy_wh = None
    return Shortfall(
        what=what,
        start_min=stretch.start_min,
        end_min=stretch.end_min,
        minutes=minutes,
        energy_wh=energy_wh,
    )


def below(
    times_min: Sequence[float], levels: Sequence[float], limit: float
) -> list[Stretch]:
    """
    Find the stretches in which a sampled level lies below a limit.

    The moments of crossing are interpolated linearly between samples.
    """
    found: list[Stretch] = []
    start: float | None = None
    before: tuple[float, float] | None = None
    for time, level in zip(times_min, levels, strict=True):
        if level < limit and start is None:
            start = time if before is None else _crossing(before, (time, level), limit)
        elif level >= limit and start is not None:
            assert before is not None  # noqa: S101 - it started at an earlier sample
            end = _crossing(before, (time, level), limit)
            found.append(Stretch(start_min=start, end_min=end))
            start = None
        before = (time, level)
    if start is not None and before is not None and before[0] > start:
        found.append(Stretch(start_min=start, end_min=before[0]))
    return found


def _crossing(a: tuple[float, float], b: tuple[float, float], limit: float) -> float:
    if a[1] == b[1]:
        return b[0]
    return a[0] + (b[0] - a[0]) * (a[1] - limit) / (a[1] - b[1])


def _between(grid: TimeGrid, power_w: FloatArray, stretch: Stretch) -> float:
    total = grid.cumulative_wh(power_w)
    first, last = np.interp([stretch.start_min, stretch.end_min], grid.edges_min, total)
    return float(last - first)
