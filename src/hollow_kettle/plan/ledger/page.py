"""What the event sheet shows: the energy ledger and the questions beside it."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from datetime import datetime
from uuid import UUID

from hollow_kettle.clock import told
from hollow_kettle.plan.bridge.chosen import current_rotation
from hollow_kettle.plan.bridge.problems import (
    EventProblem,
    problem_for,
    problem_of_snapshot,
)
from hollow_kettle.plan.bridge.rotations import core_legs
from hollow_kettle.plan.models import SKY_CHOICES, Event, Rotation, Station
from hollow_kettle.ui.drawing import Scale, marks
from powercore.errors import PowercoreError
from powercore.event.differs import differences
from powercore.event.plans import CLEAR, FORECAST, LOW, NO_SUN
from powercore.event.problem import Leg as CoreLeg
from powercore.event.problem import Problem
from powercore.event.scenario import arrays_of
from powercore.futures.advice import Advice, advice
from powercore.futures.budget import Ledger, StationBudget, ledgers
from powercore.futures.stock import (
    Balance,
    FuelLine,
    Spoilt,
    StockLine,
    daily_balance,
    fuel_lines,
    origins,
    spoils_own_power,
    stock_lines,
    stretches,
)
from powercore.rotation.construct import STYLES, construct
from powercore.values import Window

from .demand import EventDemand, event_demand

#: Width of the longest bar. [px]
_BAR = 420
#: Where energy comes from, in words; other kinds are their own.
ORIGINS = {"home": "from home"}


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a ledger bar: its style, where it is, what it holds."""

    name: str
    words: str
    x: float
    width: float
    wh: float


@dataclass(frozen=True, slots=True)
class LedgerLine:
    """One station of the ledger as a page shows it."""

    station: Station
    budget: StationBudget
    parts: list[Part]
    need_px: float
    tag: str
    off_at: datetime | None
    off_bad_at: datetime | None
    #: On low power because the rotation has it so. [min]
    low_min: float = 0.0

    @property
    def is_sure(self) -> bool:
        """Whether it stays on the air 9 times in 10."""
        return self.budget.on_air_bad_h > self.budget.open_h - 1 / 60

    @property
    def need_ah(self) -> float:
        """What it needs in amp-hours, at the volts of what usually feeds it. [Ah]"""
        return self.budget.mean_a * self.budget.open_h

    @property
    def covered(self) -> float:
        """Share of its need that reaches it, never rounded up to all. (0 to 1)"""
        if self.budget.need_wh <= 0:
            return 1.0
        share = 1 - self.budget.uncovered_wh / self.budget.need_wh
        return min(share, 0.99) if self.budget.uncovered_wh > 0.5 else 1.0

    @property
    def on_air_words(self) -> str:
        """Hours on the air; from the bad case on, where it isn't sure to stay there."""
        typical = f"{self.budget.on_air_h:.1f}"
        bad = f"{self.budget.on_air_bad_h:.1f}"
        return typical if self.is_sure or bad == typical else f"{bad}–{typical}"

    @property
    def standing(self) -> tuple[str, datetime | None]:
        """How it fares, worst first, and from when."""
        if self.off_at:
            return "off the air", self.off_at
        if self.off_bad_at:
            return "1-in-10 bad case: off at", self.off_bad_at
        for words, minutes in (
            ("", self.budget.reserve_min),
            ("1-in-10 bad case: ", self.budget.reserve_bad_min),
        ):
            if minutes >= 1:
                return f"{words}{minutes:.0f} min into reserve", None
        return "on the air", None

    @property
    def words(self) -> str:
        """The bar in words, for those who don't see it."""
        return ", ".join(f"{part.wh:.0f} Wh {part.words}" for part in self.parts)


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stock line with its moments."""

    line: StockLine
    starts: datetime
    ends: datetime
    closers: list[str]


@dataclass(frozen=True, slots=True)
class Lost:
    """What a station loses without any sun. [min]"""

    station: Station
    minutes: float


@dataclass(frozen=True, slots=True)
class Claim:
    """Whether a station's panels carry it for ever, on a clear day."""

    station: Station
    balance: Balance


@dataclass(frozen=True, slots=True)
class Fuel:
    """A generator's fuel with its name and the moment it runs dry."""

    name: str
    line: FuelLine
    dry_at: datetime | None


@dataclass(frozen=True, slots=True)
class SpoiltAt:
    """What breaks the claim of own power, with its moment."""

    spoilt: Spoilt
    starts: datetime


@dataclass(slots=True)
class LedgerPage:
    """The ledger under one sky, what it rests on, and the questions beside it."""

    sky: str = FORECAST
    skies: list[tuple[str, str]] = field(default_factory=lambda: list(SKY_CHOICES))
    lines: list[LedgerLine] = field(default_factory=list)
    total: Ledger | None = None
    rotation: Rotation | None = None
    #: What of the event is otherwise than that was made for.
    changed: list[str] = field(default_factory=list)
    trouble: str = ""
    legend: list[tuple[str, str]] = field(default_factory=list)
    #: Watt-hours along the bars: pixel and words.
    scale: list[tuple[float, str]] = field(default_factory=list)
    lost: list[Lost] = field(default_factory=list)
    #: The sky that the first tier counts on, and who of it runs short under that.
    first_sky: str = ""
    first_short: list[tuple[Station, datetime]] = field(default_factory=list)
    stretches: list[Stretch] = field(default_factory=list)
    claims: list[Claim] = field(default_factory=list)
    fuel: list[Fuel] = field(default_factory=list)
    spoilt: list[SpoiltAt] = field(default_factory=list)
    origins: list[tuple[str, float]] = field(default_factory=list)
    advice: list[Advice] = field(default_factory=list)
    mass_kg: float | None = None
    has_panels: bool = False
    demand: EventDemand | None = None

    @property
    def starts(self) -> datetime | None:
        """From when on it counts."""
        if self.rotation is None:
            return None
        return self.rotation.event.moment_of(self.rotation.from_min)

    @property
    def has_sun(self) -> bool:
        """Whether any sky but the one without sun was worked out."""
        return len(self.skies) > 1

    @property
    def short(self) -> list[LedgerLine]:
        """Stations that run short as planned, the first to do so first."""
        found = [line for line in self.lines if line.off_at]
        return sorted(
            found, key=lambda line: line.off_at or line.station.event.starts_at
        )


#: Parts of a bar in the order in which energy reaches a station.
_PARTS = (
    ("kit", "in the kit", "kit_wh"),
    ("carried", "carried in rounds", "carried_wh"),
    ("there", "mains, vehicle or generator there", "supplied_wh"),
    ("sun", "sun", "sun_wh"),
    ("short", "not covered", "uncovered_wh"),
)


def plan_of(
    event: Event,
) -> tuple[EventProblem, Rotation | None, tuple[CoreLeg, ...]]:
    """The event's problem and the legs that its ledger rests on."""
    live = found = problem_for(event)
    rotation = current_rotation(event)
    if rotation is not None:
        key = ("as", rotation.pk, rotation.snapshot_id)
        found = live.once(key, lambda: _as_made(live, rotation))
    legs = found.once(
        ("legs", rotation and rotation.pk),
        lambda: tuple(core_legs(rotation)) if rotation else set_up_only(found.problem),
    )
    return found, rotation, legs


def ledger_page(event: Event, sky: str = "") -> LedgerPage:
    """
    Work out the energy ledger as the event stands now.

    It rests on the rotation that counts, for the event as that was made for: where
    the event is otherwise by now, the page says in what. Without a rotation it rests
    on the set-up alone: the first battery of each station and no walks.
    """
    try:
        found, rotation, legs = plan_of(event)
    except PowercoreError as error:
        return LedgerPage(trouble=str(error))
    if not found.stations:
        return LedgerPage()
    every = found.once(
        ("ledgers", rotation and rotation.pk),
        lambda: ledgers(found.problem, legs, found.suns),
    )
    chosen = next(one for one in (sky, event.other_sky, NO_SUN) if one in every)
    page: LedgerPage = found.once(
        ("page", rotation and rotation.pk, chosen),
        lambda: _page(event, found, legs, every, chosen),
    )
    return replace(
        page, rotation=rotation, changed=_changed(problem_for(event), rotation)
    )


def _changed(live: EventProblem, rotation: Rotation | None) -> list[str]:
    """What of the event is otherwise than a rotation from its start was made for."""
    if rotation is None or rotation.from_min:
        return []
    made_for = problem_of_snapshot(rotation.snapshot).scenario
    found: list[str] = live.once(
        ("differs", rotation.snapshot_id),
        lambda: differences(made_for, live.problem.scenario),
    )
    return found


def _page(
    event: Event,
    found: EventProblem,
    legs: tuple[CoreLeg, ...],
    every: dict[str, Ledger],
    sky: str,
) -> LedgerPage:
    page = LedgerPage(
        sky=sky,
        skies=[choice for choice in SKY_CHOICES if choice[0] in every],
        total=every[sky],
    )
    _fill_lines(page, event, found)
    _fill_side(page, event, found, legs, every)
    page.demand = event_demand(event, found, sky)
    return page


def _fill_lines(page: LedgerPage, event: Event, found: EventProblem) -> None:
    assert page.total is not None  # noqa: S101 - the caller set it
    stations = {str(station.pk): station for station in found.stations}
    longest = max((line.need_wh for line in page.total.stations), default=0.0) or 1.0
    scale = Scale(0, longest, 0, _BAR)
    page.scale = marks(scale)
    tags = {key: one.tag for key, one in found.problem.batteries.items()}
    for budget in page.total.stations:
        page.lines.append(
            LedgerLine(
                station=stations[budget.station],
                budget=budget,
                parts=_parts(budget, scale),
                need_px=scale(budget.need_wh),
                tag=tags.get(budget.first_battery or "", "none"),
                off_at=_moment(event, found, budget.first_off_min),
                off_bad_at=_moment(event, found, budget.first_off_bad_min),
                low_min=found.problem.lowered_min[budget.station],
            )
        )
    used = {part.name for line in page.lines for part in line.parts}
    page.legend = [(name, words) for name, words, _ in _PARTS if name in used]
    masses = [line.budget.mass_kg for line in page.lines]
    known = [mass for mass in masses if mass is not None]
    page.mass_kg = sum(known) if len(known) == len(masses) else None


def _parts(budget: StationBudget, scale: Scale) -> list[Part]:
    parts, at = [], 0.0
    for name, words, attribute in _PARTS:
        wh = getattr(budget, attribute)
        if wh > 0.5:
            x, end = scale(at), scale(at + wh)
            parts.append(Part(name, words, x, round(end - x, 1), wh))
            at += wh
    return parts


def _moment(event: Event, found: EventProblem, minute: float | None) -> datetime | None:
    return None if minute is None else event.moment_of(found.from_min + minute)


def _fill_side(
    page: LedgerPage,
    event: Event,
    found: EventProblem,
    legs: tuple[CoreLeg, ...],
    every: dict[str, Ledger],
) -> None:
    def moment(minute: float) -> datetime:
        return event.moment_of(found.from_min + minute)

    problem = found.problem
    dark_runs = every[NO_SUN].runs
    stations = {str(station.pk): station for station in found.stations}
    page.has_panels = bool(arrays_of(problem.scenario))
    if page.sky != NO_SUN:
        for line in every[NO_SUN].stations:
            less = every[page.sky].line(line.station).on_air_h - line.on_air_h
            if less * 60 >= 1:
                page.lost.append(Lost(stations[line.station], less * 60))
    counted = event.first_tier_sky if event.first_tier_sky in every else NO_SUN
    page.first_sky = dict(SKY_CHOICES)[counted]
    first_tier = min(station.tier for station in found.stations)
    page.first_short = [
        (stations[line.station], moment(line.first_off_min))
        for line in every[counted].stations
        if line.first_off_min is not None and stations[line.station].tier == first_tier
    ]
    nights = nights_of(found)
    page.stretches = [
        Stretch(
            line=line,
            starts=moment(line.start_min),
            ends=moment(line.end_min),
            closers=[_timed(event, found, closer.words) for closer in line.closers],
        )
        for line in stock_lines(problem, legs, dark_runs, nights)
    ]
    page.claims = list(_claims(found, every))
    page.fuel = [
        Fuel(
            name=problem.sources[line.source].name,
            line=line,
            dry_at=_moment(event, found, line.running.dry_min),
        )
        for line in fuel_lines(problem, dark_runs)
    ]
    if event.is_own_power:
        page.spoilt = [
            SpoiltAt(one, moment(one.start_min))
            for one in spoils_own_power(problem, legs)
        ]
    mixed = origins(problem, legs, every[page.sky].runs)
    page.origins = [
        (ORIGINS.get(kind, kind), used)
        for kind, used in sorted(mixed.items(), key=lambda item: -item[1])
    ]
    page.advice = advice(problem)


def nights_of(found: EventProblem) -> list[Window]:
    """Dark or quiet stretches of an event."""
    is_dark = found.view.is_dark if found.view is not None else None
    return stretches(found.problem, is_dark)


def _timed(event: Event, found: EventProblem, words: str) -> str:
    """Put wall-clock time where the core left a minute of the event."""

    def clock(match: re.Match[str]) -> str:
        moment = event.moment_of(found.from_min + int(match[1]))
        return told(moment, event.zone)

    return re.sub(r"\{(-?\d+)\}", clock, words)


def _claims(found: EventProblem, every: dict[str, Ledger]) -> list[Claim]:
    """Test of "it runs for ever on its panel" for each station with panels."""
    claims: list[Claim] = []
    if found.view is None or CLEAR not in every:
        return claims
    stations = {str(station.pk): station for station in found.stations}
    for number, (key, plan) in enumerate(found.problem.stations.items()):
        if not plan.arrays:
            continue
        # A day of 24 h: part days at both ends of an event are one together.
        day_wh = float(found.suns[CLEAR][0][number].mean()) * 24
        battery = every[CLEAR].line(key).first_battery
        claims.append(
            Claim(stations[key], daily_balance(found.problem, key, day_wh, battery))
        )
    return claims


def _as_made(live: EventProblem, rotation: Rotation) -> EventProblem:
    """
    The event as a rotation was made for.

    As it stands where nothing but the sky has changed, with the stations on low power
    that the rotation has so; else as it was, from the rotation's moment on.
    """
    problem = problem_of_snapshot(rotation.snapshot)
    if rotation.from_min or _changed(live, rotation):
        return EventProblem(problem, _stations_of(live, problem), rotation.from_min)
    made_for = problem.scenario
    pins = tuple(pin for pin in made_for.pins if pin.kind == LOW)
    if not pins and not made_for.steps:
        return live
    scenario = replace(live.problem.scenario, pins=pins, steps=made_for.steps)
    return EventProblem(Problem(scenario), live.stations)


def _stations_of(live: EventProblem, problem: Problem) -> tuple[Station, ...]:
    """The rows of a problem's stations; stand-ins for those that are gone by now."""
    rows = {str(station.pk): station for station in live.stations}
    return tuple(
        rows.get(key) or Station(pk=UUID(key), name=plan.name, tier=plan.tier)
        for key, plan in problem.stations.items()
    )


def set_up_only(problem: Problem) -> tuple[CoreLeg, ...]:
    """Each station on its first battery until that ends: nobody walks."""
    return construct(problem, [replace(STYLES[0], walks=False)])
