"""Who may walk when, how long it takes, and what it weighs."""

from __future__ import annotations

from datetime import datetime
from functools import cached_property
from zoneinfo import ZoneInfo

from powercore.event.plans import NO_SWAP, NO_WALK, BatteryPlan, CrewPlan
from powercore.event.problem.charging import Charging
from powercore.physics.places import walking_min

#: Energy of a pack for its mass, where its mass is not known; on the heavy side.
#: [Wh/kg] Common practice, no source.
WH_PER_KG = {"lead": 28.0, "other": 70.0}
#: What each of a crew carries at once on a walk to several stations: a bag, and so
#: many batteries. [kg] Common practice, no source.
CARRY_KG, HANDS = 12.5, 2
#: What each carries at once to one station and back. [kg] The reference mass of
#: ISO 11228-1 for lifting and carrying, from memory; makers and local rules may say
#: less.
LIFT_KG = 25.0


class Crews(Charging):
    """Walks: crews on duty, pins that forbid, minutes between stations."""

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

    @cached_property
    def _arrivals(self) -> dict[str, list[int]]:
        return {}

    def arrivals(self, station: str) -> list[int]:
        """Steps at which a crew may be at a station and be back in time, in order."""
        found = self._arrivals.get(station)
        if found is None:
            step, walk_min = self.grid.step_min, self.stations[station].walk_min
            last = self.span_min - walk_min
            found = [m for m in range(0, last + 1, step) if self.may_walk(station, m)]
            self._arrivals[station] = found
        return found

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
        self, leave: int, back: int, *, night: bool | None = None, kg: float = 0.0
    ) -> list[CrewPlan]:
        """Crews that may make a walk between two minutes with a load, busy or not."""
        if night is None:
            night = self.scenario.two_at_night and self.is_night(leave, back)
        return [
            crew
            for crew in self.scenario.crews
            if crew.does == "walks"
            and crew.start_min <= leave
            and back <= crew.end_min
            and (crew.people > 1 or not night)
            and crew.people * LIFT_KG >= kg
        ]

    def can_be_carried(self, battery: str) -> bool:
        """Whether any crew has people enough for a battery; else it stays put."""
        return self.mass_kg(battery) <= LIFT_KG * max(
            (one.people for one in self.scenario.crews if one.does == "walks"),
            default=0,
        )

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


def _mass_kg(plan: BatteryPlan) -> float:
    if plan.mass_kg is not None:
        return plan.mass_kg
    pack = plan.pack
    wh = pack.nameplate_ah * pack.mean_v(1.0, 0.0, pack.nameplate_ah / 20)
    family = "lead" if pack.chem.is_lead else "other"
    return wh / WH_PER_KG[family]
