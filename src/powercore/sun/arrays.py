"""
Panels, the spot they stand at and what stands round about: values only.

What the sun makes of them is in `solar`, which loads pvlib.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from powercore import limits
from powercore.errors import OutOfRange, UnknownKey
from powercore.values import FloatArray, in_range

#: A controller that converts, and one that only switches.
METHODS = ("mppt", "pwm")
#: A panel that charges straight gives this share of its short-circuit current:
#: a one-diode model of a 100 W panel gives 5.88 A of 6.0 A at 13.0 V.
PWM_SHARE = 0.98
#: What a panel's volts lose for each degree, and cells in good sun. [1/°C], [°C]
#: Common practice, no source.
VOLTS_PER_C, HOT_C = 0.003, 50.0
#: Efficiency of a tracking controller. Common practice, no source.
TRACKING = 0.95


@dataclass(frozen=True, slots=True, kw_only=True)
class Site:
    """A spot under the sky."""

    latitude: float
    longitude: float
    altitude_m: float = 0.0

    def __post_init__(self) -> None:
        limits.LATITUDE.check("Latitude", self.latitude)
        limits.LONGITUDE.check("Longitude", self.longitude)
        limits.ALTITUDE_M.check("Altitude", self.altitude_m)


@dataclass(frozen=True, slots=True)
class Horizon:
    """
    What stands round about: (azimuth, elevation) points, joined by straight lines.

    It goes round through north. No points: an open, flat horizon.
    """

    #: [°], [°]
    points: tuple[tuple[float, float], ...] = ()

    def __post_init__(self) -> None:
        for azimuth, elevation in self.points:
            limits.AZIMUTH.check("Azimuth of the horizon", azimuth)
            limits.HEIGHT.check("Height of the horizon", elevation)

    def elevation_at(self, azimuth: FloatArray | float) -> FloatArray:
        """Height of the horizon in a direction. [°]"""
        if not self.points:
            return np.zeros_like(np.asarray(azimuth, dtype=float))
        ordered = sorted({azimuth % 360: high for azimuth, high in self.points}.items())
        known = np.array([point[0] for point in ordered])
        high = np.array([point[1] for point in ordered])
        return np.interp(np.asarray(azimuth, dtype=float), known, high, period=360)

    @property
    def sky_view(self) -> float:
        """
        Share of an even sky's light that reaches flat ground.

        The mean of cos² of the horizon's height, which is the view factor of the
        sky dome above it.
        """
        if not self.points:
            return 1.0
        around = np.arange(0.0, 360.0, 2.0)
        return float(np.mean(np.cos(np.radians(self.elevation_at(around))) ** 2))


@dataclass(frozen=True, slots=True, kw_only=True)
class Array:
    """Panels on one controller."""

    #: As printed, for the whole array at the controller. [V], [A]
    vmp_v: float
    imp_a: float
    voc_v: float
    isc_a: float
    #: Change of the power. [1/°C]
    power_per_c: float = limits.USUAL_POWER_PER_C
    #: From flat (0) to upright (90), and where it faces. [°]
    tilt: float = limits.USUAL_TILT
    azimuth: float = limits.USUAL_AZIMUTH
    #: How often a day somebody turns it to face the sun; 0 leaves it as it stands.
    turns: int = 0
    is_on_ground: bool = False
    #: "mppt" or "pwm".
    method: str = "mppt"
    #: What the controller passes at most. [A]
    max_a: float | None = None
    #: Resistance of the leads between panel and controller, both ways. [Ω]
    cable_ohm: float = 0.05
    #: Share of the light that dirt takes. (0 to 1)
    dirt: float = limits.USUAL_DIRT
    #: What a reading at noon says against the model. [ratio]
    factor: float = 1.0
    #: Shaded before and after these minutes of the local day. [min]
    lit_from_min: int = 0
    lit_until_min: int = 1440
    #: What stands round about: (azimuth, height) pairs. [°]
    horizon: tuple[tuple[float, float], ...] = ()
    #: What it is called.
    name: str = ""

    def __post_init__(self) -> None:
        limits.VMP_V.check("Max-power voltage", self.vmp_v)
        limits.IMP_A.check("Max-power current", self.imp_a)
        limits.ISC_A.check("Short-circuit current", self.isc_a)
        if self.voc_v <= self.vmp_v:
            raise OutOfRange(
                "Max-power voltage",
                self.vmp_v,
                high=self.voc_v,
                unit="V",
                why="a panel gives its most below its open-circuit voltage",
            )
        limits.POWER_PER_C.check(
            "Temperature coefficient of the power", self.power_per_c
        )
        limits.TILT.check("Tilt", self.tilt)
        limits.AZIMUTH.check("Azimuth", self.azimuth)
        limits.TURNS.check("Turns a day", self.turns)
        limits.DIRT.check("Dirt", self.dirt)
        limits.FACTOR.check("Reading against the model", self.factor)
        in_range("Shaded until", self.lit_from_min, low=0, high=1440, unit="min")
        in_range(
            "Shaded after",
            self.lit_until_min,
            low=self.lit_from_min,
            high=1440,
            unit="min",
            why="after the morning's shade",
        )
        if self.method not in METHODS:
            raise UnknownKey(
                f"A controller's method is {' or '.join(METHODS)}, not {self.method}."
            )
        Horizon(self.horizon)

    @property
    def watts(self) -> float:
        """Power as printed. [W]"""
        return self.vmp_v * self.imp_a


def reach(
    array: Array, battery_v: float, cell_c: FloatArray | float = HOT_C
) -> FloatArray:
    """
    Share of its current that an array pushes into a battery of so many volts. (0 to 1)

    All of it up to its max-power volts, nothing beyond its open-circuit ones, and a
    straight line between, which lies below a real panel's curve; both fall as cells
    get warm. A controller that steps volts up is not meant.
    """
    warm = 1 - VOLTS_PER_C * (np.asarray(cell_c, dtype=float) - 25)
    best_v, open_v = array.vmp_v * warm, array.voc_v * warm
    return np.clip((open_v - battery_v) / (open_v - best_v), 0.0, 1.0)


def straight_w(
    panel_a: FloatArray | float, battery_v: float, best_w: FloatArray | float
) -> FloatArray:
    """
    Power through a controller that only switches: panel amps at battery volts. [W]

    Never more than the panel's best.
    """
    return np.minimum(np.asarray(panel_a) * battery_v, best_w)


def factor_from_reading(
    measured_a: float, battery_v: float, modelled_w: float
) -> float:
    """
    What one reading of the charging current says against the model. [ratio]

    Raises
    ------
    OutOfRange
        If the model expects too little light for a comparison, or the ratio is
        beyond what dirt, haze or a label explain: then the time, the sky or the
        panel is not as stated.
    """
    limits.MEASURED_A.check("Current measured", measured_a)
    in_range(
        "Power expected at that time",
        round(modelled_w, 1),
        low=5,
        unit="W",
        why="compare in good light, near noon",
    )
    return in_range(
        "Reading against the model",
        round(measured_a * battery_v / modelled_w, 3),
        low=0.3,
        high=1.5,
        why="beyond it the time, the sky or the panel is not as stated",
    )
