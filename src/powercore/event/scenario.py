"""
The event as one value: what a plan is made for, and what a snapshot freezes.

Times are whole minutes from the event's start. The codec is JSON; errors name the
path to what is wrong.
"""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from powercore import limits
from powercore.errors import ConflictingStart, PowercoreError, UnknownKey
from powercore.event.plans import (
    AWAY,
    FORECAST,
    LOW,
    NO_SUN,
    OF_STATIONS,
    SKIES,
    BatteryPlan,
    BayPlan,
    CrewPlan,
    Pin,
    SkyHour,
    Spot,
    StationPlan,
)
from powercore.physics.battery import Pack
from powercore.physics.loads import Opening, Step
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import SourcePlan
from powercore.values import STATED_V, TimeGrid, Window, in_range

SCHEMA_VERSION = 13
#: Versions whose files say what a scenario must say; what they lack has a default.
READABLE = tuple(range(1, SCHEMA_VERSION + 1))


class UnreadableScenario(PowercoreError):
    """A scenario file does not say what a scenario must say."""


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
    lateness_min: int = limits.USUAL_LATENESS_MIN
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
    #: Whether it begins under way: stations are not set up anew, whatever is to serve
    #: there is carried there.
    is_under_way: bool = False
    #: What the event promises to leave in batteries that have no reserve of their own;
    #: it is in their packs already. (0 to 1)
    lithium_reserve: float | None = None
    lead_reserve: float | None = None
    schema_version: int = SCHEMA_VERSION

    def usual_pack(self, station: StationPlan | None = None) -> Pack | None:
        """
        A battery like most that may feed a station, or that the yard charges.

        By nominal volts, within what its devices stand; None where there is none.
        """
        packs = [battery.pack for battery in self.batteries]
        if station is not None:
            low, high = station.device_min_v, station.device_max_v
            packs = [pack for pack in packs if low <= pack.nominal_v <= high]
        counts = Counter(pack.nominal_v for pack in packs)
        return min(
            packs, key=lambda p: (-counts[p.nominal_v], p.nominal_v), default=None
        )

    def charging_v(self, station: StationPlan | None = None) -> float:
        """Volts of what panels of a station, or of the yard, charge. [V]"""
        pack = self.usual_pack(station)
        return STATED_V if pack is None else pack.on_charge_v

    def __post_init__(self) -> None:
        limits.SPAN_MIN.check("Length of the event", self.span_min)
        limits.SETTLE_MIN.check("Rest before charging", self.settle_min)
        limits.LATENESS_MIN.check("Usual lateness of a walk", self.lateness_min)
        if self.yard_cold_c is not None:
            limits.CELSIUS.check("Cold in the yard", self.yard_cold_c)
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
        self._check_starts()
        for pin in (*self.pins, *self.steps):
            self._check_pin(pin)
        if any(step.kind != LOW for step in self.steps):
            raise UnknownKey("A rotation's own steps are low power, nothing else.")

    def _check_starts(self) -> None:
        """Refuse two batteries in one place, and one on a bay that must not have it."""
        places = {one.key: one.name for one in self.stations}
        places |= {one.key: one.name for one in self.bays}
        found: dict[str, str] = {}
        for battery in self.batteries:
            place = battery.start_place
            if place not in places or battery.is_spare:
                continue
            if place in found:
                raise ConflictingStart(
                    f"{found[place]} and {battery.tag} both start at {places[place]}."
                )
            found[place] = battery.tag
        for bay in self.bays:
            for battery in self.batteries:
                if battery.start_place != bay.key or battery.is_on_hold:
                    continue
                if why := bay.refusal(battery):
                    raise ConflictingStart(
                        f"{battery.tag} starts at {bay.name} and must not: {why}."
                    )

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


def arrays_of(scenario: Scenario) -> list[tuple[str, Array, StationPlan | None]]:
    """All panels of an event: what they feed by name, and the station if it is one."""
    found: list[tuple[str, Array, StationPlan | None]] = [
        (one.name, a, one) for one in scenario.stations for a in one.arrays
    ]
    found += [(one.name, a, None) for one in scenario.sources for a in one.arrays]
    return found


def without_sky(scenario: Scenario) -> Scenario:
    """
    The event by itself: without sun, map, forecast, and what rotations must keep.

    Without words for people too: nothing is computed from them.
    """
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
        stations=tuple(
            replace(
                one,
                arrays=(),
                hazards="",
                is_unattended=False,
                operators="",
                feed_m=None,
                feed_awg=None,
            )
            for one in scenario.stations
        ),
        batteries=tuple(map(_plain, scenario.batteries)),
        sources=tuple(replace(one, arrays=()) for one in scenario.sources),
        schema_version=SCHEMA_VERSION,
    )


def _plain(battery: BatteryPlan) -> BatteryPlan:
    """A battery and its members without what is for people only."""
    members = tuple(map(_plain, battery.members))
    return replace(battery, hold="", noted=(), members=members)


def unknown_fields(content: bytes) -> list[str]:
    """
    Name what a readable file says that a scenario has no field for.

    Returns
    -------
    list of str
        Paths such as "stations[].colour", each once, in the file's order.
    """
    known = json.loads(encode(decode(content)))
    return list(dict.fromkeys(_unknown(json.loads(content), known, "")))


def _unknown(said: Any, known: Any, path: str) -> Iterator[str]:
    if isinstance(said, dict) and isinstance(known, dict):
        for name, value in said.items():
            here = f"{path}.{name}" if path else name
            if name not in known:
                yield here
            else:
                yield from _unknown(value, known[name], here)
    elif isinstance(said, list) and isinstance(known, list):
        for one, other in zip(said, known, strict=False):
            yield from _unknown(one, other, f"{path}[]")


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
