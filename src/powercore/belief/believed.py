"""What is believed of a charge, as it is told, kept and carried on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from powercore.belief.mixture import NORMAL_POINTS, Mixture, band
from powercore.belief.steps import Charging, Step, Use
from powercore.physics.battery import Pack
from powercore.physics.charging import ChargeModel
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import FloatArray

# How far off things are, one standard deviation each. Common practice, no source.
#: A station's draw from one hour to the next, as a share of it.
WANDER_SD = 0.15
#: What sun and supplies give at a station against what is forecast: nothing, perhaps.
GIVEN_SD = 0.45
#: A joint belief is kept as so many parts that are equally likely: by charge, and for
#: each by factor.
CHARGES, FACTORS = 16, 8
#: An interval wider than this is told instead of its middle. (0 to 1)
WIDE = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class MethodAnswer:
    """What the last reading of one kind says alone."""

    method: str
    low: float
    high: float
    words: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SocEstimate:
    """A state of charge (the median) with its 80 % interval and what it rests on."""

    typical: float
    low: float
    high: float
    methods: tuple[MethodAnswer, ...] = ()
    evidence: str = "never seen"
    #: What was read last, where it contradicts what was believed until then.
    contradicts: str = ""

    @property
    def sd(self) -> float:
        """One standard deviation, by its 80 % interval."""
        return (self.high - self.low) / (2 * ONE_IN_TEN)

    @property
    def told(self) -> str:
        """One number where it is known well, else the interval alone."""
        if self.high - self.low > WIDE:
            return f"{100 * self.low:.0f}–{self.high:.0%}"
        return f"{self.typical:.0%}"


@dataclass(frozen=True, slots=True, eq=False)
class Joint:
    """
    Charge and factor together, as parts that are equally likely.

    Each of shape (parts,): the mean charge, and mean and standard deviation of the
    factor where the charge is that.
    """

    soc: FloatArray
    factor: FloatArray
    factor_sd: FloatArray


@dataclass(frozen=True, slots=True, eq=False)
class Begun:
    """What was believed as a turn began: all that its own readings go on from."""

    charge: Mixture
    factor: Mixture
    #: Means of the errors that last, in the order of the filters. shape (8,)
    errors: FloatArray

    @property
    def numbers(self) -> list[float]:
        """All of it in one row, to be kept."""
        parts = [
            part
            for one in (self.charge, self.factor)
            for part in (one.weight, one.mean, one.var)
        ]
        sizes = [float(self.charge.weight.size), float(self.factor.weight.size)]
        return [*sizes, *np.concatenate([*parts, self.errors]).tolist()]

    @classmethod
    def of_numbers(cls, numbers: Sequence[float]) -> Begun:
        """What was kept as such a row."""
        one, two = int(numbers[0]), int(numbers[1])
        cuts = np.cumsum([one, one, one, two, two, two])
        parts = np.split(np.array(numbers[2:]), cuts)
        return cls(Mixture(*parts[:3]), Mixture(*parts[3:6]), parts[6])


def unknown() -> SocEstimate:
    """Return the estimate of a battery nobody has seen: anything is possible."""
    return SocEstimate(typical=0.5, low=0.1, high=0.9)


def carried(
    before: SocEstimate, joint: Joint, steps: Sequence[Step], pack: Pack
) -> tuple[SocEstimate, Joint]:
    """
    Carry what is believed forward by uses and charges, without the bank.

    Parameters
    ----------
    before, joint : SocEstimate, Joint
        What was believed.
    steps : sequence of Use or Charging
        What passed since.

    Returns
    -------
    SocEstimate, Joint
        What is believed after them; the band counts how a draw wanders, the parts
        don't.
    """
    if not steps:
        return before, joint
    soc, noise = joint.soc, np.zeros(joint.soc.size)
    for step in steps:
        if isinstance(step, Charging):
            soc = charged(step.model, soc, joint.factor * step.hours)
        elif isinstance(step, Use):
            hours = max(step.hours, 1e-3)
            full_ah = pack.ah_at(joint.factor * step.planned_ah / hours)
            drawn, given = step.planned_ah / full_ah, step.given_ah / pack.trusted_ah
            soc = np.clip(soc - joint.factor * drawn + given, 0, 1)
            noise = noise + wandered(joint.factor, drawn, hours)
            noise = noise + (joint.factor_sd * drawn) ** 2 + (GIVEN_SD * given) ** 2
    found = Joint(soc, joint.factor, joint.factor_sd)
    low, typical, high = band(*points_of(soc, noise, np.ones(soc.size)))
    return replace(before, typical=typical, low=low, high=high), found


def wandered(factor: FloatArray, drawn: FloatArray | float, hours: float) -> FloatArray:
    """
    Variance of a share used in some hours, beside what its factor says.

    What wanders adds up as its squares, however often somebody looks.
    """
    return np.asarray((WANDER_SD * factor * drawn) ** 2 / hours)


def points_of(
    mean: FloatArray, var: FloatArray, weights: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Charges that stand for each filter's, within 0 and 1, and their weights."""
    sd = np.sqrt(np.maximum(var, 0))
    points = np.clip(mean[:, None] + sd[:, None] * NORMAL_POINTS, 0, 1)
    return points.ravel(), np.repeat(weights / NORMAL_POINTS.size, NORMAL_POINTS.size)


def parts_of(
    soc: FloatArray, factor: FloatArray, left: FloatArray, weights: FloatArray
) -> Joint:
    """Cut points into parts that are equally likely: by charge, then by factor."""
    order = np.argsort(soc)
    total = np.cumsum(weights[order]) / weights.sum()
    cuts = np.unique(np.concatenate([total, np.linspace(0, 1, CHARGES + 1)]))
    middle = (cuts[1:] + cuts[:-1]) / 2
    at = order[np.minimum(np.searchsorted(total, middle), order.size - 1)]
    again = np.lexsort((factor[at], np.floor(middle * CHARGES)))
    at, share = at[again], np.diff(cuts)[again]
    total = np.concatenate([[0.0], np.cumsum(share)])
    edges = np.linspace(0, total[-1], CHARGES * FACTORS + 1)

    def mean(values: FloatArray) -> FloatArray:
        sums = np.concatenate([[0.0], np.cumsum(share * values[at])])
        return np.diff(np.interp(edges, total, sums)) / np.diff(edges)

    factors = mean(factor)
    var = np.maximum(mean(left + factor**2) - factors**2, 0)
    return Joint(np.clip(mean(soc), 0, 1), factors, np.sqrt(var))


def charged(model: ChargeModel, share: FloatArray, hours: FloatArray) -> FloatArray:
    """States of charge after hours of charging, of each."""
    full = model.capacity
    return model.after_each(np.clip(share, 0, 1) * full, np.maximum(hours, 0)) / full
