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
        is_cold = station and self.cold_refusal(battery, self.stations[station].cold_c)
        return ChargeModel.of(plan.pack, 0.0 if is_cold else plan.charge_limit_a)

    def bay_w(self, battery: str, stored_ah_per_h: float) -> float:
        """Power a bay gives while a battery stores at a rate. [W]"""
        pack = self.batteries[battery].pack
        chem = pack.chem
        return stored_ah_per_h / chem.coulombic * chem.charge_v * pack.series
