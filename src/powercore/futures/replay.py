"""
The reference replay: one future, step by step, plain and slow.

Power is constant within a step, and steps are cut where a leg, a source or a supply
begins or ends. A station is fed by the mains, vehicle or generator there, then by
its panels, then by its battery; what is left over charges the battery. What a full
battery doesn't take is spilled. Power ends at the real end, not at the reserve, and
comes back only when the battery was changed or has risen to the reconnect.

`simulate` does the same for many futures at once and is held to this.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from powercore.event.problem import CHARGE, SERVE, Leg, Problem
from powercore.futures.draws import Futures, Runs
from powercore.physics.charging import ChargeModel
from powercore.sun.sources import SUN

#: A load comes back this far above the charge at which it was shed. (0 to 1)
SHED_RISE = 0.05
_TINY = 1e-9


def cut_times(problem: Problem, legs: Sequence[Leg]) -> list[int]:
    """Minutes at which anything may change, from start to end."""
    step, span = problem.grid.step_min, problem.span_min
    times = {*range(0, span, step), span}
    for leg in legs:
        times |= {leg.start_min, leg.end_min}
    for source in problem.sources.values():
        for window in source.windows:
            times |= {window.start_min, window.end_min}
    return sorted(time for time in times if 0 <= time <= span)


def replay(
    problem: Problem,
    legs: Sequence[Leg],
    futures: Futures,
    index: int,
    planned: Problem | None = None,
) -> Runs:
    """
    Replay one future of a rotation.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    futures : Futures
        Where the future is from.
    index : int
        Which one.
    planned : Problem, optional
        The event as it asks for power by its plan; none: as it is.

    Returns
    -------
    Runs
        With one future (L = 1).
    """
    run = _Run(problem, legs, futures, index)
    run.planned_w = (planned or problem).load_w
    for start, end in pairwise(cut_times(problem, legs)):
        run.step(start, end)
    return run.result()


class _Run:
    def __init__(
        self, problem: Problem, legs: Sequence[Leg], futures: Futures, index: int
    ) -> None:
        self.problem, self.legs = problem, legs
        self.planned_w = problem.load_w
        self.futures, self.index = futures, index
        sky = int(futures.sky[index])
        self.capacity = dict(
            zip(problem.batteries, futures.capacity[index], strict=True)
        )
        self.soc = {
            key: float(soc)
            for key, soc in zip(
                problem.batteries, futures.start_soc[index], strict=True
            )
        }
        self.sun_w = {
            key: futures.station_sun_w[sky, number]
            for number, key in enumerate(problem.stations)
        }
        self.source_sun_w = {
            key: futures.source_sun_w[sky, number]
            for number, key in enumerate(problem.sources)
        }
        self.supply_w = {
            key: one.supplied_w(problem.grid) for key, one in problem.stations.items()
        }
        self.spare_w = {
            key: one.spare_w(problem.grid) for key, one in problem.stations.items()
        }
        rates = np.ones(len(problem.bays))
        if futures.bay_rate is not None:
            rates = futures.bay_rate[index]
        self.pace = dict(zip(problem.bays, rates.tolist(), strict=True))
        self.sheds = problem.sheds
        self.is_shed = {key: [False] * len(one) for key, one in self.sheds.items()}
        self.store = {key: one.energy_wh for key, one in problem.sources.items()}
        self.served_by: dict[str, int | None] = dict.fromkeys(problem.stations)
        self.cut_since: dict[str, float | None] = dict.fromkeys(problem.stations)
        zero = dict.fromkeys(problem.stations, 0.0)
        self.off_air, self.reserve, self.shed = dict(zero), dict(zero), dict(zero)
        self.unserved, self.supplied = dict(zero), dict(zero)
        self.missed = dict(zero)
        self.direct, self.spilled = dict(zero), dict(zero)
        self.first_off = dict.fromkeys(problem.stations, float("nan"))
        self.source_wh = dict.fromkeys(problem.sources, 0.0)
        self.out, self.into = [0.0] * len(legs), [0.0] * len(legs)
        self.fed = [0.0] * len(legs)
        self.leg_start = [float("nan")] * len(legs)
        self.leg_end = [float("nan")] * len(legs)
        self.times: list[float] = [0.0]
        self.soc_at = [list(self.soc.values())]
        self.store_at = [[store or 0.0 for store in self.store.values()]]

    def step(self, start: int, end: int) -> None:
        """Go from one cut to the next."""
        hours, at = (end - start) / 60, start // self.problem.grid.step_min
        now = [
            (number, leg)
            for number, leg in enumerate(self.legs)
            if leg.start_min <= start < leg.end_min
        ]
        for number, leg in now:
            if leg.start_min == start:
                self.leg_start[number] = self.soc[leg.battery]
        self.light = float(self.futures.light(start)[self.index])
        use = self.futures.use(start)[self.index]
        self.demand = dict(zip(self.problem.stations, use, strict=True))
        self._yard([leg for _, leg in now if leg.kind == CHARGE], start, hours, at)
        serving = {leg.place: number for number, leg in now if leg.kind == SERVE}
        for key in self.problem.stations:
            feeds = serving.get(key)
            if feeds != self.served_by[key]:
                self.served_by[key], self.cut_since[key] = feeds, None
                self.is_shed[key] = [False] * len(self.is_shed[key])
            self._station(key, feeds, start, hours, at)
        for number, leg in now:
            if leg.end_min == end:
                self.leg_end[number] = self.soc[leg.battery]
        self.times.append(end)
        self.soc_at.append(list(self.soc.values()))
        self.store_at.append([store or 0.0 for store in self.store.values()])

    # --- yard ---

    def _yard(self, charging: list[Leg], start: int, hours: float, at: int) -> None:
        for key, source in self.problem.sources.items():
            sun_w = float(self.source_sun_w[key][at]) * self.light
            store = self.store[key]
            if store is not None:
                holds = source.holds_wh or store
                offered_w = sun_w
                if self.problem.is_filled(source, start):
                    offered_w += source.fill_w
                store += min(offered_w * hours, max(0.0, holds - store))
            legs = [
                leg for leg in charging if self.problem.bays[leg.place].source == key
            ]
            most_w = source.max_w
            if source.kind == SUN:
                most_w = min(most_w, sun_w)
            elif not self.problem.source_is_on(key, start):
                most_w = 0.0
            self.store[key] = self._bays(key, legs, hours, most_w, store)

    def _bays(
        self,
        source: str,
        legs: list[Leg],
        hours: float,
        most_w: float,
        store: float | None,
    ) -> float | None:
        """Charge what is on a source's bays; return what its store is left with."""
        watts, taken, gains = 0.0, 0.0, []
        for leg in legs:
            model = self._model(leg)
            held = self.soc[leg.battery] * model.capacity
            pace = self.pace[leg.place]
            gain = model.after(held, hours * pace) - held
            gains.append(gain)
            watts += self.problem.bay_w(leg.battery, pace * model.rate_at(held))
            taken += self.problem.bay_w(leg.battery, gain)
        share = min(1.0, most_w / watts) if watts > 0 else 0.0
        if store is not None and taken > 0 and taken * share > store:
            share = store / taken
        for leg, gain in zip(legs, gains, strict=True):
            self.soc[leg.battery] += gain * share / self._model(leg).capacity
        self.source_wh[source] += taken * share
        return None if store is None else store - taken * share

    def _model(self, leg: Leg) -> ChargeModel:
        model = self.problem.charge_model(leg.place, leg.battery)
        return ChargeModel(
            capacity=model.capacity * float(self.capacity[leg.battery]),
            bulk=model.bulk,
            tail=model.tail,
            taper_h=model.taper_h,
        )

    # --- stations ---

    def _station(
        self, key: str, number: int | None, start: int, hours: float, at: int
    ) -> None:
        factor = float(self.demand[key])
        supply = float(self.supply_w[key][at])
        sun = float(self.sun_w[key][at]) * self.light
        load = float(self.problem.load_w[key][at]) * factor
        planned_w = float(self.planned_w[key][at])
        lowered_w = planned_w - float(self.problem.load_w[key][at])
        self.missed[key] += max(0.0, lowered_w) * hours
        self.lost_w = planned_w - max(0.0, lowered_w)
        if number is None:
            if load > supply + _TINY:
                self._off(key, start, hours, load)
            else:
                self.supplied[key] += load * hours
            self.spilled[key] += sun * hours
            return
        leg = self.legs[number]
        load -= self._shed_w(key, leg.battery, supply, load, hours, at) * factor
        feed = self.problem.feed(key, leg.battery)
        capacity = feed.capacity_wh * float(self.capacity[leg.battery])
        is_cut = self.cut_since[key] is not None
        if is_cut and load > supply + _TINY:
            self._off(key, start, hours, load)
            from_supply = from_sun = 0.0
        else:
            from_supply = min(load, supply)
            from_sun = 0.0 if is_cut else min(load - from_supply, sun)
        need = 0.0
        if not is_cut:
            need = load - from_supply - from_sun
        if need > _TINY:
            ran = self._discharge(key, number, (need, load), capacity, (start, hours))
            self.supplied[key] += from_supply * ran
            self.direct[key] += from_sun * ran
            self.spilled[key] += from_sun * (hours - ran) + (sun - from_sun) * hours
            return
        self.supplied[key] += from_supply * hours
        self.direct[key] += from_sun * hours
        spare = min(float(self.spare_w[key][at]), supply - from_supply)
        self._charge(key, number, sun - from_sun, spare, capacity, hours)
        since = self.cut_since[key]
        rested = since is not None and (
            start + hours * 60 - since >= self.problem.stations[key].rest_min
        )
        if rested and self.soc[leg.battery] >= feed.reconnect_soc:
            self.cut_since[key] = None

    def _shed_w(
        self,
        key: str,
        battery: str,
        supply: float,
        load: float,
        hours: float,
        at: int,
    ) -> float:
        shed_w, soc = 0.0, self.soc[battery]
        for group, (level, watts) in enumerate(self.sheds[key]):
            if soc <= level:
                self.is_shed[key][group] = True
            elif soc > level + SHED_RISE:
                self.is_shed[key][group] = False
            if self.is_shed[key][group] and load > supply + _TINY:
                shed_w += float(watts[at])
        if shed_w > 0:
            self.shed[key] += hours * 60
        return shed_w

    def _discharge(
        self,
        key: str,
        number: int,
        asked: tuple[float, float],
        capacity: float,
        span: tuple[int, float],
    ) -> float:
        """
        Give from the battery; return the hours until power ended.

        `asked` is what is asked of the battery and what the loads ask for. [W]
        `span` is the minute it begins and the hours it lasts.
        """
        (need, load), (start, hours) = asked, span
        battery = self.legs[number].battery
        feed = self.problem.feed(key, battery)
        soc = self.soc[battery]
        left = max(0.0, (soc - feed.floor_soc) * capacity)
        out, ran = need * hours, hours
        if out > left + _TINY:
            out, ran = left, left / need
            self.cut_since[key] = start + ran * 60
            self._off(key, start + ran * 60, hours - ran, load)
        above = max(0.0, (soc - feed.reserve_soc) * capacity)
        if out > above + _TINY:
            self.reserve[key] += (out - above) / need * 60
        self.soc[battery] = soc - out / capacity
        self.out[number] += out
        return ran

    def _charge(
        self,
        key: str,
        number: int,
        sun: float,
        spare: float,
        capacity: float,
        hours: float,
    ) -> None:
        """Charge the battery at the station with what is left over, sun first."""
        battery = self.legs[number].battery
        model = self.problem.field_model(battery, key)
        holds = model.capacity * float(self.capacity[battery])
        room = max(0.0, (1 - self.soc[battery]) * holds)
        rate = min(
            (sun + spare) / self.problem.bay_w(battery, 1.0),
            model.bulk,
            model.tail + room / model.taper_h,
        )
        gain = min(rate * hours, room)
        taken = self.problem.bay_w(battery, gain)
        by_sun = min(1.0, sun * hours / taken) if taken > 0 else 0.0
        stored = gain / holds * capacity
        self.soc[battery] += gain / holds
        self.into[number] += stored * by_sun
        self.fed[number] += stored * (1 - by_sun)
        self.spilled[key] += max(0.0, sun * hours - taken)

    def _off(self, key: str, at: float, hours: float, load: float) -> None:
        if np.isnan(self.first_off[key]):
            self.first_off[key] = at
        self.off_air[key] += hours * 60
        self.unserved[key] += load * hours
        self.missed[key] += self.lost_w * hours

    def result(self) -> Runs:
        """What came out."""

        def row(values: dict[str, float]) -> np.ndarray:
            return np.array([list(values.values())], dtype=float).reshape(1, -1)

        return Runs(
            off_air_min=row(self.off_air),
            first_off_min=row(self.first_off),
            reserve_min=row(self.reserve),
            shed_min=row(self.shed),
            unserved_wh=row(self.unserved),
            missed_wh=row(self.missed),
            supplied_wh=row(self.supplied),
            sun_wh=row(self.direct),
            spilled_wh=row(self.spilled),
            leg_out_wh=np.array([self.out]),
            leg_sun_wh=np.array([self.into]),
            leg_fed_wh=np.array([self.fed]),
            leg_start=np.array([self.leg_start]),
            leg_end=np.array([self.leg_end]),
            source_wh=row(self.source_wh),
            times_min=np.array(self.times, dtype=float),
            soc=np.array([self.soc_at]),
            store_wh=np.array([self.store_at]),
        )
