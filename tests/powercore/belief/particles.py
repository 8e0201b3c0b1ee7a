"""A particle filter over the same uncertainties, to compare beliefs with."""

from __future__ import annotations

import numpy as np

from powercore.belief.believed import WANDER_SD
from powercore.belief.draw import MOST
from powercore.belief.estimate import (
    COUNTER_GAIN,
    COUNTER_SD_AH,
    COUNTER_ZERO_A,
    GAUGE_LASTS,
    GAUGE_SD,
    METER_LASTS_V,
    METER_SD_V,
    OUTLIER,
)

COUNT = 20_000


class Particles:
    """Charges, factors and lasting errors drawn from their priors, then weighed."""

    def __init__(self, pack, rng, start_sd=0.02, spread=0.15):
        self.pack, self.rng = pack, rng
        normal = rng.standard_normal
        self.soc = np.clip(1 - np.abs(start_sd * normal(COUNT)), 0, 1)
        sure = rng.random(COUNT) < 0.25
        self.factor = np.where(
            sure, 1 + spread * normal(COUNT), 1 + 0.38 * normal(COUNT)
        )
        wild = rng.random(COUNT) < 0.02
        self.factor = np.where(wild, 2 + 1.5 * normal(COUNT), self.factor)
        self.factor = np.clip(self.factor, 0.1, MOST)
        curve_v = pack.chem.curve_sd_v * pack.series
        self.off_v = np.hypot(curve_v, METER_LASTS_V) * normal(COUNT)
        self.off_gauge = GAUGE_LASTS * normal(COUNT)
        self.gain = COUNTER_GAIN * normal(COUNT)
        self.zero_a = COUNTER_ZERO_A * normal(COUNT)
        self.used = np.zeros(COUNT)
        self.weight = np.full(COUNT, 1 / COUNT)

    def use(self, planned_ah, hours):
        share = planned_ah / self.pack.trusted_ah * self.factor
        wander = WANDER_SD * share / np.sqrt(hours) * self.rng.standard_normal(COUNT)
        flows = np.minimum(self.soc, np.maximum(share + wander, 0))
        self.soc, self.used = self.soc - flows, self.used + flows

    def _weigh(self, off, sd, wide):
        fits = np.exp(-0.5 * (off / sd) ** 2) / (sd * np.sqrt(2 * np.pi))
        self.weight *= (1 - OUTLIER) * fits + OUTLIER * wide
        self.weight /= self.weight.sum()

    def gauge(self, soc):
        self._weigh(soc - self.soc - self.off_gauge, GAUGE_SD, 1.0)

    def count(self, ah, hours):
        full = self.pack.trusted_ah
        says = self.used * (1 + self.gain) + self.zero_a * hours / full
        self._weigh(ah / full - says, COUNTER_SD_AH / full, 1.0)

    def volts(self, volts, amps):
        curve = self.pack.chem.rested_v(self.soc) * self.pack.series
        low, high = (self.pack.chem.rested_v(np.array(e)) for e in (0.0, 1.0))
        off = volts + amps * self.pack.resistance_ohm - curve - self.off_v
        self._weigh(off, METER_SD_V, 1 / ((high - low) * self.pack.series))

    def median(self, values):
        order = np.argsort(values)
        return float(np.interp(0.5, np.cumsum(self.weight[order]), values[order]))

    def hours_to(self, soc, planned_a):
        left = (self.soc - soc) * self.pack.trusted_ah
        return self.median(np.maximum(left, 0) / (self.factor * planned_a))
