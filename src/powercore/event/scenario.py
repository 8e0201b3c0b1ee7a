"""
The event as one value: what a plan is made for, and what a snapshot freezes.

Times are whole minutes from the event's start. The codec is JSON; errors name the
path to what is wrong.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import msgspec
import numpy as np

from powercore.errors import PowercoreError, UnknownKey
from powercore.physics.battery import Feeding, Pack
from powercore.physics.loads import (
    SPREAD,
    Load,
    Opening,
    Step,
    demand_w,
    peak_current_a,
)
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import SourcePlan, Supply, on_w
from powercore.values import BUS_V, FloatArray, TimeGrid, Window, in_range

SCHEMA_VERSION = 8
#: Versions whose files say what a scenario must say; what they lack has a default.
READABLE = (1, 2, 3, 4, 5, 6, 7, 8)

#: What the sun may do: nothing, as forecast, or a clear sky.
NO_SUN, FORECAST, CLEAR = "none", "forecast", "clear"
SKIES = (NO_SUN, FORECAST, CLEAR)

#: Fuse, leads and connectors of a station, both ways. [Ω] Common practice, no source.
USUAL_PATH_OHM = 0.012

#: People who walk together where nobody said; the most. Common practice, no source.
USUAL_PEOPLE, MOST_PEOPLE = 2, 20

#: Place key of the charging yard's rack, where batteries wait.
YARD = "yard"

#: Pins: a battery is at a place, a battery is not there, nobody walks there, and a
#: station is on its lower power step.
STAYS, AWAY, NO_WALK, NO_SWAP, LOW = "stays", "away", "no_walk", "no_swap", "low"
PINS = (STAYS, AWAY, NO_WALK, NO_SWAP, LOW)
#: Of them, those that say nothing of a battery.
OF_STATIONS = (NO_WALK, NO_SWAP, LOW)
#: One standard deviation of a trusted capacity, as a share: with a test, without.
#: Common practice, no source; an accepted test brings its own.
TESTED_SD, UNTESTED_SD = 0.04, 0.12


class UnreadableScenario(PowercoreError):
    """A scenario file does not say what a scenario must say."""


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
    changeover_s: int = 120
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
    spread: float = SPREAD
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

    def __post_init__(self) -> None:
        in_range(f"Spread of {self.name}", self.spread, low=0, high=1)
        in_range(f"Walk to {self.name}", self.walk_min, low=1, high=600, unit="min")
        in_range(f"Tier of {self.name}", self.tier, low=1, high=9)
        in_range(f"Spares at {self.name}", self.spares, low=0, high=20)
        in_range(f"Weight of {self.name}", self.weight, low=0.1, high=10)
        _check_cold(f"Cold at {self.name}", self.cold_c)

    def demand_w(self, grid: TimeGrid) -> FloatArray:
        """Power asked of the battery, step by step. [W], shape (grid.count,)"""
        return demand_w(grid, self.loads, self.openings)

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

    def feeding(self, grid: TimeGrid) -> Feeding:
        """How a battery feeds this station while it is open."""
        watts = self.demand_w(grid)
        is_open = watts > 0
        mean_a = float(watts[is_open].mean()) / BUS_V if is_open.any() else 0.0
        return Feeding(
            mean_a=mean_a,
            peak_a=self.peak_a,
            path_ohm=self.path_ohm,
            device_min_v=self.device_min_v,
            device_max_v=self.device_max_v,
            disconnect_v=self.disconnect_v,
        )

    @property
    def peak_a(self) -> float:
        """Current with everything on and one of the keyed devices key down. [A]"""
        steps = {opening.step for opening in self.openings}
        return peak_current_a(self.loads, sorted(steps) or (Step.FULL,))


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

    def __post_init__(self) -> None:
        in_range(f"Charge of {self.tag}", self.start_soc, low=0, high=1)
        if self.members and self.members[0].key != self.key:
            raise UnknownKey(
                f"The set {self.tag} has not the key of its first battery."
            )

    @property
    def trusted_sd(self) -> float:
        """One standard deviation of the trusted capacity, as a share."""
        if self.capacity_sd is not None:
            return self.capacity_sd
        return UNTESTED_SD if self.pack.tested_ah is None else TESTED_SD

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
    people: int = USUAL_PEOPLE

    def __post_init__(self) -> None:
        in_range(f"People of {self.name}", self.people, low=1, high=MOST_PEOPLE)


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
        in_range("Start of a pin", self.start_min, low=0, high=14 * 1440, unit="min")
        in_range(
            "End of a pin",
            self.end_min,
            low=self.start_min + 1,
            high=14 * 1440,
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

    def __post_init__(self) -> None:
        in_range("Cloud", self.oktas, low=0, high=8, unit="eighths")
        in_range("Air temperature", self.air_c, low=-60, high=60, unit="°C")
        in_range("Wind", self.wind_ms, low=0, high=80, unit="m/s")


@dataclass(frozen=True, slots=True, kw_only=True)
class Spot:
    """A place on the map, by the key of its station or the yard."""

    key: str
    latitude: float
    longitude: float

    def __post_init__(self) -> None:
        Site(latitude=self.latitude, longitude=self.longitude)


@dataclass(frozen=True, slots=True, kw_only=True)
class Scenario:
    """An event with all that its power depends on."""

    name: str
    #: IANA time zone and start in UTC, for people; the core counts minutes.
    zone: str
    starts_at: str
    span_min: int
    stations: tuple[StationPlan, ...]
    batteries: tuple[BatteryPlan, ...]
    sources: tuple[SourcePlan, ...]
    bays: tuple[BayPlan, ...]
    crews: tuple[CrewPlan, ...]
    #: Usual lateness of a walk. [min]
    lateness_min: int = 10
    #: A battery that came back to the yard cools down, or warms up, for so long before
    #: it charges. [min]
    settle_min: int = 0
    #: How cold batteries get where they charge; None: not counted. [°C]
    yard_cold_c: float | None = None
    #: "contest", "exercise", "emergency" or "demonstration".
    purpose: str = "exercise"
    #: It claims to run on power of its own: nothing from the mains.
    is_own_power: bool = False
    #: Where the sky is looked at; None: no sun is counted.
    site: Site | None = None
    #: The forecast, in order; empty: none is known.
    sky: tuple[SkyHour, ...] = ()
    sky_origin: str = ""
    #: Which sky the plan counts on for the first tier and for the others.
    first_tier_sky: str = NO_SUN
    other_sky: str = FORECAST
    #: And for panels that feed the yard's bays or banks.
    yard_sky: str = NO_SUN
    #: Nobody walks alone while the sun is down.
    two_at_night: bool = True
    spots: tuple[Spot, ...] = ()
    pins: tuple[Pin, ...] = ()
    #: When a rotation has stations on low power by its own choice; as pins of that
    #: kind, but only that rotation's.
    steps: tuple[Pin, ...] = ()
    schema_version: int = SCHEMA_VERSION

    def __post_init__(self) -> None:
        in_range(
            "Length of the event", self.span_min, low=1, high=14 * 1440, unit="min"
        )
        in_range("Rest before charging", self.settle_min, high=1440, unit="min")
        _check_cold("Cold in the yard", self.yard_cold_c)
        _check_start(self.starts_at, self.zone)
        _distinct("station", [station.key for station in self.stations])
        _distinct("battery", [b.key for one in self.batteries for b in one.singles])
        _distinct("bay", [bay.key for bay in self.bays])
        for sky in (self.first_tier_sky, self.other_sky, self.yard_sky):
            if sky not in SKIES:
                raise UnknownKey(f"A sky is {', '.join(SKIES)}, not {sky}.")
        sources = {source.key for source in self.sources}
        for bay in self.bays:
            if bay.source not in sources:
                raise UnknownKey(f"{bay.name} is fed from an unknown source.")
        for source in self.sources:
            if source.filled_from and source.filled_from not in sources - {source.key}:
                raise UnknownKey(f"{source.name} is filled from an unknown source.")
        for one in self.stations:
            waiting = [
                b for b in self.batteries if b.is_spare and b.start_place == one.key
            ]
            in_range(f"Spares that start at {one.name}", len(waiting), high=one.spares)
        for pin in (*self.pins, *self.steps):
            self._check_pin(pin)
        if any(step.kind != LOW for step in self.steps):
            raise UnknownKey("A rotation's own steps are low power, nothing else.")

    def _check_pin(self, pin: Pin) -> None:
        stations = {station.key for station in self.stations}
        bays = {bay.key for bay in self.bays}
        batteries = {battery.key for battery in self.batteries}
        if pin.kind in OF_STATIONS:
            optional = set() if pin.kind == LOW else {""}
            knows = not pin.battery and pin.place in optional | stations
        else:
            optional = {""} if pin.kind == AWAY else set()
            knows = pin.battery in batteries | optional and pin.place in stations | bays
        if not knows:
            raise UnknownKey(
                f"A pin ({pin.kind}) names the battery '{pin.battery}' and the place "
                f"'{pin.place}', which it can't."
            )

    @property
    def watches(self) -> tuple[Window, ...]:
        """When somebody watches the charging yard."""
        return tuple(
            Window(start_min=max(0, crew.start_min), end_min=crew.end_min)
            for crew in self.crews
            if crew.does == "yard" and crew.end_min > max(0, crew.start_min)
        )

    @property
    def grid(self) -> TimeGrid:
        """The event's time in 5-minute steps."""
        return TimeGrid.covering(self.span_min)


def low_power(station: StationPlan, window: Window | None = None) -> StationPlan:
    """A station on its low step: always, or inside a window."""
    openings: list[Opening] = []
    for one in station.openings:
        first, last = one.start_min, one.end_min
        if window is not None:
            first, last = max(first, window.start_min), min(last, window.end_min)
        if last <= first or one.step == Step.WATCH:
            openings.append(one)
            continue
        for start, end, step in (
            (one.start_min, first, one.step),
            (first, last, Step.LOW),
            (last, one.end_min, one.step),
        ):
            if end > start:
                openings.append(replace(one, start_min=start, end_min=end, step=step))
    return replace(station, openings=tuple(openings))


def all_low(scenario: Scenario) -> Scenario:
    """The event with every station on its low step all the while."""
    stations = tuple(low_power(station) for station in scenario.stations)
    return replace(scenario, stations=stations)


def arrays_of(scenario: Scenario) -> list[tuple[str, Array]]:
    """All panels of an event, with the name of the station or source they feed."""
    at_stations = [(one.name, a) for one in scenario.stations for a in one.arrays]
    return at_stations + [(one.name, a) for one in scenario.sources for a in one.arrays]


def without_sky(scenario: Scenario) -> Scenario:
    """The event by itself: without sun, map, forecast, and what rotations must keep."""
    return replace(
        scenario,
        site=None,
        sky=(),
        sky_origin="",
        spots=(),
        first_tier_sky=NO_SUN,
        other_sky=NO_SUN,
        yard_sky=NO_SUN,
        pins=(),
        steps=(),
        stations=tuple(replace(one, arrays=()) for one in scenario.stations),
        sources=tuple(replace(one, arrays=()) for one in scenario.sources),
        schema_version=SCHEMA_VERSION,
    )


def encode(scenario: Scenario) -> bytes:
    """Return a scenario as canonical JSON: equal events give equal bytes."""
    return msgspec.json.encode(scenario, order="deterministic")


def decode(content: bytes) -> Scenario:
    """
    Read a scenario from JSON.

    Raises
    ------
    UnreadableScenario
        Naming the path of what is missing, misspelt or out of range.
    """
    try:
        scenario = msgspec.json.decode(content, type=Scenario)
    except RecursionError as error:
        raise UnreadableScenario(
            "This is not a scenario: its brackets are too deep."
        ) from error
    except UnicodeDecodeError as error:
        raise UnreadableScenario(
            "This is not a scenario: it is not in UTF-8. Save it again so."
        ) from error
    except (msgspec.DecodeError, PowercoreError) as error:
        raise UnreadableScenario(f"This is not a scenario: {error}") from error
    if scenario.schema_version not in READABLE:
        raise UnreadableScenario(
            f"Schema version {scenario.schema_version}; this reads "
            f"{' and '.join(map(str, READABLE))}."
        )
    return scenario


def schema() -> dict[str, Any]:
    """Return the JSON Schema of a scenario file."""
    return msgspec.json.schema(Scenario)


def sha256_of(scenario: Scenario) -> str:
    """Return the digest by which a snapshot is known."""
    return hashlib.sha256(encode(scenario)).hexdigest()


def _check_cold(what: str, cold_c: float | None) -> None:
    if cold_c is not None:
        in_range(what, cold_c, low=-60, high=60, unit="°C")


def _check_start(starts_at: str, zone: str) -> None:
    try:
        has_zone = datetime.fromisoformat(starts_at).tzinfo is not None
    except ValueError:
        has_zone = False
    if not has_zone:
        raise UnknownKey(
            f"The start '{starts_at[:40]}' must be a moment in UTC such as "
            "2026-06-27T18:00:00+00:00."
        )
    try:
        ZoneInfo(zone)
    except (KeyError, ValueError, OSError) as error:
        raise UnknownKey(
            f"There is no time zone '{zone[:40]}'; use an IANA name such as UTC."
        ) from error


def _distinct(what: str, keys: list[str]) -> None:
    twice = sorted({key for key in keys if keys.count(key) > 1})
    if twice:
        raise UnknownKey(f"Two of one {what}: {', '.join(twice)}.")
