"""Batteries as they really are at a station, made by other code than the belief's."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.interpolate import PchipInterpolator

from powercore.physics.battery import Pack

PACKS = {
    "lifepo4": (4, 20.0),
    "agm": (6, 20.0),
    "nmc": (4, 20.0),
}


@dataclass
class Discharge:
    """One turn: a draw that wanders from hour to hour, and what is read of it."""

    pack: Pack
    rng: np.random.Generator
    planned_a: float
    hours: float = 0.0
    counted_ah: float = 0.0
    history: list[tuple[float, float]] = field(default_factory=list)
    soc: float = 1.0

    def __post_init__(self) -> None:
        rng, pack = self.rng, self.pack
        self.factor = rng.uniform(0.6, 1.6)
        # "Full by its charger" is not quite the same of every pack.
        self.soc = 1 - abs(rng.normal(0, 0.02))
        self.true_ah = pack.trusted_ah * rng.normal(1, 0.03)
        cells = np.asarray(pack.chem.curve_soc), np.asarray(pack.chem.curve_v)
        self.curve = PchipInterpolator(*cells)
        # Errors that last: this pack's curve and its hysteresis, this meter, this
        # counter, this gauge.
        self.pack_v = rng.normal(0, 0.7 * pack.chem.curve_sd_v) * pack.series
        self.lag_v = abs(rng.normal(0, 0.7 * pack.chem.curve_sd_v)) * pack.series
        self.meter_v = rng.normal(0, 0.02)
        self.gain, self.zero_a = rng.normal(1, 0.02), rng.normal(0, 0.02)
        self.gauge_off = rng.normal(0, 0.035)
        self.ohm = pack.resistance_ohm * rng.normal(1, 0.15)
        self.wander = rng.normal(0, 0.12)

    @property
    def amps(self) -> float:
        """What flows now: an hour's memory of how it wandered."""
        return self.planned_a * self.factor * max(0.1, 1 + self.wander)

    @property
    def dearer(self) -> float:
        """What an amp-hour takes out of lead-acid at this current."""
        if not self.pack.chem.is_lead:
            return 1.0
        # Amp-hours of a 7 Ah AGM block at 20, 10, 5 and 1 h; a maker's sheet, memory.
        rates, given = (0.05, 0.093, 0.17, 0.6), (1.0, 0.93, 0.85, 0.6)
        return 1 / float(np.interp(self.amps / self.true_ah, rates, given))

    def run(self, hours: float, step_h: float = 0.05) -> None:
        """Let time pass."""
        for _ in range(round(hours / step_h)):
            kept = np.exp(-step_h / 1.0)
            noise = self.rng.normal(0, 0.12 * np.sqrt(1 - kept**2))
            self.wander = kept * self.wander + noise
            amps = self.amps if self.soc > 0 else 0.0
            self.soc = max(0.0, self.soc - amps * self.dearer * step_h / self.true_ah)
            self.counted_ah += (self.gain * amps + self.zero_a) * step_h
            self.hours += step_h
            self.history.append((self.hours, self.soc))

    def hours_to(self, soc: float) -> float:
        """How long it still takes to fall to a charge."""
        before = self.hours
        while self.soc > soc and self.hours < before + 200:
            self.run(0.05)
        return self.hours - before

    def volts(self) -> tuple[float, float]:
        """A meter's volts and amps, while the station receives."""
        amps = 0.4 * self.amps
        inside = float(self.curve(self.soc)) * self.pack.series
        noise = self.rng.normal(0, 0.02)
        read = inside + self.pack_v - self.lag_v - amps * self.ohm + self.meter_v
        return round(read + noise, 2), round(amps, 1)

    def count(self) -> float:
        """What a counter shows."""
        return round(self.counted_ah + self.rng.normal(0, 0.03), 1)

    def gauge(self) -> float:
        """What a gauge shows."""
        shown = self.soc + self.gauge_off + self.rng.normal(0, 0.015)
        return round(float(np.clip(shown, 0, 1)), 2)
