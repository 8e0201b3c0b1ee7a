"""
The physical simulator of batteries, loads and bays, for demo, meters and tests.

It knows what nobody in the field knows: the true capacity, the true charge. Every
watt-hour is accounted for: what went in equals what came out plus the change in
store plus losses. Losses are computed from resistance and coulombic efficiency,
never as what is left over.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from powercore.errors import PowerBeyondPack
from powercore.physics.battery import Pack, current_for_power
from powercore.values import in_range


@dataclass(slots=True, kw_only=True)
class Account:
    """Energy account of one battery. [Wh]"""

    in_wh: float = 0.0
    out_wh: float = 0.0
    lost_wh: float = 0.0
    #: Offered by the bay but not taken by a battery near full.
    spilled_wh: float = 0.0
    unserved_wh: float = 0.0


@dataclass(slots=True, kw_only=True)
class PlantBattery:
    """A battery as it really is."""

    pack: Pack
    #: True capacity, which a label or an old test may have wrong. [Ah]
    true_ah: float
    soc: float
    #: State of charge at which power ends at the load it feeds.
    cut_soc: float = 0.05
    account: Account

    def __post_init__(self) -> None:
        in_range("True capacity", self.true_ah, low=0.01, high=5000, unit="Ah")
        in_range("State of charge", self.soc, low=0, high=1)

    @property
    def stored_wh(self) -> float:
        """Energy in the cells, by integrating the rested voltage. [Wh]"""
        soc = np.linspace(0, self.soc, 2001)
        mean_v = float(np.trapezoid(self.pack.chem.rested_v(soc), soc))
        return mean_v * self.pack.series * self.true_ah

    def serve(self, power_w: float, hours: float) -> float:
        """Feed a load for a while; return the energy delivered. [Wh]"""
        wanted_wh = power_w * hours
        if self.soc <= self.cut_soc or power_w <= 1e-9:
            self.account.unserved_wh += wanted_wh
            return 0.0
        rested_v = self._rested_v()
        try:
            current_a = current_for_power(rested_v, self.pack.resistance_ohm, power_w)
        except PowerBeyondPack:
            self.account.unserved_wh += wanted_wh
            return 0.0
        available_h = (self.soc - self.cut_soc) * self.true_ah / current_a
        ran_h = min(hours, available_h)
        self._move(-current_a, ran_h)
        self.account.out_wh += power_w * ran_h
        self.account.unserved_wh += power_w * (hours - ran_h)
        return power_w * ran_h

    def charge(self, bay_w: float, hours: float) -> float:
        """Take charge from a bay for a while; return the energy taken. [Wh]"""
        chem, resistance = self.pack.chem, self.pack.resistance_ohm
        rested_v = self._rested_v()
        # The charger holds its voltage: the current falls as the cells rise to it.
        tail_a = chem.tail_c * self.true_ah
        room_a = tail_a + (1 - self.soc) * self.true_ah / chem.taper_h
        current_a = min(
            self.pack.charge_limit_a(None),
            room_a,
            (-rested_v + (rested_v**2 + 4 * resistance * bay_w) ** 0.5)
            / (2 * resistance),
        )
        left_ah = (1 - self.soc) * self.true_ah
        ran_h = min(hours, left_ah / (current_a * chem.coulombic)) if current_a else 0.0
        self._move(current_a, ran_h)
        taken_wh = (rested_v + current_a * resistance) * current_a * ran_h
        self.account.in_wh += taken_wh
        self.account.spilled_wh += bay_w * hours - taken_wh
        return taken_wh

    def _rested_v(self) -> float:
        return self.pack.rested_v(self.soc)

    def _move(self, current_a: float, hours: float) -> None:
        """Move charge into (+) or out of (-) the cells and book the losses."""
        rested_v = self._rested_v()
        self.account.lost_wh += current_a**2 * self.pack.resistance_ohm * hours
        share = 1.0
        if current_a > 0:
            share = self.pack.chem.coulombic
            self.account.lost_wh += rested_v * current_a * (1 - share) * hours
        moved = current_a * share * hours / self.true_ah
        self.soc = min(1.0, max(0.0, self.soc + moved))
