"""
Distributions of one number as weighted pieces, each with its own mean and variance.

Pieces lie in bins of a fixed grid, so that a distribution can be cut into them again
and again without becoming wider by it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import ndtr

from powercore.values import FloatArray, IntArray

#: Bins of a state of charge.
SOC_EDGES: FloatArray = np.linspace(0, 1, 33)
#: Bins of a draw factor, or of a bay's rate: finest about 1.
FACTOR_EDGES: FloatArray = np.concatenate(
    [[0.1, 0.3], np.geomspace(0.45, 2.2, 12), [3.2, 10.0]]
)
#: Points of equal weight that stand for a normal distribution: its mean and its
#: variance are kept.
_EQUAL: FloatArray = np.array([-1.48, -0.84, -0.36, 0.0, 0.36, 0.84, 1.48])
NORMAL_POINTS: FloatArray = _EQUAL / np.sqrt(np.mean(_EQUAL**2))


@dataclass(frozen=True, slots=True, eq=False)
class Mixture:
    """Weights (sum 1), means and variances of pieces, each of shape (pieces,)."""

    weight: FloatArray
    mean: FloatArray
    var: FloatArray

    @classmethod
    def normal(cls, mean: float, sd: float, edges: FloatArray) -> Mixture:
        """Cut a normal distribution at edges; what lies beyond them is left out."""
        if sd <= 0:
            return cls(np.ones(1), np.array([mean]), np.zeros(1))
        z = np.clip((edges - mean) / sd, -30, 30)
        mass = np.diff(ndtr(z))
        bell = np.exp(-0.5 * z**2) / np.sqrt(2 * np.pi)
        safe = np.maximum(mass, 1e-300)
        shift = -np.diff(bell) / safe
        inside = np.where(
            mass > 1e-9,
            1 - np.diff(z * bell) / safe - np.where(mass > 1e-9, shift, 0) ** 2,
            0,
        )
        # A thin slice of a tail: the formulas lose their digits there.
        kept = (mass > 1e-9) & (inside > 0)
        if not kept.any():
            return cls(np.ones(1), np.array([mean]), np.array([sd**2]))
        weight = mass[kept]
        return cls(
            weight / weight.sum(),
            mean + sd * shift[kept],
            sd**2 * np.clip(inside[kept], 1e-12, 1),
        )

    @classmethod
    def flat(cls, edges: FloatArray) -> Mixture:
        """Anything between the first and the last edge alike."""
        width = np.diff(edges)
        return cls(width / width.sum(), (edges[1:] + edges[:-1]) / 2, width**2 / 12)

    @classmethod
    def of_points(
        cls, points: FloatArray, weights: FloatArray, edges: FloatArray
    ) -> Mixture:
        """Sort weighted points into bins; each keeps its points' mean and variance."""
        at = bin_of(points, edges)
        size = edges.size - 1
        weight = np.bincount(at, weights, size)
        kept = weight > 1e-12 * weight.sum()
        safe = np.where(kept, weight, 1.0)
        mean = np.bincount(at, weights * points, size) / safe
        square = np.bincount(at, weights * (points - mean[at]) ** 2, size) / safe
        return cls(weight[kept] / weight[kept].sum(), mean[kept], square[kept])

    def with_share(self, other: Mixture, share: float) -> Mixture:
        """Give a share of the weight to another distribution."""
        return Mixture(
            np.concatenate([(1 - share) * self.weight, share * other.weight]),
            np.concatenate([self.mean, other.mean]),
            np.concatenate([self.var, other.var]),
        )

    @property
    def average(self) -> float:
        """Mean of the whole."""
        return float(self.weight @ self.mean)

    @property
    def sd(self) -> float:
        """Standard deviation of the whole."""
        spread = self.var + (self.mean - self.average) ** 2
        return float(np.sqrt(self.weight @ spread))

    def even(self, count: int) -> FloatArray:
        """So many values that are equally likely. shape (count,)"""
        points, weights = self.points()
        order = np.argsort(points)
        total = np.cumsum(weights[order]) / weights.sum()
        shares = (np.arange(count) + 0.5) / count
        return np.asarray(np.interp(shares, total, points[order]))

    def points(self) -> tuple[FloatArray, FloatArray]:
        """Return points that stand for it, and their weights; pieces are normal."""
        at = self.mean[:, None] + np.sqrt(self.var)[:, None] * NORMAL_POINTS
        weights = np.repeat(self.weight / NORMAL_POINTS.size, NORMAL_POINTS.size)
        return at.ravel(), weights


def bin_of(points: FloatArray, edges: FloatArray) -> IntArray:
    """Which bin each point lies in; what lies beyond belongs to the last one."""
    found: IntArray = np.clip(
        np.searchsorted(edges, points, side="right") - 1, 0, edges.size - 2
    )
    return found


def band(points: FloatArray, weights: FloatArray) -> tuple[float, float, float]:
    """Return the 10 %, 50 % and 90 % quantile of weighted points."""
    order = np.argsort(points)
    total = np.cumsum(weights[order])
    middle = (total - 0.5 * weights[order]) / total[-1]
    low, typical, high = np.interp((0.1, 0.5, 0.9), middle, points[order])
    return float(low), float(typical), float(high)
