"""The yard: what goes onto bays and comes off them, and what that stores."""

from __future__ import annotations

from dataclasses import dataclass

from powercore.event.problem import CHARGE, WAIT, YARD
from powercore.rotation.construct.lives import Lives
from powercore.sun.sources import SUN

#: How far ahead power for a bay is looked for. [min]
AHEAD_MIN = 12 * 60


@dataclass(slots=True)
class Yard(Lives):
    """Bays and their sources, step by step."""

    def _must_leave(self, bay: str, key: str, now: int) -> bool:
        """Whether a charge would go on unwatched before somebody can end it."""
        if not self.problem.needs_watch(bay, key):
            return False
        step = now // self.problem.grid.step_min
        unminded = self.unminded_from[bay]
        return bool(unminded[step] < self.watched_from[step + 1])

    def _mind_bays(self, now: int) -> None:
        """Take off what is charged, put on what gains most."""
        for bay, held in self.on_bay.items():
            if held is None or now == 0:
                continue  # what is found on a bay is there for a step at least
            if self._is_done(bay, held, now) or self._must_leave(bay, held, now):
                self._take_off(bay, now)
        order = sorted(
            (bay for bay, held in self.on_bay.items() if held is None),
            key=lambda bay: -self._hours_of_power(bay, now),
        )
        for bay in order:
            if self._hours_of_power(bay, now) <= 0:
                continue
            hungry = [
                key
                for key in self._waiting()
                if self.lives[key].soc < self.style.charge_to - 0.05
                and self.lives[key].rested <= now
                and self.problem.bay_refusal(bay, key) is None
                and not self._must_leave(bay, key, now)
                and self._fits_source(bay, key)
            ]
            if hungry:
                key = max(hungry, key=lambda key: (self._gap_ah(key), self.rank[key]))
                self._go(self.lives[key], CHARGE, bay, now)
                self.on_bay[bay] = key

    def _take_off(self, bay: str, now: int) -> None:
        held = self.on_bay[bay]
        assert held is not None  # noqa: S101 - asked only of a bay in use
        self._go(self.lives[held], WAIT, YARD, now)
        self.on_bay[bay] = None

    def _is_done(self, bay: str, key: str, now: int) -> bool:
        soc = self.lives[key].soc
        if soc >= 0.999 or self._is_dry(self.problem.bays[bay].source, now):
            return True
        return soc >= self.style.charge_to and any(
            self.lives[other].soc < 0.5 and self.problem.bay_refusal(bay, other) is None
            for other in self._waiting()
        )

    def _is_dry(self, source: str, now: int) -> bool:
        """Whether a bank is empty and nothing comes into it for long."""
        store = self.store_wh[source]
        if store is None or store > 1.0:
            return False
        step = self.problem.grid.step_min
        coming = self.problem.fills_w[source][now // step : (now + AHEAD_MIN) // step]
        return float(coming.sum()) * step / 60 <= 1.0

    def _hours_of_power(self, bay: str, now: int) -> float:
        """Hours a bay's source still runs until the morning after."""
        source = self.problem.sources[self.problem.bays[bay].source]
        if self._is_dry(source.key, now):
            return 0.0
        ahead = min(now + AHEAD_MIN, self.problem.span_min)
        return (
            sum(
                max(0, min(window.end_min, ahead) - max(window.start_min, now))
                for window in source.windows
            )
            / 60
        )

    def _fits_source(self, bay: str, key: str) -> bool:
        """Whether the source carries this battery beside the others on its bays."""
        source = self.problem.bays[bay].source
        pairs = [(bay, key)] + [
            (other, held)
            for other, held in self.on_bay.items()
            if held is not None and self.problem.bays[other].source == source
        ]
        watts = sum(
            self.problem.bay_w(battery, self.problem.charge_model(at, battery).bulk)
            for at, battery in pairs
        )
        if self.problem.sources[source].kind == SUN:
            return len(pairs) == 1 or watts <= self.problem.sources[source].max_w
        return watts <= self.problem.sources[source].max_w + 1e-9

    def _gap_ah(self, key: str) -> float:
        return (1 - self.lives[key].soc) * self.problem.batteries[key].pack.trusted_ah

    def _advance(self, now: int, step: int) -> None:
        for station, held in self.at_station.items():
            if held is not None:
                if self.problem.demand_w[station][step] > 0:
                    self._feed(station, held, step)
                self._top_up(station, held, step)
        self._fill_stores(step)
        self._charge(now, step)

    def _top_up(self, station: str, held: str, step: int) -> None:
        """What is left over at a station charges its battery."""
        hours = self.problem.grid.step_min / 60
        surplus_w = float(self.problem.surplus_w[station][step])
        if surplus_w > 0:
            model, life = self.problem.field_model(held, station), self.lives[held]
            before = life.soc * model.capacity
            most = surplus_w / self.problem.bay_w(held, 1.0) * hours
            gained = min(model.after(before, hours) - before, most)
            life.soc += gained / model.capacity

    def _fill_stores(self, step: int) -> None:
        hours = self.problem.grid.step_min / 60
        for source, store in self.store_wh.items():
            if store is not None:
                filled = float(self.problem.fills_w[source][step]) * hours
                holds = self.problem.sources[source].holds_wh or 0.0
                self.store_wh[source] = min(store + filled, max(store, holds))

    def _charge(self, now: int, step: int) -> None:
        """Bays charge one after the other, of what their sources and stores have."""
        hours = self.problem.grid.step_min / 60
        sun_w = {key: float(w[step]) for key, w in self.problem.yard_sun_w.items()}
        for bay, held in self.on_bay.items():
            source = self.problem.bays[bay].source
            if held is None or not self.problem.source_is_on(source, now):
                continue
            model = self.problem.charge_model(bay, held)
            life = self.lives[held]
            before = life.soc * model.capacity
            gained = model.after(before, hours) - before
            if self.problem.sources[source].kind == SUN:
                # Whoever is asked first gets what there is.
                most = max(0.0, sun_w[source]) / self.problem.bay_w(held, 1.0) * hours
                gained = min(gained, most)
                sun_w[source] -= self.problem.bay_w(held, gained) / hours
            store = self.store_wh[source]
            if store is not None:
                wanted = self.problem.bay_w(held, gained)
                gained *= min(1.0, store / wanted) if wanted > 0 else 0.0
                self.store_wh[source] = max(0.0, store - wanted)
            life.soc += gained / model.capacity

    def _feed(self, station: str, held: str, step: int) -> None:
        hours = self.problem.grid.step_min / 60
        need_wh = float(self.problem.asked_w[station][step]) * hours
        feed, life = self.problem.feed(station, held), self.lives[held]
        left_wh = max(0.0, (life.soc - feed.floor_soc) * feed.capacity_wh)
        life.soc -= min(need_wh, left_wh) / feed.capacity_wh
