"""
The rotation problem: a scenario with its numbers worked out once.

Planner and verifier share this and nothing else.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from zoneinfo import ZoneInfo

import numpy as np

from powercore.event.scenario import (
    LOW,
    NO_SUN,
    NO_SWAP,
    NO_WALK,
    YARD,
    BatteryPlan,
    BayPlan,
    CrewPlan,
    Pin,
    Scenario,
    StationPlan,
    all_low,
    low_power,
)
from powercore.physics.battery import Feeding, disconnect_of, refusal
from powercore.physics.charging import ChargeModel
from powercore.physics.loads import load_w
from powercore.physics.places import walking_min
from powercore.sun.arrays import Array
from powercore.sun.sources import SUN, SourcePlan, on_w, running
from powercore.values import BoolArray, FloatArray, Window, windows_where, without

#: Energy of a pack for its mass, where its mass is not known; on the heavy side.
#: [Wh/kg] Common practice, no source.
WH_PER_KG = {"lead": 28.0, "other": 70.0}
#: What each of a crew carries at once on a walk to several stations: a bag, and so
#: many batteries. [kg] Common practice, no source.
CARRY_KG, HANDS = 12.5, 2

SERVE, CHARGE, CARRIED, WAIT = "serve", "charge", "carried", "wait"
__all__ = ["CARRIED", "CHARGE", "SERVE", "WAIT", "YARD", "Feed", "Leg", "Problem"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Leg:
    """
    What one battery does between two whole minutes.

    `place` is a station's key for serving, a bay's for charging, and empty while
    carried. A battery waits in the yard, or at a station as a spare. A carried leg
    names its crew and its round: one walk that may bring one battery out and take
    another back.
    """

    kind: str
    battery: str
    place: str
    start_min: int
    end_min: int
    crew: str = ""
    round: int | None = None

    @property
    def station(self) -> str:
        """The station where it serves or waits as a spare; empty elsewhere."""
        is_there = self.kind == SERVE or (self.kind == WAIT and self.place != YARD)
        return self.place if is_there else ""


def lives_of(legs: Sequence[Leg]) -> dict[str, list[Leg]]:
    """Each battery's legs in order of time."""
    lives: dict[str, list[Leg]] = {}
    for leg in sorted(legs, key=lambda leg: (leg.start_min, leg.end_min)):
        lives.setdefault(leg.battery, []).append(leg)
    return lives


def visit_of(life: Sequence[Leg], leg: Leg) -> list[Leg]:
    """All that a battery does at a station around one of its legs there, in order."""
    first = last = life.index(leg)
    while first and life[first - 1].station == leg.station:
        first -= 1
    while last + 1 < len(life) and life[last + 1].station == leg.station:
        last += 1
    return list(life[first : last + 1])


@dataclass(frozen=True, slots=True)
class Stop:
    """A station and a minute at which a crew is there."""

    minute: int
    station: str
    crew: str
    round: int


def stops_of(legs: Sequence[Leg]) -> list[Stop]:
    """When crews are at stations, in order."""
    found = set()
    for life in lives_of(legs).values():
        for number, leg in enumerate(life):
            if leg.kind != CARRIED or leg.round is None:
                continue
            after = life[number + 1] if number + 1 < len(life) else None
            if after is not None and after.station:
                found.add(Stop(leg.end_min, after.station, leg.crew, leg.round))
            elif number and life[number - 1].station:
                place = life[number - 1].station
                found.add(Stop(leg.start_min, place, leg.crew, leg.round))
    return sorted(found, key=lambda stop: (stop.minute, stop.station))


@dataclass(frozen=True, slots=True, kw_only=True)
class Feed:
    """One battery at one station."""

    #: Energy from full to empty at that station's current. [Wh]
    capacity_wh: float
    #: State of charge where power really ends, and by which limit.
    floor_soc: float
    floor_cause: str
    reserve_soc: float
    #: State of charge at which a disconnect lets go again.
    reconnect_soc: float
    #: Why it can't feed the station; None when it can.
    refusal: str | None

    @property
    def reserve_wh(self) -> float:
        """What the reserve holds, down to where power ends."""
        return (self.reserve_soc - self.floor_soc) * self.capacity_wh


class Problem:
    """
    A scenario's numbers: demand, feeds and charging, worked out on demand.

    Parameters
    ----------
    scenario : Scenario
        The event.
    use : float
        So many times as much is asked of batteries as is planned: 1.2 is what a
        rotation should stand that is planned for 20 % more use.
    """

    def __init__(self, scenario: Scenario, use: float = 1.0) -> None:
        self.scenario = scenario
        self.use = use
        self.grid = scenario.grid
        self.span_min = scenario.span_min
        self.stations: dict[str, StationPlan] = {
            one.key: _as_pinned(one, (*scenario.pins, *scenario.steps))
            for one in scenario.stations
        }
        self.batteries: dict[str, BatteryPlan] = {b.key: b for b in scenario.batteries}
        self.bays: dict[str, BayPlan] = {bay.key: bay for bay in scenario.bays}
        self._feeds: dict[tuple[str, str], Feed] = {}
        self._feedings: dict[str, Feeding] = {}
        self._models: dict[tuple[str, str], ChargeModel] = {}

    def most_asked_w(self, source: SourcePlan) -> float:
        """What is asked of a source with all bays and banks on it in use. [W]"""
        bays_w = sum(
            bay.max_w for bay in self.bays.values() if bay.source == source.key
        )
        load_w = source.other_w + self._filling_w(source) + bays_w
        return min(load_w, source.max_w)

    def _filling_w(self, source: SourcePlan) -> float:
        banks = self.scenario.sources
        return sum(one.fill_w for one in banks if one.filled_from == source.key)

    @cached_property
    def sources(self) -> dict[str, SourcePlan]:
        """
        Sources as plans count on them: what they give chargers, when they really run.

        Quiet hours, stops for fuel with all bays in use, and the end of the fuel
        are out of their windows; panels run while there is sun that counts.
        """
        return {one.key: self._as_planned(one) for one in self.scenario.sources}

    def _as_planned(self, source: SourcePlan) -> SourcePlan:
        windows = running(source, self.most_asked_w(source)).windows
        if source.kind == SUN:
            windows = tuple(windows_where(self.grid, self.yard_sun_w[source.key] > 0))
        max_w = max(0.0, source.for_chargers_w - self._filling_w(source))
        return replace(source, max_w=max_w, windows=windows)

    @cached_property
    def load_w(self) -> dict[str, FloatArray]:
        """What each station's equipment draws on the grid. [W]"""
        return {key: s.demand_w(self.grid) for key, s in self.stations.items()}

    @cached_property
    def all_low(self) -> Problem:
        """The event with every station on its low step."""
        return Problem(all_low(self.scenario), use=self.use)

    def with_steps(self, steps: tuple[Pin, ...]) -> Problem:
        """The event with other steps of a rotation's own choice."""
        if steps == self.scenario.steps:
            return self
        return Problem(replace(self.scenario, steps=steps), use=self.use)

    @cached_property
    def sheds(self) -> dict[str, list[tuple[float, FloatArray]]]:
        """Loads that are shed by charge: level and power on the grid. [W]"""
        return {
            key: [
                (load.shed_soc, load_w(self.grid, load, one.openings))
                for load in one.loads
                if load.shed_soc is not None
            ]
            for key, one in self.stations.items()
        }

    @cached_property
    def demand_w(self) -> dict[str, FloatArray]:
        """What is left for each station's battery, without sun, on the grid. [W]"""
        return {
            key: self.use * np.maximum(self.load_w[key] - s.supplied_w(self.grid), 0.0)
            for key, s in self.stations.items()
        }

    def sky_of(self, station: str) -> str:
        """The sky that plans count on at a station."""
        first = min(one.tier for one in self.stations.values())
        is_first = self.stations[station].tier == first
        return self.scenario.first_tier_sky if is_first else self.scenario.other_sky

    @cached_property
    def sun_w(self) -> dict[str, FloatArray]:
        """
        What plans count on of the panels at each station, on the grid. [W]

        Under the sky that the event says, for the first tier and for the others.
        """
        return self._panels_w(
            {key: (one.arrays, self.sky_of(key)) for key, one in self.stations.items()}
        )

    @cached_property
    def yard_sun_w(self) -> dict[str, FloatArray]:
        """What plans count on of the panels at each of the yard's sources. [W]"""
        event = self.scenario
        return self._panels_w(
            {one.key: (one.arrays, event.yard_sky) for one in event.sources}
        )

    def _panels_w(
        self, asked: dict[str, tuple[tuple[Array, ...], str]]
    ) -> dict[str, FloatArray]:
        event = self.scenario
        found = {key: np.zeros(self.grid.count) for key in asked}
        counted = {
            key: (arrays, sky)
            for key, (arrays, sky) in asked.items()
            if arrays and sky != NO_SUN
        }
        if event.site is None or not counted:
            return found
        # Loads pvlib and pandas: only for events that have panels.
        from powercore.event.sky import panels_w

        watts = panels_w(
            event.site,
            event.zone,
            event.starts_at,
            event.span_min,
            event.sky,
            tuple(counted.values()),
        )
        return found | dict(zip(counted, watts, strict=True))

    @cached_property
    def fills_w(self) -> dict[str, FloatArray]:
        """What fills each of the yard's banks, on the grid; 0 for what is none. [W]"""
        found = {key: np.zeros(self.grid.count) for key in self.sources}
        for key, source in self.sources.items():
            if source.energy_wh is None:
                continue
            found[key] = self.yard_sun_w[key].copy()
            for window in self._filled_in(source):
                found[key] += on_w(self.grid, (window,), source.fill_w)
        return found

    def _filled_in(self, source: SourcePlan) -> tuple[Window, ...]:
        """When a bank is filled from another source; panels fill only their own."""
        filler = self.sources.get(source.filled_from)
        return () if filler is None or filler.kind == SUN else filler.windows

    def is_filled(self, source: SourcePlan, minute: float) -> bool:
        """Whether another source fills a bank at a minute."""
        is_filled = bool(self._filled_in(source))
        return is_filled and self.source_is_on(source.filled_from, minute)

    @cached_property
    def asked_w(self) -> dict[str, FloatArray]:
        """What is asked of a station's battery beside the sun counted on. [W]"""
        return {
            key: np.maximum(watts - self.sun_w[key], 0.0)
            for key, watts in self.demand_w.items()
        }

    @cached_property
    def surplus_w(self) -> dict[str, FloatArray]:
        """
        What charges a station's battery there, while it gives nothing. [W]

        What the load leaves of the sun counted on, and of a supply that may charge.
        """
        found = {}
        for key, one in self.stations.items():
            left = one.supplied_w(self.grid) - self.use * self.load_w[key]
            spare = np.minimum(one.spare_w(self.grid), np.maximum(left, 0.0))
            surplus = np.maximum(self.sun_w[key] - self.demand_w[key], 0.0) + spare
            found[key] = np.where(self.asked_w[key] > 0, 0.0, surplus)
        return found

    @cached_property
    def offered_w(self) -> dict[str, FloatArray]:
        """What charges a battery there once its power has ended. [W]"""
        return {
            key: np.where(
                self.demand_w[key] > 0,
                self.sun_w[key] + one.spare_w(self.grid),
                self.surplus_w[key],
            )
            for key, one in self.stations.items()
        }

    @cached_property
    def asked_wh(self) -> dict[str, FloatArray]:
        """What is asked of each station's battery up to each edge of the grid. [Wh]"""
        return {
            key: self.grid.cumulative_wh(watts) for key, watts in self.asked_w.items()
        }

    @cached_property
    def drawn_wh(self) -> dict[str, FloatArray]:
        """Demand of each station up to each edge of the grid. [Wh]"""
        return {
            key: self.grid.cumulative_wh(watts) for key, watts in self.demand_w.items()
        }

    @cached_property
    def open_min(self) -> dict[str, FloatArray]:
        """Minutes each station needed a battery up to each edge of the grid."""
        return {
            key: np.concatenate([[0.0], np.cumsum((watts > 0) * self.grid.step_min)])
            for key, watts in self.demand_w.items()
        }

    @cached_property
    def lowered_min(self) -> dict[str, float]:
        """Minutes in which pins or steps have a station use less than it agreed to."""
        return {
            one.key: float(
                np.sum(one.demand_w(self.grid) > self.load_w[one.key] + 1e-6)
                * self.grid.step_min
            )
            for one in self.scenario.stations
        }

    def feeding(self, station: str) -> Feeding:
        """How a battery feeds a station, worked out once."""
        found = self._feedings.get(station)
        if found is None:
            found = self._feedings[station] = self.stations[station].feeding(self.grid)
        return found

    def feed(self, station: str, battery: str) -> Feed:
        """Return what a battery can do at a station."""
        found = self._feeds.get((station, battery))
        if found is None:
            found = self._feeds[station, battery] = self._new_feed(station, battery)
        return found

    def _new_feed(self, station: str, battery: str) -> Feed:
        plan = self.batteries[battery]
        feeding = self.feeding(station)
        end = disconnect_of(plan.pack, feeding)
        why = refusal(plan.pack, feeding)
        most_a = plan.max_discharge_a
        if why is None and most_a is not None and feeding.peak_a > most_a:
            why = f"the peak of {feeding.peak_a:.1f} A there is above its {most_a:g} A"
        volts = plan.pack.mean_v(1.0, min(end.soc, 0.9), feeding.mean_a)
        floor = self.in_cold(battery, end.soc, station)
        reserve = self.in_cold(battery, plan.pack.reserve_soc, station)
        return Feed(
            capacity_wh=plan.pack.trusted_ah * volts,
            floor_soc=floor,
            floor_cause=end.cause,
            reserve_soc=max(reserve, floor),
            reconnect_soc=_reconnect_soc(plan, self.stations[station], floor),
            refusal=why,
        )

    def in_cold(self, battery: str, soc: float, station: str = "") -> float:
        """
        Where a limit of the state of charge lies in the cold of a station.

        The state of charge is that at 25 °C. What the cold keeps back is at its lower
        end, so that disconnect and reserve come so much earlier. Without a station: in
        the coldest of them.
        """
        chem = self.batteries[battery].pack.chem
        at = [self.stations[station]] if station else self.stations.values()
        colds = [one.cold_c for one in at if one.cold_c is not None]
        share = chem.capacity_share(min(colds)) if colds else 1.0
        return soc + (1 - share) * (1 - soc)

    def cold_refusal(self, battery: str, cold_c: float | None) -> str | None:
        """Say why a battery must not charge where it gets so cold, or None."""
        plan = self.batteries[battery]
        limit_c = plan.pack.chem.cold_charge_c
        if cold_c is None or plan.is_heated or cold_c > limit_c:
            return None
        return (
            f"{plan.pack.chem.name} is never charged at or below {limit_c:g} °C, and "
            f"it gets {cold_c:g} °C there"
        )

    @cached_property
    def unwatched(self) -> tuple[Window, ...]:
        """Stretches of the event in which nobody watches the yard."""
        all_of_it = (Window(start_min=0, end_min=self.span_min),)
        return without(all_of_it, self.scenario.watches)

    def is_watched(self, minute: float) -> bool:
        """Whether somebody is at the yard at a minute, to change a bay."""
        return any(w.start_min <= minute <= w.end_min for w in self.scenario.watches)

    def needs_watch(self, bay: str, battery: str) -> bool:
        """Whether a battery charges on a bay only while somebody watches."""
        return self.bays[bay].needs_watch(self.batteries[battery].pack)

    @cached_property
    def unminded(self) -> dict[str, tuple[Window, ...]]:
        """When each bay has power and nobody watches the yard."""
        return {
            key: without(self.sources[bay.source].windows, self.scenario.watches)
            for key, bay in self.bays.items()
        }

    @cached_property
    def first_watch_min(self) -> int:
        """When somebody first is at the yard; the event's length if nobody is."""
        first = (window.start_min for window in self.scenario.watches)
        return min(first, default=self.span_min)

    def bay_refusal(self, bay: str, battery: str) -> str | None:
        """Say why a battery must not charge on a bay, or None."""
        chemistry = self.batteries[battery].pack.chemistry
        if chemistry not in self.bays[bay].chemistries:
            return f"the charger of {self.bays[bay].name} is not set for {chemistry}"
        return self.cold_refusal(battery, self.scenario.yard_cold_c)

    def charge_model(self, bay: str, battery: str) -> ChargeModel:
        """Return how a battery charges on a bay, in amp-hours stored."""
        found = self._models.get((bay, battery))
        if found is None:
            plan = self.batteries[battery]
            chem, pack = plan.pack.chem, plan.pack
            current_a = min(
                self.bays[bay].max_w / (chem.charge_v * pack.series),
                chem.charge_c * pack.nameplate_ah,
                plan.max_charge_a or float("inf"),
            )
            found = self._models[bay, battery] = ChargeModel(
                capacity=pack.trusted_ah,
                bulk=current_a * chem.coulombic,
                tail=chem.tail_c * pack.trusted_ah,
                taper_h=chem.taper_h,
            )
        return found

    def field_model(self, battery: str, station: str = "") -> ChargeModel:
        """
        How a battery charges by whatever is at hand, in amp-hours stored.

        At a station where it is too cold for that, not at all.
        """
        plan = self.batteries[battery]
        chem, pack = plan.pack.chem, plan.pack
        most_a = chem.charge_c * pack.nameplate_ah
        if station and self.cold_refusal(battery, self.stations[station].cold_c):
            most_a = 0.0
        return ChargeModel(
            capacity=pack.trusted_ah,
            bulk=min(most_a, plan.max_charge_a or most_a) * chem.coulombic,
            tail=chem.tail_c * pack.trusted_ah,
            taper_h=chem.taper_h,
        )

    def bay_w(self, battery: str, stored_ah_per_h: float) -> float:
        """Power a bay gives while a battery stores at a rate. [W]"""
        pack = self.batteries[battery].pack
        chem = pack.chem
        return stored_ah_per_h / chem.coulombic * chem.charge_v * pack.series

    def may_walk(self, station: str, minute: int) -> bool:
        """Whether a crew's duty and the pins allow a walk that is there at a minute."""
        walk_min = self.stations[station].walk_min
        leave, back = minute - walk_min, minute + walk_min
        is_pinned = any(
            pin.start_min < back and leave < pin.end_min
            for pin in self.scenario.pins
            if pin.kind == NO_WALK and pin.place in ("", station)
        )
        is_pinned = is_pinned or self.is_untouched(station, minute)
        return not is_pinned and bool(self.crews_for(leave, back))

    def clock_min(self, minute: int) -> int:
        """The local time at a minute, from midnight. [min]"""
        start = self._starts_local
        return (60 * start.hour + start.minute + minute) % 1440

    @cached_property
    def _starts_local(self) -> datetime:
        """Local time of the start; hours stay whole where clocks change."""
        scenario = self.scenario
        moment = datetime.fromisoformat(scenario.starts_at)
        return moment.astimezone(ZoneInfo(scenario.zone))

    def is_untouched(self, station: str, minute: int) -> bool:
        """Whether a pin wants no battery changed at a station at a minute."""
        return any(
            pin.start_min <= minute < pin.end_min
            for pin in self.scenario.pins
            if pin.kind == NO_SWAP and pin.place in ("", station)
        )

    def crews_for(
        self, leave: int, back: int, *, night: bool | None = None
    ) -> list[CrewPlan]:
        """Crews that may make a walk between two minutes, busy or not."""
        if night is None:
            night = self.scenario.two_at_night and self.is_night(leave, back)
        return [
            crew
            for crew in self.scenario.crews
            if crew.does == "walks"
            and crew.start_min <= leave
            and back <= crew.end_min
            and (crew.people > 1 or not night)
        ]

    @cached_property
    def dark(self) -> BoolArray:
        """Steps of the grid in which the sun is down; none without a place."""
        event = self.scenario
        if event.site is None:
            return np.zeros(self.grid.count, dtype=bool)
        # Loads pvlib and pandas: only for events that are on the map.
        from powercore.event.sky import dark

        return dark(event.site, event.zone, event.starts_at, event.span_min)

    def is_night(self, leave: int, back: int) -> bool:
        """Whether the sun is down at some time of a walk."""
        if not self._is_ever_dark:
            return False
        step = self.grid.step_min
        return bool(self.dark[max(0, leave) // step : -(-back // step)].any())

    @cached_property
    def _is_ever_dark(self) -> bool:
        return bool(self.dark.any())

    def may_swap(self, station: str, minute: int) -> bool:
        """Whether operators are there at a minute to swap a spare in or out."""
        watts, step = self.load_w[station], self.grid.step_min
        first = max(0, (minute - 1) // step)
        return bool(np.any(watts[first : minute // step + 1] > 0))

    def between_min(self, one: str, other: str) -> int:
        """
        Walking minutes from one station to another.

        By their places on the map, where both are known; never longer than by way of
        the yard.
        """
        by_yard = self.stations[one].walk_min + self.stations[other].walk_min
        spots = {spot.key: spot for spot in self.scenario.spots}
        a, b = spots.get(one), spots.get(other)
        if a is None or b is None:
            return by_yard
        straight = walking_min(a.latitude, a.longitude, b.latitude, b.longitude)
        return min(by_yard, straight)

    def mass_kg(self, battery: str) -> float:
        """What a battery weighs; estimated from its energy where nobody said. [kg]"""
        return self._masses_kg[battery]

    @cached_property
    def _masses_kg(self) -> dict[str, float]:
        return {key: _mass_kg(one) for key, one in self.batteries.items()}

    def is_running_anyway(self, source: str) -> bool:
        """Whether a source runs also when no battery charges: for others, or a bank."""
        plan = self.sources[source]
        return plan.other_w > 0 or self._filling_w(plan) > 0

    def source_is_on(self, source: str, minute: float) -> bool:
        """Whether a source may run at a minute."""
        return any(
            window.start_min <= minute < window.end_min
            for window in self.sources[source].windows
        )


def _mass_kg(plan: BatteryPlan) -> float:
    if plan.mass_kg is not None:
        return plan.mass_kg
    pack = plan.pack
    wh = pack.nameplate_ah * pack.mean_v(1.0, 0.0, pack.nameplate_ah / 20)
    family = "lead" if pack.chem.is_lead else "other"
    return wh / WH_PER_KG[family]


def _as_pinned(station: StationPlan, pins: Sequence[Pin]) -> StationPlan:
    """A station on low power where pins say so."""
    for pin in pins:
        if pin.kind == LOW and pin.place == station.key:
            window = Window(start_min=pin.start_min, end_min=pin.end_min)
            station = low_power(station, window)
    return station


#: How much must come back before a disconnect lets go, where no voltage is stated.
#: (0 to 1) Common practice, no source.
RECONNECT_RISE = 0.1


def _reconnect_soc(plan: BatteryPlan, station: StationPlan, floor: float) -> float:
    """State of charge at which power comes back after a disconnect."""
    at = floor + RECONNECT_RISE
    if station.reconnect_v is not None:
        chem = plan.pack.chem
        at = float(chem.soc_at(station.reconnect_v / plan.pack.series))
    return min(1.0, max(at, floor + 0.01))
