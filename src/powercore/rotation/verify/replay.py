"""The physics of a rotation, event by event."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise
from operator import itemgetter

import numpy as np

from powercore.event.problem import CHARGE, SERVE, Feed, Leg, Problem
from powercore.rotation.verify.report import Broken, Outcome, Shortfall
from powercore.rotation.verify.rules import by, walks_of
from powercore.sun.sources import ENGINES, SUN
from powercore.values import FloatArray


class Replay:
    """Replays a rotation from one event to the next."""

    def __init__(
        self, problem: Problem, legs: Sequence[Leg], trace_min: int | None = None
    ) -> None:
        self.problem, self.edges = problem, problem.grid.edges_min
        self.legs, self.trace_min = legs, trace_min
        self.soc = {key: b.start_soc for key, b in problem.batteries.items()}
        self.start_soc: dict[int, float] = {}
        self.end_soc: dict[int, float] = {}
        self.store_wh = {
            key: source.energy_wh for key, source in problem.sources.items()
        }
        #: Sources as they are, with all they can give.
        self.planned = {one.key: one for one in problem.scenario.sources}
        self.outcome = Outcome()
        self.broken: list[Broken] = []
        #: Legs whose power has ended, and when.
        self._cut_at: dict[int, float] = {}

    def run(self) -> Outcome:
        """Replay from start to end."""
        times = self._times()
        begins: dict[int, list[tuple[int, Leg]]] = defaultdict(list)
        for i, leg in enumerate(self.legs):
            begins[leg.start_min].append((i, leg))
        now: list[tuple[int, Leg]] = []
        for start, end in pairwise(times):
            still = [(i, leg) for i, leg in now if start < leg.end_min]
            now = sorted(still + begins[start], key=itemgetter(0))
            for i, leg in now:
                self.start_soc.setdefault(i, self.soc[leg.battery])
            self._fill_banks(start, end)
            self._charge([leg for _, leg in now if leg.kind == CHARGE], start, end)
            serving = {leg.place: (i, leg) for i, leg in now if leg.kind == SERVE}
            for station in self.problem.stations:
                self._serve(station, serving.get(station), start, end)
            for i, leg in now:
                self.end_soc[i] = self.soc[leg.battery]
            if self.trace_min is not None:
                self._trace(now, start, end)
        self.outcome.leg_soc = [
            (self.start_soc[i], self.end_soc[i]) for i in range(len(self.legs))
        ]
        self._count()
        for key, soc in self.soc.items():
            pack = self.problem.batteries[key].pack
            self.outcome.left_wh += soc * pack.trusted_wh
        self.outcome.shortfalls = _joined(self.outcome.shortfalls)
        return self.outcome

    def _trace(self, now: Sequence[tuple[int, Leg]], start: int, end: int) -> None:
        """Note the charge of those that are somewhere, at the end of a stretch."""
        for i, leg in now:
            trace = self.outcome.traces.setdefault(i, [(start, self.start_soc[i])])
            trace.append((end, self.soc[leg.battery]))

    def _times(self) -> list[int]:
        times = {0, self.problem.span_min}
        if self.trace_min is not None:
            times |= set(range(0, self.problem.span_min, self.trace_min))
        for leg in self.legs:
            times |= {leg.start_min, leg.end_min}
        for source in self.problem.sources.values():
            for window in source.windows:
                times |= {window.start_min, window.end_min}
        step = self.problem.grid.step_min
        changing = [*self.problem.offered_w.values(), *self.problem.fills_w.values()]
        changing += [
            self.problem.yard_sun_w[key]
            for key, source in self.problem.sources.items()
            if source.kind == SUN
        ]
        for watts in changing:
            for i in np.flatnonzero(watts > 0):
                times |= {int(i) * step, int(i + 1) * step}
        return sorted(time for time in times if 0 <= time <= self.problem.span_min)

    def _serve(
        self, station: str, served_by: tuple[int, Leg] | None, start: int, end: int
    ) -> None:
        asked = self.problem.asked_wh[station]
        need_wh = self._at(asked, end) - self._at(asked, start)
        if served_by is None:
            self._short(station, "off_air", start, end)
            return
        i, leg = served_by
        feed = self.problem.feed(station, leg.battery)
        soc = self.soc[leg.battery]
        step, hours = start // self.problem.grid.step_min, (end - start) / 60
        if self._is_still_cut(i, feed, start):
            offered_w = float(self.problem.offered_w[station][step])
            self._top_up(leg.battery, station, offered_w, hours)
            drawn = self.problem.drawn_wh[station]
            opens = self._when(drawn, start, 0.0)
            self._short(station, "off_air", opens, end)
            return
        if need_wh <= 0:
            surplus_w = float(self.problem.surplus_w[station][step])
            self._top_up(leg.battery, station, surplus_w, hours)
        left_wh = max(0.0, (soc - feed.floor_soc) * feed.capacity_wh)
        given_wh = min(need_wh, left_wh)
        self.soc[leg.battery] -= given_wh / feed.capacity_wh
        self.outcome.cycles[leg.battery] += given_wh / feed.capacity_wh
        self.outcome.served_wh[station] += given_wh
        cut_at = float(end)
        if need_wh > left_wh + 1e-9:
            cut_at = self._when(asked, start, left_wh)
            self._cut_at[i] = cut_at
            self._short(station, "off_air", cut_at, end)
        above_wh = max(0.0, (soc - feed.reserve_soc) * feed.capacity_wh)
        if given_wh > above_wh + 1e-9:
            at = self._when(asked, start, above_wh)
            below_wh = max(0.0, (feed.reserve_soc - soc) * feed.capacity_wh)
            deep_min = self._below(asked, at, cut_at, below_wh) / feed.reserve_wh
            self._short(station, "reserve", at, cut_at, deep_min)

    def _below(
        self, asked: FloatArray, start: float, end: float, below_wh: float
    ) -> float:
        """Minutes × watt-hours below reserve, from so many on. [Wh min]"""
        area, now, step = 0.0, start, self.problem.grid.step_min
        while now < end:
            then = min(end, step * (now // step + 1))
            more_wh = self._at(asked, then) - self._at(asked, now)
            area += (below_wh + more_wh / 2) * (then - now)
            now, below_wh = then, below_wh + more_wh
        return area

    def _is_still_cut(self, number: int, feed: Feed, minute: int) -> bool:
        """Whether power that ended has not come back: by charge, after its rest."""
        if number not in self._cut_at:
            return False
        leg = self.legs[number]
        rest_min = self.problem.stations[leg.place].rest_min
        has_rested = minute - self._cut_at[number] >= rest_min
        if has_rested and self.soc[leg.battery] >= feed.reconnect_soc:
            del self._cut_at[number]
            return False
        return True

    def _top_up(self, battery: str, station: str, watts: float, hours: float) -> None:
        """Charge a battery at its station by what is left over, in one step."""
        if watts <= 0:
            return
        model = self.problem.field_model(battery, station)
        stored = self.soc[battery] * model.capacity
        offered = watts / self.problem.bay_w(battery, 1.0)
        gain = min(offered, model.rate_at(stored)) * hours
        self.soc[battery] = min(1.0, (stored + gain) / model.capacity)

    def _fill_banks(self, start: int, end: int) -> None:
        """Fill the buffer banks with what sun and other sources give them."""
        step = start // self.problem.grid.step_min
        for key, store in self.store_wh.items():
            if store is not None:
                source = self.problem.sources[key]
                watts = float(self.problem.yard_sun_w[key][step])
                if self.problem.is_filled(source, start):
                    watts += source.fill_w
                room = max(0.0, (source.holds_wh or 0.0) - store)
                self.store_wh[key] = store + min(watts * (end - start) / 60, room)

    def _charge(self, charging: list[Leg], start: int, end: int) -> None:
        by_source: dict[str, list[Leg]] = defaultdict(list)
        for leg in charging:
            by_source[self.problem.bays[leg.place].source].append(leg)
        for source, legs in by_source.items():
            if not self.problem.source_is_on(source, start):
                continue
            watts = sum(self._bay_w(leg) for leg in legs)
            most_w, share = self.problem.sources[source].max_w, 1.0
            if self.problem.sources[source].kind == SUN:
                # All get the same part of what they ask for.
                step = start // self.problem.grid.step_min
                most_w = min(most_w, float(self.problem.yard_sun_w[source][step]))
                share = min(1.0, most_w / watts) if watts > 0 else 1.0
            elif watts > most_w + 1e-6:
                self.broken.append(
                    Broken(
                        "source_overloaded",
                        f"{watts:.0f} W of {most_w:.0f} W at {start}",
                    )
                )
            hours = (end - start) / 60
            store = self.store_wh[source]
            if store is not None:
                hours = self._hours_in_store(legs, hours, store)
            all_wh = 0.0
            for leg in legs:
                before, after = self.soc[leg.battery], self._soc_after(leg, hours)
                taken_wh = self._gained_wh(leg, after - before)
                self.soc[leg.battery] = share * after + (1 - share) * before
                all_wh += share * taken_wh
                if store is not None:
                    store -= taken_wh
            self._burn(source, watts, all_wh, hours)
            self.store_wh[source] = store

    def _burn(self, source: str, watts: float, taken_wh: float, hours: float) -> None:
        """Count what an engine does for batteries: all of it, or what they add."""
        plan = self.planned[source]
        if plan.kind not in ENGINES or watts <= 0:
            return
        taken_wh /= self.problem.charger_efficiency[source]
        is_extra = not self.problem.is_running_anyway(source)
        self.outcome.engine_min += 60 * hours * is_extra
        if plan.fuel is not None and plan.max_w > 0:
            self.outcome.fuel_l += plan.fuel.slope_l_h * taken_wh / plan.max_w
            self.outcome.fuel_l += float(plan.fuel.burns_l_h(0.0)) * hours * is_extra

    def _hours_in_store(self, legs: list[Leg], hours: float, store_wh: float) -> float:
        """Hours until a buffer bank runs dry, at the most `hours`; by bisection."""

        def taken(h: float) -> float:
            return sum(self._taken_wh(leg, h) for leg in legs)

        if taken(hours) <= store_wh:
            return hours
        low, high = 0.0, hours
        for _ in range(50):
            middle = (low + high) / 2
            low, high = (middle, high) if taken(middle) <= store_wh else (low, middle)
        return low

    def _bay_w(self, leg: Leg) -> float:
        model = self.problem.charge_model(leg.place, leg.battery)
        rate = model.rate_at(self.soc[leg.battery] * model.capacity)
        return self.problem.bay_w(leg.battery, rate)

    def _soc_after(self, leg: Leg, hours: float) -> float:
        model = self.problem.charge_model(leg.place, leg.battery)
        return (
            model.after(self.soc[leg.battery] * model.capacity, hours) / model.capacity
        )

    def _taken_wh(self, leg: Leg, hours: float) -> float:
        gain = self._soc_after(leg, hours) - self.soc[leg.battery]
        return self._gained_wh(leg, gain)

    def _gained_wh(self, leg: Leg, gain: float) -> float:
        model = self.problem.charge_model(leg.place, leg.battery)
        return self.problem.bay_w(leg.battery, gain * model.capacity)

    def _drawn(self, station: str, minute: float) -> float:
        return self._at(self.problem.drawn_wh[station], minute)

    def _at(self, cumulative: FloatArray, minute: float) -> float:
        """A sum that grows evenly in each step, at a minute."""
        step = self.problem.grid.step_min
        i = int(minute // step)
        if i >= cumulative.size - 1:
            return float(cumulative[-1])
        before, after = cumulative.item(i), cumulative.item(i + 1)
        return (after - before) / step * (minute - i * step) + before

    def _when(self, drawn: FloatArray, start: float, energy_wh: float) -> float:
        """Minute at which some energy was drawn since a minute."""
        target = self._at(drawn, start) + energy_wh
        edges = self.edges
        i = int(np.searchsorted(drawn, target, side="right"))
        if i >= drawn.size:
            return float(edges[-1])
        share = (target - drawn[i - 1]) / (drawn[i] - drawn[i - 1])
        return max(
            float(start), float(edges[i - 1] + share * self.problem.grid.step_min)
        )

    def _short(
        self,
        station: str,
        what: str,
        start: float,
        end: float,
        deep_min: float = 0.0,
    ) -> None:
        opened = self.problem.open_min[station]
        open_min = self._at(opened, end) - self._at(opened, start)
        if open_min <= 1e-9:
            return
        unserved = 0.0
        if what == "off_air":
            unserved = self._drawn(station, end) - self._drawn(station, start)
        self.outcome.shortfalls.append(
            Shortfall(
                station=station,
                what=what,
                start_min=start,
                end_min=end,
                open_min=open_min,
                unserved_wh=unserved,
                deep_min=deep_min,
            )
        )

    def _count(self) -> None:
        rounds: dict[tuple[str, int | None], bool] = defaultdict(bool)
        for leg, walk in walks_of(self.problem, by(self.legs, "battery")):
            rounds[leg.crew, leg.round] |= walk is not None and self.problem.is_night(
                walk.start_min, walk.end_min
            )
        self.outcome.walks = len(rounds)
        self.outcome.night_walks = sum(rounds.values())
        span = self.problem.span_min
        for leg in self.legs:
            if leg.kind == CHARGE:
                self.outcome.bay_changes += (leg.start_min > 0) + (leg.end_min < span)
            if leg.kind == SERVE and leg.start_min > 0:
                self.outcome.swaps += 1


def _joined(falls: list[Shortfall]) -> list[Shortfall]:
    """Join stretches that touch."""
    joined: list[Shortfall] = []
    for fall in sorted(falls, key=lambda f: (f.station, f.what, f.start_min)):
        last = joined[-1] if joined else None
        if (
            last is not None
            and (last.station, last.what) == (fall.station, fall.what)
            and fall.start_min - last.end_min < 1e-6
        ):
            joined[-1] = replace(
                last,
                end_min=fall.end_min,
                open_min=last.open_min + fall.open_min,
                unserved_wh=last.unserved_wh + fall.unserved_wh,
                deep_min=last.deep_min + fall.deep_min,
            )
        else:
            joined.append(fall)
    return sorted(joined, key=lambda f: (f.start_min, f.station))
