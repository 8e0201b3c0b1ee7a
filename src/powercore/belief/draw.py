"""How much a station really draws against its plan, learned from its readings."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from powercore import limits
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import in_range

#: A factor is not believed to be less or more, whatever a reading says was drawn.
LEAST, MOST = limits.DRAWS.low, limits.DRAWS.high


@dataclass(frozen=True, slots=True)
class DrawFactor:
    """Real draw over planned draw: what is believed of it, and how sure that is."""

    mean: float = 1.0
    #: One standard deviation.
    sd: float = 0.0
    #: On how many turns of batteries it rests; 0: on the plan's own spread alone.
    turns: int = 0

    @property
    def is_news(self) -> bool:
        """Whether it says that the plan is wrong: by a tenth, 9 times in 10."""
        off = abs(self.mean - 1)
        return self.turns > 0 and off >= 0.1 and off > ONE_IN_TEN * self.sd


@dataclass(frozen=True, slots=True, kw_only=True)
class Observed:
    """What a battery gave in a stretch of its turn at a station, against its plan."""

    planned_ah: float
    used_ah: float
    #: One standard deviation of what was used, by how it was read. [Ah]
    sd_ah: float


def learned(spread: float, seen: Iterable[Observed]) -> DrawFactor:
    """
    Believe a draw factor from what was seen.

    Used = factor × planned, with the reading's error: the posterior of a linear
    Gaussian model, which is what a Kalman filter of a constant gives.

    Parameters
    ----------
    spread : float
        What the plan itself says of its own factor: one standard deviation about 1.
    seen : iterable of Observed
        Stretches that share no time.

    Raises
    ------
    OutOfRange
        If a spread, or an error of a reading, is not above 0.
    """
    in_range("Spread of the use", spread, low=1e-6)
    precision, weighted, turns = spread**-2, spread**-2, 0
    for one in seen:
        in_range("Error of a reading", one.sd_ah, low=1e-9, unit="Ah")
        weight = one.sd_ah**-2
        precision += weight * one.planned_ah**2
        weighted += weight * one.planned_ah * one.used_ah
        turns += 1
    mean = min(MOST, max(LEAST, weighted / precision))
    return DrawFactor(mean=mean, sd=math.sqrt(1 / precision), turns=turns)
