"""
The event as one value: what a plan is made for, and what a snapshot freezes.

Times are whole minutes from the event's start. The codec is JSON; errors name the
path to what is wrong.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import msgspec

from powercore.battery import Feeding, Pack
from powercore.errors import OutOfRange, PowercoreError, UnknownKey
from powercore.loads import Draw, Opening, demand_w, peak_current_a
from powercore.values import BUS_V, FloatArray, TimeGrid, in_range

SCHEMA_VERSION = 1

#: Place key of the charging yard's rack, where batteries wait.
YARD = "yard"


class UnreadableScenario(PowercoreError):
    """A scenario file does not say what a scenario must say."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Load:
    """Some devices of one kind at a station."""

    draw: Draw
    count: int = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class StationPlan:
    """A station as plans see it; it holds one battery at a time."""

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
    path_ohm: float = 0.012

    def __post_init__(self) -> None:
        in_range(f"Walk to {self.name}", self.walk_min, low=1, high=600, unit="min")
        in_range(f"Tier of {self.name}", self.tier, low=1, high=9)

    def demand_w(self, grid: TimeGrid) -> FloatArray:
        """Power asked of the battery, step by step. [W], shape (grid.count,)"""
        return demand_w(grid, self._draws(), self.openings)

    def feeding(self, grid: TimeGrid) -> Feeding:
        """How a battery feeds this station while it is open."""
        watts = self.demand_w(grid)
        is_open = watts > 0
        mean_a = float(watts[is_open].mean()) / BUS_V if is_open.any() else 0.0
        return Feeding(
            mean_a=mean_a,
            peak_a=peak_current_a(self._draws()),
            path_ohm=self.path_ohm,
            device_min_v=self.device_min_v,
            device_max_v=self.device_max_v,
            disconnect_v=self.disconnect_v,
        )

    def _draws(self) -> list[tuple[Draw, int]]:
        return [(load.draw, load.count) for load in self.loads]


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
    #: Highest charging current the maker or owner allows. [A]
    max_charge_a: float | None = None
    #: Highest current out that the maker or protection allows. [A]
    max_discharge_a: float | None = None
    is_on_hold: bool = False

    def __post_init__(self) -> None:
        in_range(f"Charge of {self.tag}", self.start_soc, low=0, high=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Window:
    """A stretch of time. [min]"""

    start_min: int
    end_min: int

    def __post_init__(self) -> None:
        if self.end_min <= self.start_min:
            raise OutOfRange("End of a window", self.end_min, low=self.start_min + 1)


@dataclass(frozen=True, slots=True, kw_only=True)
class SourcePlan:
    """Where the yard's power comes from and when."""

    key: str
    name: str
    kind: str
    #: Most it gives at once. [W]
    max_w: float
    windows: tuple[Window, ...]
    #: What a buffer bank holds; None means it does not run dry. [Wh]
    energy_wh: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class BayPlan:
    """Where one battery charges."""

    key: str
    name: str
    source: str
    #: Output of its charger. [W]
    max_w: float
    chemistries: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class CrewPlan:
    """People on duty: "walks" carries batteries, "yard" watches the bays."""

    name: str
    does: str
    start_min: int
    end_min: int


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
    schema_version: int = SCHEMA_VERSION

    def __post_init__(self) -> None:
        in_range(
            "Length of the event", self.span_min, low=1, high=14 * 1440, unit="min"
        )
        _distinct("station", [station.key for station in self.stations])
        _distinct("battery", [battery.key for battery in self.batteries])
        _distinct("bay", [bay.key for bay in self.bays])
        sources = {source.key for source in self.sources}
        for bay in self.bays:
            if bay.source not in sources:
                raise UnknownKey(f"{bay.name} is fed from an unknown source.")

    @property
    def grid(self) -> TimeGrid:
        """The event's time in 5-minute steps."""
        return TimeGrid.covering(self.span_min)


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
    except (msgspec.DecodeError, PowercoreError) as error:
        raise UnreadableScenario(f"This is not a scenario: {error}") from error
    if scenario.schema_version != SCHEMA_VERSION:
        raise UnreadableScenario(
            f"Schema version {scenario.schema_version}; this reads {SCHEMA_VERSION}."
        )
    return scenario


def sha256_of(scenario: Scenario) -> str:
    """Return the digest by which a snapshot is known."""
    return hashlib.sha256(encode(scenario)).hexdigest()


def _distinct(what: str, keys: list[str]) -> None:
    twice = sorted({key for key in keys if keys.count(key) > 1})
    if twice:
        raise UnknownKey(f"Two of one {what}: {', '.join(twice)}.")
