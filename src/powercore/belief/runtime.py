"""How long a battery lasts: to its reserve and to its disconnect, as a band."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from powercore.belief.draw import LEAST, DrawFactor
from powercore.belief.estimate import SocEstimate
from powercore.physics.battery import Pack
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import BUS_V, FloatArray, TimeGrid


@dataclass(frozen=True, slots=True, kw_only=True)
class TimeLeft:
    """Hours as a band; None means it outlasts the time looked at."""

    bad_h: float | None
    typical_h: float | None
    good_h: float | None


def hours_at(ah: float, mean_a: float) -> float:
    """Hours that amp-hours last at a steady current. [h]"""
    return ah / mean_a if mean_a > 0 else float("inf")


def time_left(  # noqa: PLR0913 - a demand from a minute on, and two beliefs
    pack: Pack,
    soc: SocEstimate,
    *,
    to_soc: float,
    grid: TimeGrid,
    demand_w: FloatArray,
    from_min: float,
    draw: DrawFactor | None = None,
) -> TimeLeft:
    """
    Time until a battery's charge falls to a level under a station's demand.

    Parameters
    ----------
    pack, soc : Pack, SocEstimate
        The battery and what is believed of its charge.
    to_soc : float
        The level: reserve or disconnect. (0 to 1)
    grid, demand_w : TimeGrid, array of shape (grid.count,)
        The station's demand. [W]
    from_min : float
        Now, counted from the grid's start. [min]
    draw : DrawFactor, optional
        What is believed of the real draw over this demand; none: it is exact.

    Returns
    -------
    TimeLeft
        Charge and draw are independent: what each alone takes from the typical case,
        as amp-hours of the demand, is added as squares.
    """
    draw = draw or DrawFactor()
    drawn_ah = grid.cumulative_wh(demand_w) / BUS_V
    edges = grid.edges_min
    start_ah = float(np.interp(from_min, edges, drawn_ah))

    def lasts_ah(level: float, factor: float) -> float:
        return max(0.0, level - to_soc) * pack.trusted_ah / factor

    def hours(planned_ah: float) -> float | None:
        if planned_ah <= 0:
            return 0.0
        target = start_ah + planned_ah
        if target >= drawn_ah[-1]:
            return None
        first = int(np.searchsorted(drawn_ah, target, side="left"))
        before, after = drawn_ah[first - 1], drawn_ah[first]
        minute = edges[first - 1] + grid.step_min * (target - before) / (after - before)
        return max(0.0, (float(minute) - from_min) / 60)

    typical = lasts_ah(soc.typical, draw.mean)
    more, less = (
        draw.mean + ONE_IN_TEN * draw.sd,
        max(LEAST, draw.mean - ONE_IN_TEN * draw.sd),
    )
    fewer = math.hypot(
        typical - lasts_ah(soc.low, draw.mean), typical - lasts_ah(soc.typical, more)
    )
    further = math.hypot(
        lasts_ah(soc.high, draw.mean) - typical, lasts_ah(soc.typical, less) - typical
    )
    return TimeLeft(
        bad_h=hours(typical - fewer),
        typical_h=hours(typical),
        good_h=hours(typical + further),
    )
