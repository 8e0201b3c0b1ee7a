"""
Charging: power against charge, and the time to a target.

Constant current until the voltage is reached, then a current that falls
exponentially to the tail: one formula in both directions, in amp-hours or in
watt-hours alike.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from powercore.physics.chemistry import Chemistry
from powercore.values import FloatArray, in_range


class PackLike(Protocol):
    """What charging asks of a battery."""

    @property
    def chem(self) -> Chemistry:
        """Its chemistry."""

    @property
    def trusted_ah(self) -> float:
        """Its capacity. [Ah]"""


@dataclass(frozen=True, slots=True, kw_only=True)
class ChargeModel:
    """Charging of one battery on one bay; amounts in Ah or Wh, rates per hour."""

    #: What a full battery holds.
    capacity: float
    #: Rate of storing before the voltage is reached.
    bulk: float
    #: Rate of storing at which charging is over.
    tail: float
    #: Time constant of the fall. [h]
    taper_h: float

    @classmethod
    def of(cls, pack: PackLike, amps: float) -> ChargeModel:
        """How a pack charges on so many amps, in amp-hours stored."""
        chem = pack.chem
        return cls(
            capacity=pack.trusted_ah,
            bulk=amps * chem.coulombic,
            tail=chem.tail_c * pack.trusted_ah * chem.coulombic,
            taper_h=chem.taper_h,
        )

    def __post_init__(self) -> None:
        in_range("Capacity", self.capacity, low=1e-9)
        in_range("Charging rate", self.bulk, low=0)
        in_range("Tail rate", self.tail, low=1e-9)
        in_range("Taper", self.taper_h, low=1e-6, high=24, unit="h")

    @property
    def knee(self) -> float:
        """Stored amount at which the rate begins to fall; may be below zero."""
        return self.capacity - self.taper_h * max(0.0, self.bulk - self.tail)

    def rate_at(self, stored: float) -> float:
        """Rate of storing at a stored amount; 0 when full."""
        if stored >= self.capacity:
            return 0.0
        falling = self.tail + (self.capacity - stored) / self.taper_h
        return min(self.bulk, falling)

    def after(self, stored: float, hours: float) -> float:
        """
        Return what is stored after some hours.

        Straight up to the knee, from there the current falls exponentially to the
        tail. `stored`, like the result, is in the model's own unit: Wh, Ah or a share.
        """
        if self.bulk <= 0 or hours <= 0 or stored >= self.capacity:
            return stored
        bulk_h = max(0.0, (self.knee - stored) / self.bulk)
        if hours <= bulk_h:
            return stored + self.bulk * hours
        stored = max(stored, self.knee)
        if self.bulk <= self.tail:
            return min(self.capacity, stored + self.bulk * (hours - bulk_h))
        gap = self.capacity - stored + self.taper_h * self.tail
        gap *= math.exp(-(hours - bulk_h) / self.taper_h)
        return min(self.capacity, self.capacity + self.taper_h * self.tail - gap)

    def after_each(self, stored: FloatArray, hours: FloatArray) -> FloatArray:
        """Return what is stored after some hours, of many at once; as `after`."""
        if self.bulk <= 0:
            return stored
        bulk_h = np.maximum(0.0, (self.knee - stored) / self.bulk)
        straight = stored + self.bulk * np.minimum(hours, bulk_h)
        left_h = np.maximum(0.0, hours - bulk_h)
        if self.bulk <= self.tail:
            falling = straight + self.bulk * left_h
        else:
            top = self.capacity + self.taper_h * self.tail
            falling = top - (top - straight) * np.exp(-left_h / self.taper_h)
        found = np.where(left_h > 0, falling, straight)
        return np.maximum(stored, np.minimum(self.capacity, found))

    def hours_to(self, stored: float, target: float) -> float:
        """
        Hours from one stored amount to another; infinite without a charger.

        With the target full this is tcc = (Q - Qcv)/I0 and tcv = tau ln(I0/It),
        where Qcv = tau (I0 - It).
        """
        target = min(target, self.capacity)
        if stored >= target:
            return 0.0
        if self.bulk <= 0:
            return math.inf
        if self.bulk <= self.tail:
            return (target - stored) / self.bulk
        hours = max(0.0, (min(target, self.knee) - stored) / self.bulk)
        start = max(stored, self.knee)
        if target > start:
            over = self.capacity + self.taper_h * self.tail
            hours += self.taper_h * math.log((over - start) / (over - target))
        return hours
