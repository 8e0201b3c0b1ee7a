"""Contacts made, and what an outage cost of them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.special import gammaincinv

from powercore.debrief.attribute import Likely
from powercore.debrief.shortfall import Stretch

#: Contacts so long before and after an outage say what it cost. [min]
AROUND_MIN = 60.0


def cost_of(
    outage: Stretch, contacts_min: Sequence[float], off: Sequence[Stretch]
) -> Likely | None:
    """
    Tell how many contacts an outage cost, by the rate around it.

    Contacts come by chance at a rate; of a rate that n contacts in a time were seen
    of, the interval is that of a gamma distribution with n + 1/2 (Jeffreys; [1]_).

    Parameters
    ----------
    outage : Stretch
        Off the air.
    contacts_min : sequence of float
        When contacts were made. [min]
    off : sequence of Stretch
        All that the station was off the air, the outage among them.

    Returns
    -------
    Likely or None
        Contacts, with an 80 % interval; None where it was not on the air around it.

    References
    ----------
    .. [1] L. D. Brown, T. T. Cai and A. DasGupta, "Interval estimation in exponential
       families", Statistica Sinica 13, 2003, pp. 19-49.
    """
    first = max(0.0, outage.start_min - AROUND_MIN)
    last = outage.end_min + AROUND_MIN
    gone = sum(
        max(0.0, min(last, one.end_min) - max(first, one.start_min)) for one in off
    )
    on_min = last - first - gone
    if on_min <= 0:
        return None
    times = np.asarray(contacts_min, dtype=float)
    count = int(((times >= first) & (times < last)).sum())
    minutes = outage.end_min - outage.start_min
    low, high = gammaincinv(count + 0.5, [0.1, 0.9]) * minutes / on_min
    return Likely(low=float(low), typical=count * minutes / on_min, high=float(high))
