"""
Many futures of a rotation at once: the arithmetic of `replay`, on arrays.

All futures share the legs, so who feeds what and who charges where is the same in
each, and a step is a few operations on arrays of futures × stations. Equal to the
reference replay to 1e-9; a test and a benchmark hold it to that.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from powercore.event.problem import CHARGE, SERVE, Leg, Problem
from powercore.futures.draws import Futures, Runs
from powercore.futures.replay import SHED_RISE, cut_times
from powercore.sun.sources import SUN
from powercore.values import FloatArray

_TINY = 1e-9


@dataclass(slots=True)
class _Yard:
    """Batteries on one source's bays in a stretch; columns of shape (1 or L, n)."""

    source: int
    bays: np.ndarray
    batteries: np.ndarray
    capacity: FloatArray
    bulk: FloatArray
    tail: FloatArray
    taper_h: FloatArray
    w_per_rate: FloatArray


@dataclass(slots=True)
class _Now:
    """Who feeds what in a stretch: shapes (S,), numbers (1 or L, S)."""

    leg: np.ndarray
    battery: np.ndarray
    has: np.ndarray
    wh: FloatArray
    floor: FloatArray
    reserve: FloatArray
    reconnect: FloatArray
    ah: FloatArray
    bulk: FloatArray
    tail: FloatArray
    taper_h: FloatArray
    w_per_rate: FloatArray
    yards: list[_Yard]


def simulate(
    problem: Problem,
    legs: Sequence[Leg],
    futures: Futures,
    others: Sequence[Problem] = (),
    planned: Problem | None = None,
) -> Runs:
    """
    Run a rotation through many futures.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    futures : Futures
        L futures; with V - 1 others, the first L / V are the problem's, and so on, or
        as they say themselves.
    others : sequence of Problem
        The same event with other numbers: same keys, same legs.
    planned : Problem, optional
        The event as it asks for power by its plan; none: as each problem has it.

    Returns
    -------
    Runs
        One row for each future.
    """
    many = _Many([problem, *others], legs, futures)
    if planned is not None:
        many.planned = _table([planned.load_w[key] for key in many.keys], many.steps)
    return many.run()


class _Many:
    def __init__(
        self, problems: list[Problem], legs: Sequence[Leg], futures: Futures
    ) -> None:
        problem = problems[0]
        self.problems, self.problem = problems, problem
        self.legs, self.futures = legs, futures
        self.count = futures.count
        #: Which problem each future is of; one row fits all where there is only one.
        self.variant = np.zeros(1, dtype=int)
        if len(problems) > 1:
            each = np.repeat(np.arange(len(problems)), self.count // len(problems))
            self.variant = each if futures.variant is None else futures.variant
        self.keys = list(problem.stations)
        self.sources = list(problem.sources.values())
        self.bay_at = {key: i for i, key in enumerate(problem.bays)}
        self.battery_at = {key: i for i, key in enumerate(problem.batteries)}
        grid = problem.grid
        self.load = np.stack(
            [
                _table([one.load_w[key] for key in self.keys], grid.count)
                for one in problems
            ]
        )
        self.steps = grid.count
        #: What is asked for by plan, where that is not each problem's own load.
        self.planned: FloatArray | None = None
        stations = list(problem.stations.values())
        self.supply = _table([one.supplied_w(grid) for one in stations], grid.count)
        self.spare = _table([one.spare_w(grid) for one in stations], grid.count)
        self.rest_min = np.array([one.rest_min for one in stations], dtype=float)
        # A station without a battery looks at the first; without any, at an empty one.
        self.batteries = len(self.battery_at)
        self._known: dict[tuple[int, int], tuple[float, ...]] = {}
        pad = ((0, 0), (0, 0 if self.batteries else 1))
        self.soc = np.pad(futures.start_soc, pad)
        self.capacity = np.pad(futures.capacity, pad, constant_values=1.0)
        shape = (self.count, len(self.keys))
        self.cut_since = np.full(shape, np.nan)
        self.held = np.full(len(self.keys), -1)
        self.sheds = [
            (number, level, watts)
            for number, key in enumerate(self.keys)
            for level, watts in problem.sheds[key]
        ]
        self.is_shed = np.zeros((self.count, len(self.sheds)), dtype=bool)
        self.sums = {
            name: np.zeros(shape)
            for name in (
                *("off", "reserve", "shed", "unserved", "missed"),
                *("fed", "sun", "spilled"),
            )
        }
        self.first_off = np.full(shape, np.nan)
        self.source_wh = np.zeros((self.count, len(self.sources)))
        self.store = np.tile(
            np.array([one.energy_wh or 0.0 for one in self.sources], dtype=float),
            (self.count, 1),
        ).reshape(self.count, -1)
        legs_shape = (self.count, len(legs))
        self.out, self.into = np.zeros(legs_shape), np.zeros(legs_shape)
        self.by_supply = np.zeros(legs_shape)
        self.start, self.end = np.full(legs_shape, np.nan), np.full(legs_shape, np.nan)

    def run(self) -> Runs:
        """Go through all steps."""
        times = cut_times(self.problem, self.legs)
        traced = np.flatnonzero(self.futures.traced)
        kept = np.ix_(traced, np.arange(self.batteries))
        soc, store = [self.soc[kept]], [self.store[traced]]
        begins: dict[int, list[int]] = {}
        ends: dict[int, list[int]] = {}
        for number, leg in enumerate(self.legs):
            begins.setdefault(leg.start_min, []).append(number)
            ends.setdefault(leg.end_min, []).append(number)
        now = None
        for first, last in pairwise(times):
            for number in begins.get(first, []):
                at = self.battery_at[self.legs[number].battery]
                self.start[:, number] = self.soc[:, at]
            if now is None or first in begins or first in ends:
                now = self._now(first)
            self._step(now, first, last)
            for number in ends.get(last, []):
                at = self.battery_at[self.legs[number].battery]
                self.end[:, number] = self.soc[:, at]
            soc.append(self.soc[kept])
            store.append(self.store[traced])
        sums = self.sums
        return Runs(
            off_air_min=sums["off"],
            first_off_min=self.first_off,
            reserve_min=sums["reserve"],
            shed_min=sums["shed"],
            unserved_wh=sums["unserved"],
            missed_wh=sums["missed"],
            supplied_wh=sums["fed"],
            sun_wh=sums["sun"],
            spilled_wh=sums["spilled"],
            leg_out_wh=self.out,
            leg_sun_wh=self.into,
            leg_fed_wh=self.by_supply,
            leg_start=self.start,
            leg_end=self.end,
            source_wh=self.source_wh,
            times_min=np.array(times, dtype=float),
            soc=np.stack(soc, axis=1),
            store_wh=np.stack(store, axis=1),
        )

    # --- who is where ---

    def _now(self, minute: int) -> _Now:
        leg_of = np.full(len(self.keys), -1)
        station_at = {key: i for i, key in enumerate(self.keys)}
        charging: dict[str, list[Leg]] = {}
        for number, leg in enumerate(self.legs):
            if not leg.start_min <= minute < leg.end_min:
                continue
            if leg.kind == SERVE:
                leg_of[station_at[leg.place]] = number
            elif leg.kind == CHARGE:
                source = self.problem.bays[leg.place].source
                charging.setdefault(source, []).append(leg)
        rows = [
            [self._fed(one, key, int(leg_of[i])) for i, key in enumerate(self.keys)]
            for one in range(len(self.problems))
        ]
        table = np.array(rows, dtype=float).reshape(len(rows), -1, 10)
        columns = np.moveaxis(table, 2, 0)[:, self.variant]
        changed = leg_of != self.held
        self.cut_since[:, changed] = np.nan
        for group, (station, _, _) in enumerate(self.sheds):
            if changed[station]:
                self.is_shed[:, group] = False
        self.held = leg_of
        return _Now(
            leg=leg_of,
            battery=columns[0, 0].astype(int),
            has=leg_of >= 0,
            wh=columns[1],
            floor=columns[2],
            reserve=columns[3],
            reconnect=columns[4],
            ah=columns[5],
            bulk=columns[6],
            tail=columns[7],
            taper_h=columns[8],
            w_per_rate=columns[9],
            yards=[
                self._yard(number, charging.get(source.key, []))
                for number, source in enumerate(self.sources)
            ],
        )

    def _fed(self, variant: int, station: str, leg: int) -> tuple[float, ...]:
        """A battery at a station, in numbers; worked out once for each leg."""
        if leg < 0:
            return (0, 1.0, 0.0, 0.0, 1.0, 1.0, 0.0, 1.0, 1.0, 1.0)
        found = self._known.get((variant, leg))
        if found is None:
            found = self._worked_out(self.problems[variant], station, leg)
            self._known[variant, leg] = found
        return found

    def _worked_out(
        self, problem: Problem, station: str, leg: int
    ) -> tuple[float, ...]:
        battery = self.legs[leg].battery
        feed = problem.feed(station, battery)
        model = problem.field_model(battery, station)
        return (
            self.battery_at[battery],
            feed.capacity_wh,
            feed.floor_soc,
            feed.reserve_soc,
            feed.reconnect_soc,
            model.capacity,
            model.bulk,
            model.tail,
            model.taper_h,
            problem.bay_w(battery, 1.0),
        )

    def _yard(self, source: int, legs: list[Leg]) -> _Yard:
        table = np.array(
            [[self._charged(one, leg) for leg in legs] for one in self.problems]
        ).reshape(len(self.problems), -1, 5)
        columns = np.moveaxis(table, 2, 0)[:, self.variant]
        return _Yard(
            source=source,
            bays=np.array([self.bay_at[leg.place] for leg in legs], int),
            batteries=np.array([self.battery_at[leg.battery] for leg in legs], int),
            capacity=columns[0],
            bulk=columns[1],
            tail=columns[2],
            taper_h=columns[3],
            w_per_rate=columns[4],
        )

    def _charged(self, problem: Problem, leg: Leg) -> tuple[float, ...]:
        model = problem.charge_model(leg.place, leg.battery)
        w_per_rate = problem.bay_w(leg.battery, 1.0)
        return (model.capacity, model.bulk, model.tail, model.taper_h, w_per_rate)

    # --- a step ---

    def _step(self, now: _Now, start: int, end: int) -> None:
        hours, at = (end - start) / 60, start // self.problem.grid.step_min
        for yard in now.yards:
            self._charge_yard(yard, start, hours, at)
        if self.keys:
            self._stations(now, start, hours, at)

    def _charge_yard(self, yard: _Yard, start: int, hours: float, at: int) -> None:
        source, futures = self.sources[yard.source], self.futures
        sun = futures.source_sun_w[futures.sky, yard.source, at] * futures.light(start)
        store = self.store[:, yard.source]
        if source.energy_wh is not None:
            room = np.maximum(0.0, (source.holds_wh or 0.0) - store)
            fills = self.problem.is_filled(source, start)
            offered = sun + (source.fill_w if fills else 0.0)
            store += np.minimum(offered * hours, room)
        if not yard.batteries.size:
            return
        if source.kind == SUN:
            most_w = np.minimum(source.max_w, sun)
        elif self.problem.source_is_on(source.key, start):
            most_w = np.full(self.count, source.max_w)
        else:
            return
        holds = yard.capacity * self.capacity[:, yard.batteries]
        held = self.soc[:, yard.batteries] * holds
        pace: FloatArray | float = 1.0
        if futures.bay_rate is not None:
            pace = futures.bay_rate[:, yard.bays]
        gain = _after(yard, holds, held, hours * pace) - held
        falling = yard.tail + (holds - held) / yard.taper_h
        rate = pace * np.where(held >= holds, 0.0, np.minimum(yard.bulk, falling))
        watts = (rate * yard.w_per_rate).sum(axis=1)
        taken = (gain * yard.w_per_rate).sum(axis=1)
        share = np.where(
            watts > 0, np.minimum(1.0, most_w / np.where(watts > 0, watts, 1.0)), 0.0
        )
        if source.energy_wh is not None:
            over = taken * share > store
            share = np.where(over, store / np.where(taken > 0, taken, 1.0), share)
            store -= taken * share
        self.soc[:, yard.batteries] += gain * share[:, None] / holds
        self.source_wh[:, yard.source] += taken * share

    def _stations(self, now: _Now, start: int, hours: float, at: int) -> None:
        futures, sums = self.futures, self.sums
        supply = self.supply[:, at]
        sun = futures.station_sun_w[futures.sky, :, at] * futures.light(start)[:, None]
        load = self.load[self.variant, :, at] * futures.use(start)
        soc = self.soc[:, now.battery]
        if self.sheds:
            shed = self._shed_w(now, soc, supply, load, hours, start)
            load = np.maximum(load - shed, 0.0)
        capacity = now.wh * self.capacity[:, now.battery]
        is_cut = ~np.isnan(self.cut_since) & now.has
        short = load > supply + _TINY
        is_off = short & (is_cut | ~now.has)
        feeds = now.has & ~is_cut
        from_supply = np.where(is_off, 0.0, np.minimum(load, supply))
        from_sun = np.where(feeds, np.minimum(load - from_supply, sun), 0.0)
        need = np.where(feeds, load - from_supply - from_sun, 0.0)
        drawing = need > _TINY
        wanted = np.where(drawing, need * hours, 0.0)
        left = np.maximum(0.0, (soc - now.floor) * capacity)
        ends = wanted > left + _TINY
        out = np.where(ends, left, wanted)
        safe = np.where(drawing, need, 1.0)
        ran = np.where(ends, left / safe, hours)
        above = np.maximum(0.0, (soc - now.reserve) * capacity)
        sums["reserve"] += np.where(
            drawing & (out > above + _TINY), (out - above) / safe * 60, 0.0
        )
        off_h = np.where(is_off, hours, np.where(ends, hours - ran, 0.0))
        gone = is_off | ends
        off_at = np.where(is_off, float(start), start + ran * 60)
        self.first_off = np.where(
            gone & np.isnan(self.first_off), off_at, self.first_off
        )
        self.cut_since = np.where(ends, start + ran * 60, self.cut_since)
        sums["off"] += off_h * 60
        sums["unserved"] += load * off_h
        own = self.load[self.variant, :, at]
        asked = own if self.planned is None else self.planned[:, at]
        lowered = np.maximum(asked - own, 0.0)
        sums["missed"] += lowered * hours + (asked - lowered) * off_h
        on_h = np.where(drawing, ran, hours)
        sums["fed"] += from_supply * on_h
        sums["sun"] += from_sun * on_h
        takes = now.has & ~drawing
        sun_left = sun - from_sun
        spare = np.minimum(self.spare[:, at], supply - from_supply)
        taken = self._top_up(
            now, soc, sun_left, np.where(takes, spare, 0.0), hours, takes
        )
        sums["spilled"] += np.where(
            takes,
            np.maximum(0.0, sun_left * hours - taken),
            sun_left * hours + np.where(drawing, from_sun * (hours - ran), 0.0),
        )
        self._discharge(now, out)
        rested = start + hours * 60 - self.cut_since >= self.rest_min
        full_enough = self.soc[:, now.battery] >= now.reconnect
        self.cut_since = np.where(is_cut & rested & full_enough, np.nan, self.cut_since)

    def _top_up(
        self,
        now: _Now,
        soc: FloatArray,
        sun_left: FloatArray,
        spare: FloatArray,
        hours: float,
        takes: np.ndarray,
    ) -> FloatArray:
        """Charge what gives nothing: panels first, then the rest; energy taken. [Wh]"""
        factor = self.capacity[:, now.battery]
        holds = now.ah * factor
        room = np.maximum(0.0, (1 - soc) * holds)
        rate = np.minimum(
            np.minimum((sun_left + spare) / now.w_per_rate, now.bulk),
            now.tail + room / now.taper_h,
        )
        gain = np.where(takes, np.minimum(rate * hours, room), 0.0)
        taken = gain * now.w_per_rate
        offered = sun_left * hours / np.where(taken > 0, taken, 1.0)
        by_sun = np.where(taken > 0, np.minimum(1.0, offered), 0.0)
        stored = gain / holds * now.wh * factor
        has = np.flatnonzero(now.has)
        self.soc[:, now.battery[has]] += (gain / holds)[:, has]
        self.into[:, now.leg[has]] += (stored * by_sun)[:, has]
        self.by_supply[:, now.leg[has]] += (stored * (1 - by_sun))[:, has]
        return taken

    def _discharge(self, now: _Now, out: FloatArray) -> None:
        """Take what stations drew out of their batteries. [Wh]"""
        has = np.flatnonzero(now.has)
        batteries = now.battery[has]
        wh = now.wh[:, has] * self.capacity[:, batteries]
        self.soc[:, batteries] -= out[:, has] / wh
        self.out[:, now.leg[has]] += out[:, has]

    def _shed_w(
        self,
        now: _Now,
        soc: FloatArray,
        supply: FloatArray,
        load: FloatArray,
        hours: float,
        start: int,
    ) -> FloatArray:
        shed, at = np.zeros_like(load), start // self.problem.grid.step_min
        for group, (station, level, watts) in enumerate(self.sheds):
            if not now.has[station]:
                continue
            here = soc[:, station]
            is_shed = self.is_shed[:, group]
            is_shed = np.where(
                here <= level, True, np.where(here > level + SHED_RISE, False, is_shed)
            )
            self.is_shed[:, group] = is_shed
            acts = is_shed & (load[:, station] > supply[station] + _TINY)
            shed[:, station] += np.where(acts, watts[at], 0.0)
        self.sums["shed"] += np.where(shed > 0, hours * 60, 0.0)
        return shed * self.futures.use(start)


def _after(
    yard: _Yard, holds: FloatArray, held: FloatArray, hours: FloatArray | float
) -> FloatArray:
    """`ChargeModel.after`, for many at once. shape (L, on bays)"""
    knee = holds - yard.taper_h * np.maximum(0.0, yard.bulk - yard.tail)
    bulk = np.where(yard.bulk > 0, yard.bulk, 1.0)
    bulk_h = np.maximum(0.0, (knee - held) / bulk)
    straight = held + yard.bulk * hours
    begun = np.maximum(held, knee)
    late_h = np.maximum(0.0, hours - bulk_h)
    over = holds + yard.taper_h * yard.tail
    bent = np.minimum(holds, over - (over - begun) * np.exp(-late_h / yard.taper_h))
    slow = np.minimum(holds, begun + yard.bulk * late_h)
    after = np.where(
        hours <= bulk_h, straight, np.where(yard.bulk <= yard.tail, slow, bent)
    )
    return np.where((held >= holds) | (yard.bulk <= 0), held, after)


def _table(rows: list[FloatArray], count: int) -> FloatArray:
    return np.array(rows, dtype=float).reshape(-1, count)
