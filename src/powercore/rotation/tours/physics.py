"""Charge and service of one battery in one interval, as the verifier has them."""

from __future__ import annotations

import math

from powercore.rotation.tours.arrays import ENDLESS_STORE_WH, TINY, Arrays, compiled

#: Share of a battery stored an hour at most and in the tail, the taper in hours, and
#: watts for a share an hour.
Rates = tuple[float, float, float, float]


@compiled
def charge_rate(soc: float, bulk: float, tail: float, taper_h: float) -> float:
    """Share of a battery stored an hour; 0 when it is full."""
    if soc >= 1.0:
        return 0.0
    return min(bulk, tail + (1.0 - soc) / taper_h)


@compiled
def charged(
    soc: float, hours: float, bulk: float, tail: float, taper_h: float
) -> float:
    """
    State of charge after some hours on a bay; as `ChargeModel.after`, compiled.

    Parameters
    ----------
    soc, hours : float
        Charge before (0 to 1), and how long. [h]
    bulk, tail, taper_h : float
        First and last rate, and the time in which the rate falls by e. [1/h], [h]
    """
    if bulk <= 0.0 or hours <= 0.0 or soc >= 1.0:
        return soc
    knee = 1.0 - taper_h * max(0.0, bulk - tail)
    bulk_h = max(0.0, (knee - soc) / bulk)
    if hours <= bulk_h:
        return soc + bulk * hours
    soc = max(soc, knee)
    if bulk <= tail:
        return min(1.0, soc + bulk * (hours - bulk_h))
    gap = 1.0 - soc + taper_h * tail
    gap *= math.exp(-(hours - bulk_h) / taper_h)
    return min(1.0, 1.0 + taper_h * tail - gap)


@compiled
def charge_on(
    soc: float, hours: float, rates: Rates, store_wh: float, most_w: float
) -> tuple[float, float, float]:
    """
    Charge a battery on a bay whose source runs and has so much in its store.

    `rates` are what the battery stores on the bay; see `ChargeModel`.

    Returns
    -------
    after, watts, taken_wh : float
        Its charge then, what it asks for at first and gets of `most_w`, and what it
        takes out of the store; nothing is taken out of one without end.
    """
    bulk, tail, taper_h, w_per_rate = rates
    watts = charge_rate(soc, bulk, tail, taper_h) * w_per_rate
    after = charged(soc, hours, bulk, tail, taper_h)
    wanted = (after - soc) * w_per_rate
    given = wanted
    if watts > most_w:
        given = min(given, max(0.0, most_w) * hours)
        watts = given / hours
    if store_wh < ENDLESS_STORE_WH:
        given = min(given, max(0.0, store_wh))
    if given < wanted:
        after = soc + (after - soc) * given / wanted
    return after, watts, given if store_wh < ENDLESS_STORE_WH else 0.0


@compiled
def serve(
    soc: float, need_wh: float, holds_wh: float, floor: float, reserve: float
) -> tuple[float, float, float]:
    """
    Serve a station for an interval.

    Parameters
    ----------
    soc, floor, reserve : float
        Charge before, where power ends, what is promised. (0 to 1)
    need_wh, holds_wh : float
        What the interval asks for, and what the battery holds. [Wh]

    Returns
    -------
    tuple of float
        Charge after it, the share that was served, and what was taken from below the
        reserve. (0 to 1), (0 to 1), [Wh]
    """
    left = max(0.0, (soc - floor) * holds_wh)
    given = min(need_wh, left)
    after = soc - given / holds_wh
    share = 1.0 if need_wh <= left + TINY else given / need_wh
    above = max(0.0, (soc - reserve) * holds_wh)
    return after, share, max(0.0, given - above)


@compiled
def at_seat(
    soc: float, b: int, s: int, i: int, t: Arrays
) -> tuple[float, float, float]:
    """A battery that feeds a station in an interval, as `serve`, and is topped up."""
    after, share, below = serve(
        soc, t.need_wh[s, i], t.holds_wh[s, b], t.floor[s, b], t.reserve[s, b]
    )
    return topped_up(after, b, s, i, t), share, below


@compiled
def topped_up(soc: float, b: int, s: int, i: int, t: Arrays) -> float:
    """Charge after what is left over at a seat in an interval has come in."""
    if t.surplus_wh[s, i] <= 0.0:
        return soc
    takes = t.takes
    most = soc + t.surplus_wh[s, i] / t.w_per_rate[b]
    full = charged(
        soc, t.surplus_h[s, i], takes[0, s, b], takes[1, s, b], takes[2, s, b]
    )
    return min(most, full)
