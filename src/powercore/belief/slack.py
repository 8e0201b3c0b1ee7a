"""
Slack: the chance that a station is without power before its relief is there.

One definition for plan, board and replan. The hours come from `runtime.hours_left`,
by what is believed; before a station has evidence of its own that is the plan's own
spreads (`as_planned`; `with_planned_draw` where its charge is believed).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import erfinv

from powercore.belief.believed import CHARGES, Joint
from powercore.belief.mixture import NORMAL_POINTS
from powercore.belief.runtime import HORIZON_H
from powercore.values import FloatArray

#: How far below full a battery that left as full may be: one standard deviation.
#: Common practice, no source.
START_SD = 0.03
#: A walk is late by an exponential time, the usual lateness on average, and never by
#: more than so many times that. Common practice, no source.
MOST_LATE = 4.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Slack:
    """How a station's power and its relief meet."""

    #: That it is without power before its relief is there, or before it closes where
    #: nobody comes. (0 to 1)
    chance: float
    #: From the usual arrival to the typical end of its power; None: it outlasts what
    #: is asked of it. [min]
    minutes: float | None
    #: From the planned arrival to the 1-in-10 bad case of its end: so late may relief
    #: be; None as above. [min]
    bad_min: float | None = None


def slack_of(hours: FloatArray, arrive_h: float | None, lateness_min: float) -> Slack:
    """
    Return the slack of a station whose power ends after some hours.

    Parameters
    ----------
    hours : array of shape (cases,)
        Equally likely hours to the end of its power, from now.
    arrive_h : float or None
        When relief is planned to be there, from now; None: nobody comes. [h]
    lateness_min : float
        Usual lateness of a walk. [min]
    """
    bad_h, typical_h = (float(end) for end in np.quantile(hours, (0.1, 0.5)))
    if arrive_h is None:
        chance, arrive_h, late_min = float(np.mean(hours < HORIZON_H)), 0.0, 0.0
    else:
        gap_min, late_min = 60 * (hours - arrive_h), lateness_min
        late = np.where(gap_min <= 0, 1.0, 0.0)
        if lateness_min > 0:
            is_near = (gap_min > 0) & (gap_min < MOST_LATE * lateness_min)
            late = np.where(
                is_near, np.exp(-np.maximum(gap_min, 0.0) / lateness_min), late
            )
        chance = float(np.mean(late))

    def until(end_h: float, less_min: float) -> float | None:
        return None if end_h >= HORIZON_H else 60 * (end_h - arrive_h) - less_min

    return Slack(
        chance=chance, minutes=until(typical_h, late_min), bad_min=until(bad_h, 0.0)
    )


def as_planned(soc: float, spread: float, capacity_sd: float) -> Joint:
    """
    What a plan alone says of a battery that goes into use, as equally likely parts.

    Parameters
    ----------
    soc : float
        Its charge as it goes in. (0 to 1)
    spread : float
        How far the station's use may be off its plan, one standard deviation.
    capacity_sd : float
        How far the capacity may be off the trusted one, as a share of it.
    """
    shares = (np.arange(CHARGES) + 0.5) / CHARGES
    below = START_SD * np.sqrt(2) * erfinv(shares)
    return with_planned_draw(np.clip(soc - below, 0, 1), spread, capacity_sd)


def with_planned_draw(soc: FloatArray, spread: float, capacity_sd: float) -> Joint:
    """Equally likely charges, each with draws as sure as their station's plan is."""
    off = float(np.hypot(spread, capacity_sd)) * NORMAL_POINTS
    factor = np.maximum(np.tile(1 + off, soc.size), 0.05)
    return Joint(np.repeat(soc, off.size), factor, np.zeros(factor.size))
