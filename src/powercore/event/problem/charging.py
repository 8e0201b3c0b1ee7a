"""What charges batteries: sources as they really run, bays, and who watches them."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property

import numpy as np

from powercore.event.problem.feeds import Feeds
from powercore.physics.charging import ChargeModel
from powercore.sun.sources import SUN, SourcePlan, on_w, running
from powercore.values import FloatArray, Window, windows_where, without


class Charging(Feeds):
    """Sources, banks and bays, and what a battery stores by them."""

    @cached_property
    def _models(self) -> dict[tuple[str, str], ChargeModel]:
        return {}

    @cached_property
    def charger_efficiency(self) -> dict[str, float]:
        """
        What the chargers on each source give over what they ask of it. (0 to 1)

        Of all bays on it together, each by its power; panels charge straight.
        """
        found = {}
        for source in self.scenario.sources:
            bays = [bay for bay in self.bays.values() if bay.source == source.key]
            asked_w = sum(bay.max_w / bay.efficiency for bay in bays)
            given_w = sum(bay.max_w for bay in bays)
            is_straight = source.kind == SUN or asked_w <= 0
            found[source.key] = 1.0 if is_straight else given_w / asked_w
        return found

    def most_asked_w(self, source: SourcePlan) -> float:
        """What is asked of a source with all bays and banks on it in use. [W]"""
        bays_w = sum(
            bay.max_w for bay in self.bays.values() if bay.source == source.key
        )
        bays_w /= self.charger_efficiency[source.key]
        load_w = source.other_w + self._filling_w(source) + bays_w
        return min(load_w, source.max_w)

    def _filling_w(self, source: SourcePlan) -> float:
        banks = self.scenario.sources
        return sum(one.fill_w for one in banks if one.filled_from == source.key)

    @cached_property
    def sources(self) -> dict[str, SourcePlan]:
        """
        Sources as plans count on them: what their chargers give, when they really run.

        Quiet hours, stops for fuel with all bays in use, and the end of the fuel
        are out of their windows; panels run while there is sun that counts.
        """
        return {one.key: self._as_planned(one) for one in self.scenario.sources}

    def _as_planned(self, source: SourcePlan) -> SourcePlan:
        windows = running(source, self.most_asked_w(source)).windows
        if source.kind == SUN:
            windows = tuple(windows_where(self.grid, self.yard_sun_w[source.key] > 0))
        share = self.charger_efficiency[source.key]
        max_w = share * max(0.0, source.for_chargers_w - self._filling_w(source))
        if source.energy_wh is None:
            return replace(source, max_w=max_w, windows=windows)
        holds_wh = source.holds_wh or 0.0
        return replace(
            source,
            max_w=max_w,
            windows=windows,
            energy_wh=share * source.energy_wh,
            capacity_wh=share * holds_wh,
            fill_w=share * source.fill_w,
        )

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

    @cached_property
    def watches(self) -> tuple[Window, ...]:
        """When somebody watches the charging yard."""
        return self.scenario.watches

    @cached_property
    def unwatched(self) -> tuple[Window, ...]:
        """Stretches of the event in which nobody watches the yard."""
        all_of_it = (Window(start_min=0, end_min=self.span_min),)
        return without(all_of_it, self.watches)

    def is_watched(self, minute: float) -> bool:
        """Whether somebody is at the yard at a minute, to change a bay."""
        return any(w.start_min <= minute <= w.end_min for w in self.watches)

    def needs_watch(self, bay: str, battery: str) -> bool:
        """Whether a battery charges on a bay only while somebody watches."""
        return self.bays[bay].needs_watch(self.batteries[battery].pack)

    @cached_property
    def unminded(self) -> dict[str, tuple[Window, ...]]:
        """When each bay has power and nobody watches the yard."""
        return {
            key: without(self.sources[bay.source].windows, self.watches)
            for key, bay in self.bays.items()
        }

    @cached_property
    def first_watch_min(self) -> int:
        """When somebody first is at the yard; the event's length if nobody is."""
        first = (window.start_min for window in self.watches)
        return min(first, default=self.span_min)

    def bay_refusal(self, bay: str, battery: str) -> str | None:
        """Say why a battery must not charge on a bay, or None."""
        if refusal := self.bays[bay].refusal(self.batteries[battery]):
            return refusal
        return self.cold_refusal(battery, self.scenario.yard_cold_c)

    def charge_model(self, bay: str, battery: str) -> ChargeModel:
        """Return how a battery charges on a bay, in amp-hours stored."""
        found = self._models.get((bay, battery))
        if found is None:
            plan = self.batteries[battery]
            current_a = min(
                self.bays[bay].max_w / (plan.pack.chem.charge_v * plan.pack.series),
                self.bays[bay].max_a or float("inf"),
                plan.charge_limit_a,
                self._cold_a(battery, self.scenario.yard_cold_c),
            )
            found = ChargeModel.of(plan.pack, current_a)
            self._models[bay, battery] = found
        return found

    def field_model(self, battery: str, station: str = "") -> ChargeModel:
        """
        How a battery charges by whatever is at hand, in amp-hours stored.

        At a station where it is too cold for that, not at all.
        """
        plan = self.batteries[battery]
        cold_c = self.stations[station].cold_c if station else None
        limit_a = min(plan.charge_limit_a, self._cold_a(battery, cold_c))
        return ChargeModel.of(plan.pack, limit_a)

    def _cold_a(self, battery: str, cold_c: float | None) -> float:
        """Highest current that the cold lets into a battery. [A]"""
        plan = self.batteries[battery]
        if cold_c is None:
            return float("inf")
        return plan.pack.cold_charge_a(cold_c, is_heated=plan.is_heated)

    def bay_w(self, battery: str, stored_ah_per_h: float) -> float:
        """Power a bay gives while a battery stores at a rate. [W]"""
        pack = self.batteries[battery].pack
        chem = pack.chem
        return stored_ah_per_h / chem.coulombic * chem.charge_v * pack.series
