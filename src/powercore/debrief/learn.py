"""Estimates from events, and how well what was known would have foretold them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import sqrt

import numpy as np
from scipy.special import stdtrit

from powercore.debrief.attribute import Likely
from powercore.physics.loads import ONE_IN_TEN

#: A ratio nearer to its plan than this, or known no better, teaches nothing.
WORTH = 0.05
#: How much a station's draw differs from event to event, as a share: one standard
#: deviation. Common practice, no source.
BETWEEN_SD = 0.1


def sd_of(likely: Likely) -> float:
    """One standard deviation of what has an 80 % interval."""
    return (likely.high - likely.low) / (2 * ONE_IN_TEN)


def says_something(likely: Likely) -> bool:
    """Whether a ratio to its plan is off it, as far as it is known."""
    off = abs(likely.typical - 1)
    return off >= WORTH and off >= sd_of(likely) / 2


def summed(values: Sequence[float]) -> tuple[float, float]:
    """
    The mean of some values, and how well it is known.

    Parameters
    ----------
    values : sequence of float
        Two or more.

    Returns
    -------
    mean, sd : float
        `sd` is half the 80 % interval of the mean by Student's t, in normal standard
        deviations.
    """
    count = len(values)
    spread = float(np.std(values, ddof=1)) / sqrt(count)
    return float(np.mean(values)), spread * float(stdtrit(count - 1, 0.9)) / (
        ONE_IN_TEN
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Foretold:
    """A ratio as it was or would have been foretold, and as it came."""

    mean: float
    sd: float
    came: float
    came_sd: float

    @property
    def error(self) -> float:
        """What it was off."""
        return self.came - self.mean

    @property
    def is_covered(self) -> bool:
        """Whether it came within its 80 % interval, as far as what came is known."""
        return abs(self.error) <= ONE_IN_TEN * float(np.hypot(self.sd, self.came_sd))


def foretell(
    known: Sequence[tuple[float, float]], spread: float
) -> tuple[float, float]:
    """
    What other events foretell of a ratio.

    Parameters
    ----------
    known : sequence of (float, float)
        Means and standard deviations of other events; none: the plan as it is.
    spread : float
        How far it may be off a plan that nobody measured, as a share.

    Returns
    -------
    mean, sd : float
        Weighted by how well each is known, with what events differ by themselves
        (a random-effects mean with a known spread between events).
    """
    if not known:
        return 1.0, spread
    weights = np.array([1 / (sd**2 + BETWEEN_SD**2) for _, sd in known])
    mean = float(weights @ np.array([one for one, _ in known]) / weights.sum())
    return mean, sqrt(1 / float(weights.sum()) + BETWEEN_SD**2)


def scored(found: Sequence[Foretold]) -> tuple[float, float]:
    """
    How well something was foretold.

    Returns
    -------
    mean absolute error, share covered : float
    """
    errors = [abs(one.error) for one in found]
    covered = [one.is_covered for one in found]
    return float(np.mean(errors)), float(np.mean(covered))


def wilson(hits: int, count: int) -> tuple[float, float]:
    """
    The 95 % interval of a share, of hits in a count of one or more [1]_.

    References
    ----------
    .. [1] E. B. Wilson, "Probable inference, the law of succession, and statistical
       inference", J. American Statistical Association 22, 1927, pp. 209-212.
    """
    z = 1.959963984540054
    share, extra = hits / count, z**2 / count
    middle = (share + extra / 2) / (1 + extra)
    half = z * sqrt(share * (1 - share) / count + extra / (4 * count)) / (1 + extra)
    return max(0.0, middle - half), min(1.0, middle + half)


#: Of a pair of readings under different loads, the currents differ by so much. [A]
LEAST_APART_A = 3.0
#: How far one reading of volts is off, beside what both are off alike. [V]
READ_SD_V = 0.02


def resistance_of(
    pairs: Sequence[tuple[float, float, float, float]],
) -> tuple[float, float] | None:
    """
    What pairs of readings of one battery say of its resistance.

    Parameters
    ----------
    pairs : sequence of (volts, amps, volts, amps)
        Each receiving and key down, so near in time that its charge was the same.

    Returns
    -------
    mean, sd : float or None
        [Ω], weighted by how far the currents are apart; None where no pair's are far
        enough, or volts do not fall with the current.
    """
    apart = [
        (high_a - low_a, low_v - high_v)
        for low_v, low_a, high_v, high_a in pairs
        if high_a - low_a >= LEAST_APART_A
    ]
    squares = sum(amps**2 for amps, _ in apart)
    if not squares:
        return None
    mean = sum(amps * volts for amps, volts in apart) / squares
    return (mean, READ_SD_V * sqrt(2 / squares)) if mean > 0 else None
