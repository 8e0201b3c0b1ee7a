"""
Simulated meters: what a shunt meter, a charge controller and a panel would show.

Behind each is the plant, which knows what is true; the meter adds its noise, its zero
and its faults. The same seed shows the same.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from powercore.errors import UnknownKey
from powercore.gear.plant import PlantBattery

SHUNT, CONTROLLER, GENERATOR = "shunt", "controller", "generator"
KINDS = (SHUNT, CONTROLLER, GENERATOR)
#: "ok"; "dead": nothing is sent; "stuck": shows the same for ever; "open": the lead is
#: off, so that nothing flows.
FAULTS = ("ok", "dead", "stuck", "open")


@dataclass(slots=True, kw_only=True)
class StandIn:
    """A simulated meter on a battery, or on a generator."""

    kind: str
    battery: PlantBattery
    #: What the load draws, or the bay gives. [W]
    power_w: float = 25.0
    #: One standard deviation of each value shown. [V], [A]
    noise_v: float = 0.01
    noise_a: float = 0.02
    #: What it shows with nothing flowing. [A]
    zero_a: float = 0.0
    #: Share of samples that get lost. (0 to 1)
    loses: float = 0.0
    seed: int = 0
    fault: str = "ok"
    counted_ah: float = 0.0
    _shown: dict[str, float | bool] = field(default_factory=dict)
    _random: np.random.Generator = field(init=False)

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise UnknownKey(f"A stand-in is a {', a '.join(KINDS)}, not {self.kind}.")
        self._random = np.random.default_rng(self.seed)

    def set_fault(self, fault: str) -> None:
        """
        Break it, or mend it.

        Raises
        ------
        UnknownKey
            If there is no such fault.
        """
        if fault not in FAULTS:
            raise UnknownKey(f"A fault is {', '.join(FAULTS)}; not {fault}.")
        self.fault = fault

    def step(self, hours: float) -> dict[str, float | bool] | None:
        """
        Let time pass; return what the meter sends then, None where nothing comes.

        Parameters
        ----------
        hours : float
            Since the step before. [h]

        Returns
        -------
        dict
            volts [V], amps out [A] and amp_hours out [Ah]; of a generator: running.
        """
        shown = self._panel() if self.kind == GENERATOR else self._meter(hours)
        if self.fault == "stuck" and self._shown:
            shown = self._shown
        self._shown = shown
        is_lost = bool(self._random.random() < self.loses)
        return None if self.fault == "dead" or is_lost else dict(shown)

    def _panel(self) -> dict[str, float | bool]:
        return {"running": self.fault != "open"}

    def _meter(self, hours: float) -> dict[str, float | bool]:
        before = self.battery.soc
        if self.fault != "open" and hours > 0:
            if self.kind == SHUNT:
                self.battery.serve(self.power_w, hours)
            else:
                self.battery.charge(self.power_w, hours)
        out_ah = (before - self.battery.soc) * self.battery.true_ah
        amps = out_ah / hours if hours > 0 else 0.0
        pack = self.battery.pack
        volts = pack.rested_v(self.battery.soc) - amps * pack.resistance_ohm
        amps += self.zero_a + float(self._random.normal(0, self.noise_a))
        self.counted_ah += amps * hours
        return {
            "volts": round(volts + float(self._random.normal(0, self.noise_v)), 3),
            "amps": round(amps, 3),
            "amp_hours": round(self.counted_ah, 4),
        }
