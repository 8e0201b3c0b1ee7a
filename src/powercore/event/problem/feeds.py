"""What a battery can do at a station, and where the cold moves its limits."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from powercore.event.plans import BatteryPlan, StationPlan
from powercore.event.problem.demand import Demand
from powercore.physics.battery import WEAK_SOC, Feeding, disconnect_of, refusal
from powercore.values import STATED_V


@dataclass(frozen=True, slots=True, kw_only=True)
class Feed:
    """One battery at one station."""

    #: Energy from full to empty at that station's mean current. [Wh]
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
    def is_weak(self) -> bool:
        """Whether it is refused for its volts: even full it falls below a limit."""
        return self.refusal is not None and self.floor_soc >= WEAK_SOC

    @property
    def reserve_wh(self) -> float:
        """What the reserve holds, down to where power ends."""
        return (self.reserve_soc - self.floor_soc) * self.capacity_wh


class Feeds(Demand):
    """Batteries at stations: from full to where their power ends."""

    @cached_property
    def _feeds(self) -> dict[tuple[str, str], Feed]:
        return {}

    @cached_property
    def _feedings(self) -> dict[tuple[str, float], Feeding]:
        return {}

    def station_v(self, station: str) -> float:
        """Nominal volts of what usually feeds a station. [V]"""
        pack = self.scenario.usual_pack(self.stations[station])
        return STATED_V if pack is None else pack.nominal_v

    def feeding(self, station: str, volts: float | None = None) -> Feeding:
        """
        How a battery feeds a station, worked out once.

        `volts`: its nominal ones; none: of what usually feeds it.
        """
        key = station, self.station_v(station) if volts is None else volts
        found = self._feedings.get(key)
        if found is None:
            found = self.stations[station].feeding(self.grid, key[1])
            self._feedings[key] = found
        return found

    def feed(self, station: str, battery: str) -> Feed:
        """Return what a battery can do at a station."""
        found = self._feeds.get((station, battery))
        if found is None:
            found = self._feeds[station, battery] = self._new_feed(station, battery)
        return found

    def _new_feed(self, station: str, battery: str) -> Feed:
        plan = self.batteries[battery]
        feeding = self.feeding(station, plan.pack.nominal_v)
        end = disconnect_of(plan.pack, feeding)
        why = refusal(plan.pack, feeding)
        most_a = plan.max_discharge_a
        if why is None and most_a is not None and feeding.peak_a > most_a:
            why = f"the peak of {feeding.peak_a:.1f} A there is above its {most_a:g} A"
        volts = plan.pack.mean_v(1.0, min(end.soc, 0.9), feeding.mean_a)
        floor = self.in_cold(battery, end.soc, station)
        reserve = self.in_cold(battery, plan.pack.reserve_soc, station)
        return Feed(
            capacity_wh=float(plan.pack.ah_at(feeding.mean_a)) * volts,
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
        limit_c = plan.pack.cold_charge_c
        is_heated = plan.is_heated
        if cold_c is None or not plan.pack.is_too_cold(cold_c, is_heated=is_heated):
            return None
        return (
            f"{plan.pack.chem.name} is never charged at or below {limit_c:g} °C, and "
            f"it gets {cold_c:g} °C there"
        )


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
