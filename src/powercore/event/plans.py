"""What an event is made of: stations, batteries, bays, crews, pins, sky."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from powercore import limits
from powercore.errors import UnknownKey
from powercore.physics.battery import Feeding, Pack
from powercore.physics.loads import (
    Load,
    Opening,
    Step,
    demand_w,
    peak_current_a,
)
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import Supply, on_w
from powercore.values import STATED_V, FloatArray, TimeGrid, in_range

#: What the sun may do: nothing, as forecast, or a clear sky.
NO_SUN, FORECAST, CLEAR = "none", "forecast", "clear"
SKIES = (NO_SUN, FORECAST, CLEAR)
#: Cloud that is assumed without a forecast. [eighths]
UNKNOWN_OKTAS = 4.0
#: Pins: a battery is at a place, a battery is not there, nobody walks there, and a
#: station is on its lower power step.
STAYS, AWAY, NO_WALK, NO_SWAP, LOW = "stays", "away", "no_walk", "no_swap", "low"
#: Of them, those that say nothing of a battery.
OF_STATIONS = (NO_WALK, NO_SWAP, LOW)
#: Fuse, leads and connectors of a station, both ways. [Ω] Common practice, no source.
USUAL_PATH_OHM = 0.012
#: Place key of the charging yard's rack, where batteries wait.
YARD = "yard"
PINS = (STAYS, AWAY, NO_WALK, NO_SWAP, LOW)
#: One standard deviation of a trusted capacity, as a share: with a test, without.
#: Common practice, no source; an accepted test brings its own.
TESTED_SD, UNTESTED_SD = 0.04, 0.12


@dataclass(frozen=True, slots=True, kw_only=True)
class StationPlan:
    """A station as plans see it; one battery at a time feeds it."""

    key: str
    name: str
    #: 1 is served first; a lower tier never gains at a higher one's cost.
    tier: int
    loads: tuple[Load, ...]
    openings: tuple[Opening, ...]
    #: Walking time from the yard. [min]
    walk_min: int
    #: Break at a swap. [s]
    changeover_s: int = limits.USUAL_CHANGEOVER_S
    #: What its most and least tolerant devices stand. [V]
    device_min_v: float = 0.0
    device_max_v: float = 1000.0
    #: Automatic disconnect at the station's bus, None where there is none. [V]
    disconnect_v: float | None = None
    #: Resistance of fuse, leads and connectors, both ways. [Ω]
    path_ohm: float = USUAL_PATH_OHM
    #: Voltage at which a disconnect lets go again, and how long it waits first.
    #: [V], [min]
    reconnect_v: float | None = None
    rest_min: int = 0
    #: The station's main fuse, where it is known. [A]
    main_fuse_a: float | None = None
    #: What the wire of a feed from afar carries for long. [A]
    feed_carries_a: float | None = None
    #: One standard deviation of its use against its pattern, as a share.
    spread: float = limits.USUAL_SPREAD
    #: Real draw over planned, where readings say so.
    draws: float = 1.0
    #: Panels at the station, each array on a controller of its own.
    arrays: tuple[Array, ...] = ()
    #: Mains, a vehicle or a generator at the station itself.
    supplies: tuple[Supply, ...] = ()
    #: What it is for.
    about: str = ""
    #: What is said on the air when it goes to low power or to receiving only.
    low_words: str = ""
    watch_words: str = ""
    #: How many batteries may wait there beside the one in use, full or empty; its
    #: operators swap for themselves.
    spares: int = 0
    #: Inside its tier, a minute off the air there counts as so many elsewhere.
    weight: float = 1.0
    #: How cold batteries get there; None: the cold is not counted. [°C]
    cold_c: float | None = None
    #: For people and files; nothing is computed from these. What may hurt somebody
    #: there, whether nobody is there, who operates, and the feed that `path_ohm` has.
    hazards: str = ""
    is_unattended: bool = False
    operators: str = ""
    feed_m: float | None = None
    feed_awg: int | None = None

    def __post_init__(self) -> None:
        limits.SPREAD.check(f"Spread of {self.name}", self.spread)
        limits.DRAWS.check(f"Draw of {self.name} over its plan", self.draws)
        limits.WALK_MIN.check(f"Walk to {self.name}", self.walk_min)
        limits.TIER.check(f"Tier of {self.name}", self.tier)
        limits.SPARES.check(f"Spares at {self.name}", self.spares)
        limits.WEIGHT.check(f"Weight of {self.name}", self.weight)
        limits.CHANGEOVER_S.check(f"Changeover at {self.name}", self.changeover_s)
        for name, limit, value in (
            ("Disconnect", limits.DISCONNECT_V, self.disconnect_v),
            ("Reconnect", limits.DISCONNECT_V, self.reconnect_v),
            ("Main fuse", limits.MAIN_FUSE_A, self.main_fuse_a),
            ("Cold", limits.CELSIUS, self.cold_c),
        ):
            if value is not None:
                limit.check(f"{name} at {self.name}", value)

    def demand_w(self, grid: TimeGrid) -> FloatArray:
        """Power asked of the battery, step by step. [W], shape (grid.count,)"""
        return self.draws * demand_w(grid, self.loads, self.openings)

    @property
    def on_share(self) -> float:
        """Share of its open hours that it is on: all but between windows. (0 to 1)"""
        whole = sum(one.end_min - one.start_min for one in self.openings)
        on = sum(end - at for one in self.openings for at, end in one.stretches)
        return on / whole if whole else 1.0

    def supplied_w(self, grid: TimeGrid) -> FloatArray:
        """Power that mains, vehicle or generator give there. [W], (grid.count,)"""
        series = np.zeros(grid.count)
        for supply in self.supplies:
            series += on_w(grid, supply.windows, supply.max_w)
        return series

    def spare_w(self, grid: TimeGrid) -> FloatArray:
        """The part of it that may also charge the battery. [W], (grid.count,)"""
        series = np.zeros(grid.count)
        for supply in self.supplies:
            if supply.charges:
                series += on_w(grid, supply.windows, supply.max_w)
        return series

    def feeding(self, grid: TimeGrid, volts: float) -> Feeding:
        """How a battery of so many volts, nominal, feeds this station while open."""
        watts = self.demand_w(grid)
        is_open = watts > 0
        mean_w = float(watts[is_open].mean()) if is_open.any() else 0.0
        return Feeding(
            mean_a=mean_w / volts,
            peak_a=self.peak_w / volts,
            path_ohm=self.path_ohm,
            device_min_v=self.device_min_v,
            device_max_v=self.device_max_v,
            disconnect_v=self.disconnect_v,
        )

    @property
    def peak_w(self) -> float:
        """Power with everything on and one of the keyed devices key down. [W]"""
        steps = {opening.step for opening in self.openings}
        return STATED_V * peak_current_a(self.loads, sorted(steps) or (Step.FULL,))


@dataclass(frozen=True, slots=True, kw_only=True)
class BatteryPlan:
    """A battery as plans see it, with what is believed of it at the start."""

    key: str
    tag: str
    pack: Pack
    #: Believed state of charge at the start. (0 to 1)
    start_soc: float = 1.0
    #: A station it already serves, a bay it is on, or the yard.
    start_place: str = YARD
    #: It doesn't serve the station, but waits there as a spare.
    is_spare: bool = False
    #: Highest charging current the maker or owner allows. [A]
    max_charge_a: float | None = None
    #: Highest current out that the maker or protection allows. [A]
    max_discharge_a: float | None = None
    is_on_hold: bool = False
    #: It warms its cells by itself before it takes a charge.
    is_heated: bool = False
    mass_kg: float | None = None
    #: One standard deviation of its trusted capacity, as a share; None: by whether
    #: it was tested.
    capacity_sd: float | None = None
    #: The batteries of a set that stays joined, as they are singly; the first has the
    #: set's key. Empty: a single battery.
    members: tuple[BatteryPlan, ...] = ()
    #: For people and files: why it is on hold, and what else its shelf notes of it, by
    #: the shelf's own names.
    hold: str = ""
    noted: tuple[tuple[str, str | float | bool], ...] = ()

    def __post_init__(self) -> None:
        limits.SHARE.check(f"Charge of {self.tag}", self.start_soc)
        if self.members and self.members[0].key != self.key:
            raise UnknownKey(
                f"The set {self.tag} has not the key of its first battery."
            )

    @property
    def charge_limit_a(self) -> float:
        """Highest charging current: the maker's, else practice. [A]"""
        return self.pack.charge_limit_a(self.max_charge_a)

    @property
    def trusted_sd(self) -> float:
        """One standard deviation of the trusted capacity, as a share."""
        if self.capacity_sd is not None:
            return self.capacity_sd
        return UNTESTED_SD if self.pack.tested_ah is None else TESTED_SD

    @property
    def in_yard(self) -> BatteryPlan:
        """The same battery, begun in the yard."""
        return replace(self, start_place=YARD, is_spare=False)

    @property
    def singles(self) -> tuple[BatteryPlan, ...]:
        """Its members, or itself."""
        return self.members or (self,)


@dataclass(frozen=True, slots=True, kw_only=True)
class BayPlan:
    """Where one battery charges."""

    key: str
    name: str
    source: str
    #: Output of its charger. [W]
    max_w: float
    chemistries: tuple[str, ...]
    #: Its charger ends a charge by itself; lead-acid may then charge unwatched.
    ends_itself: bool = False
    #: Why anything may charge on it while nobody watches the yard; empty: it may not.
    unwatched_why: str = ""
    #: The charger of the shelf that stands there; empty: it was typed.
    charger: str = ""
    #: Its highest current; None: only its watts limit it. [A]
    max_a: float | None = None
    #: Batteries that its charger must not charge, by key, each with the reason.
    refuses: tuple[tuple[str, str], ...] = ()
    #: What its charger gives over what it asks of its source. (0 to 1)
    efficiency: float = 1.0

    def refusal(self, battery: BatteryPlan) -> str:
        """Why its charger must not charge a battery; empty where it may."""
        for key, why in self.refuses:
            if key == battery.key:
                return f"{self.charger}: {why}"
        if battery.pack.chemistry not in self.chemistries:
            kind = battery.pack.chem.name
            return f"the charger of {self.name} is not set for {kind}"
        return ""

    def needs_watch(self, pack: Pack) -> bool:
        """Whether a battery charges on it only while somebody watches the yard."""
        is_own = self.ends_itself and pack.chem.is_lead
        return not (is_own or self.unwatched_why)


@dataclass(frozen=True, slots=True, kw_only=True)
class CrewPlan:
    """People on duty: "walks" carries batteries, "yard" watches the bays."""

    name: str
    does: str
    start_min: int
    end_min: int
    #: How many go together on its walks.
    people: int = limits.USUAL_PEOPLE

    def __post_init__(self) -> None:
        limits.PEOPLE.check(f"People of {self.name}", self.people)


@dataclass(frozen=True, slots=True, kw_only=True)
class Pin:
    """
    What every plan must keep between two minutes, whatever it costs.

    "stays": the battery is at the place all the while. "away": the battery is not
    there, or none is where none is named. "no_walk": nobody is on the way to the
    station or back, or to any where none is named. "no_swap": the battery in use
    there is not changed, as through a roll call. "low": the station is on its lower
    power step, which asks less of its batteries.
    """

    kind: str
    start_min: int
    end_min: int
    battery: str = ""
    #: A station or a bay.
    place: str = ""

    def __post_init__(self) -> None:
        if self.kind not in PINS:
            raise UnknownKey(f"A pin is {', '.join(PINS)}, not {self.kind}.")
        last_min = limits.SPAN_MIN.high
        in_range("Start of a pin", self.start_min, low=0, high=last_min, unit="min")
        in_range(
            "End of a pin",
            self.end_min,
            low=self.start_min + 1,
            high=last_min,
            unit="min",
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class SkyHour:
    """The sky from a minute of the event on, until the next is given."""

    start_min: int
    #: Eighths of the sky under cloud.
    oktas: float = 0.0
    air_c: float = 20.0
    wind_ms: float = 1.0
    #: Light on the flat ground where a weather file has it; the rest is worked out.
    global_w: float | None = None
    beam_w: float | None = None
    diffuse_w: float | None = None
    #: Whether somebody saw it so: then it counts, whatever sky a plan counts on.
    is_seen: bool = False

    def __post_init__(self) -> None:
        limits.OKTAS.check("Cloud", self.oktas)
        limits.CELSIUS.check("Air temperature", self.air_c)
        limits.WIND_MS.check("Wind", self.wind_ms)


@dataclass(frozen=True, slots=True, kw_only=True)
class Spot:
    """A place on the map, by the key of its station or the yard."""

    key: str
    latitude: float
    longitude: float

    def __post_init__(self) -> None:
        Site(latitude=self.latitude, longitude=self.longitude)
