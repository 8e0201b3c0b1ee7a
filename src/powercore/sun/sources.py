"""
Sources of power: what each gives, when, and what it burns.

Mains while the hall is open, a generator outside quiet hours and refuelling, a
vehicle while its engine runs, panels, and the buffer bank: a big battery that
charges others.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from powercore import limits
from powercore.errors import UnknownKey
from powercore.sun.arrays import Array
from powercore.values import (
    FloatArray,
    TimeGrid,
    Window,
    in_range,
    overlap_min,
    without,
)

MAINS, GENERATOR, VEHICLE, SUN, BUFFER = (
    "mains",
    "generator",
    "vehicle",
    "sun",
    "buffer",
)
KINDS = (MAINS, GENERATOR, VEHICLE, SUN, BUFFER)
#: What runs an engine for its power.
ENGINES = (GENERATOR, VEHICLE)
#: What spoils a claim to have run on power of one's own.
NOT_OWN = (MAINS,)
#: Chargers draw apparent power: watts are this share of their volt-amperes.
#: Common practice, no source; a maker's figure wins.
CHARGER_POWER_FACTOR = 0.65
#: Energy of petrol. [kWh/L] US EPA 33.7 kWh per US gallon, from memory.
PETROL_KWH_L = 33.7 / 3.785411784


@dataclass(frozen=True, slots=True, kw_only=True)
class Fuel:
    """What a generator burns and what there is to burn."""

    #: At a quarter of its rated power and at all of it. [L/h]
    quarter_l_h: float
    full_l_h: float
    #: In its tank, and on the site in all, with the tank. [L]
    tank_l: float
    on_hand_l: float
    refuel_min: int = limits.USUAL_REFUEL_MIN

    def __post_init__(self) -> None:
        limits.QUARTER_L_H.check("Fuel use at a quarter load", self.quarter_l_h)
        in_range(
            "Fuel use at full load",
            self.full_l_h,
            low=self.quarter_l_h,
            high=limits.FULL_L_H.high,
            unit="L/h",
        )
        limits.TANK_L.check("Tank", self.tank_l)
        limits.ON_HAND_L.check("Fuel on hand", self.on_hand_l)
        limits.REFUEL_MIN.check("Refuelling", self.refuel_min)

    @property
    def slope_l_h(self) -> float:
        """Further consumption from no load to full power. [L/h]"""
        return (self.full_l_h - self.quarter_l_h) / 0.75

    def burns_l_h(self, share: float | FloatArray) -> FloatArray:
        """
        Consumption at a share of the rated power. [L/h]

        A straight line through the two points that makers print; running without
        load is its lower end.
        """
        shares = np.clip(np.asarray(share, dtype=float), 0, 1)
        return np.maximum(self.quarter_l_h + self.slope_l_h * (shares - 0.25), 0.01)


#: What a charger gives over what it asks of its source, where nobody measured it.
#: Common practice, no source: 0.8 to 0.9.
CHARGER_EFFICIENCY = 0.85


@dataclass(frozen=True, slots=True, kw_only=True)
class SourcePlan:
    """Where the yard's power comes from and when."""

    key: str
    name: str
    kind: str
    #: Most it gives at once. [W]
    max_w: float
    windows: tuple[Window, ...]
    #: What a buffer bank holds at the start; None means it does not run dry. [Wh]
    energy_wh: float | None = None
    #: What a buffer bank can hold; what it holds at the start when left out. [Wh]
    capacity_wh: float | None = None
    #: Apparent power; None where it is no limit. [VA]
    max_va: float | None = None
    #: What else hangs on it, all the time: lights, the kitchen. [W]
    other_w: float = 0.0
    #: It must not run then, unless that is waived.
    quiet: tuple[Window, ...] = ()
    is_quiet_waived: bool = False
    fuel: Fuel | None = None
    #: Panels that give to it: straight to the bays, or into a buffer bank.
    arrays: tuple[Array, ...] = ()
    #: A buffer bank may be filled from another source while that runs. [W]
    filled_from: str = ""
    fill_w: float = 0.0

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise UnknownKey(f"A source is {', '.join(KINDS)}, not {self.kind}.")
        limits.SOURCE_W.check(f"Power of {self.name}", self.max_w)
        limits.OTHER_W.check(f"Other load on {self.name}", self.other_w)
        limits.FILL_W.check(f"Filling of {self.name}", self.fill_w)

    @property
    def for_chargers_w(self) -> float:
        """What is left for chargers, by its watts and its volt-amperes. [W]"""
        watts = self.max_w - self.other_w
        if self.max_va is not None:
            watts = min(watts, (self.max_va - self.other_w) * CHARGER_POWER_FACTOR)
        return max(0.0, watts)

    @property
    def holds_wh(self) -> float | None:
        """What a buffer bank can hold. [Wh]"""
        return self.capacity_wh if self.capacity_wh is not None else self.energy_wh

    @property
    def allowed(self) -> tuple[Window, ...]:
        """When it may run: its windows without quiet hours."""
        return (
            self.windows if self.is_quiet_waived else without(self.windows, self.quiet)
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Running:
    """When a source really runs, and its fuel."""

    windows: tuple[Window, ...]
    #: When it stands still to cool and be refuelled.
    stops: tuple[Window, ...] = ()
    #: When the fuel on hand is used up; None when it lasts. [min]
    dry_min: float | None = None
    #: What it burns in its allowed hours, whether there is that much or not. [L]
    needs_l: float = 0.0


def running(source: SourcePlan, at_w: float) -> Running:
    """
    When a source runs at a steady load, with stops for fuel. [min]

    Parameters
    ----------
    source : SourcePlan
        The source.
    at_w : float
        Load to count with, other things on it included. [W]
    """
    fuel = source.fuel
    if fuel is None or source.max_w <= 0:
        return Running(windows=source.allowed)
    rate = float(fuel.burns_l_h(at_w / source.max_w))
    tank_min, left_min = 60 * fuel.tank_l / rate, 60 * fuel.on_hand_l / rate
    needs_l = sum(w.end_min - w.start_min for w in source.allowed) / 60 * rate
    windows, stops, dry = [], [], None
    in_tank = min(tank_min, left_min)
    for window in source.allowed:
        now = float(window.start_min)
        while now < window.end_min and dry is None:
            ran = min(in_tank, window.end_min - now)
            first, last = round(now), round(now + ran)
            if last > first:
                windows.append(Window(start_min=first, end_min=last))
            now, in_tank, left_min = now + ran, in_tank - ran, left_min - ran
            if in_tank > 1e-9:
                break
            if left_min <= 1e-9:
                dry = now
                break
            stop_end = min(round(now) + fuel.refuel_min, window.end_min)
            if stop_end > round(now):
                stops.append(Window(start_min=round(now), end_min=stop_end))
            now, in_tank = now + fuel.refuel_min, min(tank_min, left_min)
    return Running(
        windows=tuple(windows), stops=tuple(stops), dry_min=dry, needs_l=needs_l
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Supply:
    """
    Power at a station itself: mains, a vehicle's outlet, a generator.

    It feeds the load first; what is left may charge the station's battery.
    """

    kind: str
    max_w: float
    windows: tuple[Window, ...]
    charges: bool = False
    #: Break when it takes over or lets go; 0 with a battery that bridges it. [s]
    transfer_s: float = 0.0
    name: str = ""

    def __post_init__(self) -> None:
        if self.kind not in (MAINS, GENERATOR, VEHICLE):
            raise UnknownKey(
                f"Power at a station is mains, generator or vehicle, not {self.kind}."
            )
        limits.SUPPLY_W.check("Power at the station", self.max_w)
        limits.TRANSFER_S.check("Transfer", self.transfer_s)


def on_w(grid: TimeGrid, windows: Sequence[Window], watts: float) -> FloatArray:
    """Power of something that is on in windows, by steps. [W], shape (grid.count,)"""
    series = np.zeros(grid.count)
    for window in windows:
        part = overlap_min(grid, window.start_min, window.end_min)
        series = np.maximum(series, watts * part / grid.step_min)
    return series


def over_supply_a(supply_a: float, load_a: float, charger_a: float) -> float:
    """
    How far a radio and a charger together pass a supply's rating; 0 if not. [A]

    Parameters
    ----------
    supply_a, load_a, charger_a : float
        Its rating, key down of the radio, current of the charger. [A]

    Raises
    ------
    OutOfRange
        If the supply gives nothing.
    """
    in_range("Rating of the supply", supply_a, low=0.05, high=2000, unit="A")
    return max(0.0, load_a + charger_a - supply_a)
