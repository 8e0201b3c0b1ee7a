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


#: Charge up to which charging is worth waiting for where time is short. (0 to 1)
MOST = 0.9


@dataclass(frozen=True, slots=True, kw_only=True)
class Recharge:
    """How long something takes to charge a battery; infinite where it never does."""

    #: What is left for the battery at first. [A]
    amps: float
    #: To `MOST`, and with the tail to full. [h]
    to_most_h: float
    to_full_h: float


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


def recharge(
    pack: PackLike,
    amps: float,
    *,
    limit_a: float = math.inf,
    load_a: float = 0.0,
    from_soc: float,
    least_h: float = 0.0,
) -> Recharge:
    """
    Say how long a source takes to charge a battery, with a load running beside it.

    Parameters
    ----------
    pack : PackLike
        The battery.
    amps, limit_a, load_a : float
        What the source can give, what the battery may take, and what the load takes
        all the while. [A]
    from_soc : float
        Charge to begin with. (0 to 1)
    least_h : float
        What it takes to full at the least, where volts and not amps are short. [h]

    Raises
    ------
    OutOfRange
        If a current is below zero.
    """
    in_range("Current of the source", amps, low=0, unit="A")
    in_range("Current of the load", load_a, low=0, unit="A")
    left_a = max(0.0, min(amps, limit_a + load_a) - load_a)
    model = ChargeModel.of(pack, left_a)
    stored = from_soc * model.capacity
    return Recharge(
        amps=left_a,
        to_most_h=model.hours_to(stored, MOST * model.capacity),
        to_full_h=max(least_h, model.hours_to(stored, model.capacity)),
    )
