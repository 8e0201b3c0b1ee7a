"""How long a battery lasts: to its reserve and to its disconnect, as a band."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from powercore.belief.believed import WANDER_SD, Joint
from powercore.belief.draw import LEAST, MOST
from powercore.belief.mixture import NORMAL_POINTS, band
from powercore.physics.battery import Pack
from powercore.values import FloatArray, TimeGrid

#: Longer than any event, and what stands for "it outlasts it". [h]
HORIZON_H, FOR_EVER_H = 15 * 24.0, 1000 * 24.0


@dataclass(frozen=True, slots=True, kw_only=True)
class TimeLeft:
    """Hours as a band; None means it outlasts the time looked at."""

    bad_h: float | None
    typical_h: float | None
    good_h: float | None


def hours_at(ah: float, mean_a: float) -> float:
    """Hours that amp-hours last at a steady current. [h]"""
    return ah / mean_a if mean_a > 0 else float("inf")


def hours_left(
    pack: Pack,
    believed: Joint,
    *,
    to_soc: float,
    grid: TimeGrid,
    demand_w: FloatArray,
    from_min: float,
) -> FloatArray:
    """
    Hours until a battery's charge falls to a level under a station's demand.

    Parameters
    ----------
    pack, believed : Pack, Joint
        The battery, and what is believed of its charge and its station's draw.
    to_soc : float
        The level: reserve or disconnect. (0 to 1)
    grid, demand_w : TimeGrid, array of shape (grid.count,)
        What the station asks of the battery, by plan. [W]
    from_min : float
        Now, counted from the grid's start. [min]

    Returns
    -------
    array of shape (cases,)
        Equally likely, `FOR_EVER_H` where it outlasts what is asked; how the draw
        wanders from hour to hour is counted in.
    """
    drawn_wh, edges = grid.cumulative_wh(demand_w), grid.edges_min
    start_wh = float(np.interp(from_min, edges, drawn_wh))
    factors = believed.factor[:, None] + believed.factor_sd[:, None] * NORMAL_POINTS
    factors = np.clip(factors, LEAST, MOST)
    above = np.maximum(believed.soc - to_soc, 0.0)[:, None]
    # Lead-acid gives less of itself at much: by the mean current while it is open.
    is_ahead = (edges[1:] > from_min) & (demand_w > 0)
    mean_a = float(demand_w[is_ahead].mean()) / pack.nominal_v if is_ahead.any() else 0
    lasts_wh = above * pack.ah_at(factors * mean_a) * pack.nominal_v / factors
    rises = np.flatnonzero(np.diff(drawn_wh, prepend=-1.0) > 0)
    hours = _hours(start_wh + lasts_wh, drawn_wh[rises], edges[rises], from_min)
    # Half of an hour's wander stays in the next; over many it averages out.
    some_h = np.clip(hours, 0.25, HORIZON_H)[:, :, None]
    wander = 1 + WANDER_SD * NORMAL_POINTS / np.sqrt(some_h)
    hours = _hours(
        start_wh + lasts_wh[:, :, None] / np.maximum(wander, 0.3),
        drawn_wh[rises],
        edges[rises],
        from_min,
    )
    return np.asarray(hours.ravel())


def time_left(hours: FloatArray) -> TimeLeft:
    """Return 1-in-10 bad case, typical and 1-in-10 good case of equally likely ones."""
    bad, typical, good = band(hours, np.ones(hours.size))
    return TimeLeft(
        bad_h=_within(bad), typical_h=_within(typical), good_h=_within(good)
    )


def _hours(
    wh: FloatArray, drawn_wh: FloatArray, edges: FloatArray, from_min: float
) -> FloatArray:
    """When so much is drawn, counted from now; beyond the last of it, for ever."""
    minutes = np.interp(wh, drawn_wh, edges)
    hours = np.maximum(0.0, (minutes - from_min) / 60)
    return np.where(wh >= drawn_wh[-1], FOR_EVER_H, hours)


def _within(hours: float) -> float | None:
    return None if hours >= HORIZON_H else hours
