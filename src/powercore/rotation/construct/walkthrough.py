"""One greedy start: the event walked through in steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from powercore.event.problem import CHARGE, SERVE, WAIT, Leg
from powercore.rotation.construct.lives import Life
from powercore.rotation.construct.walks import Walks
from powercore.values import BoolArray, IntArray


@dataclass(slots=True)
class Walkthrough(Walks):
    """One start by one style, from the event's start to its end."""

    def run(self) -> tuple[Leg, ...]:
        """Walk through the event from start to end."""
        self._begin()
        for step in range(self.problem.grid.count):
            now = step * self.problem.grid.step_min
            self._arrive(now)
            if self.problem.is_watched(now):
                self._mind_bays(now)
            self._swap_spares(now)
            if self.style.walks:
                self._send_walks(now)
            self._advance(now, step)
        for life in self.lives.values():
            self._end_leg(life, self.problem.span_min)
        return tuple(self.legs)

    def _begin(self) -> None:
        problem = self.problem
        self.at_station = dict.fromkeys(problem.stations)
        self.on_bay = dict.fromkeys(problem.bays)
        for known in (problem.stations, problem.batteries):
            self.rank |= {key: -number for number, key in enumerate(known)}
        self.store_wh = {key: s.energy_wh for key, s in problem.sources.items()}
        self._look_ahead()
        for key, battery in problem.batteries.items():
            if battery.is_on_hold:
                continue
            kind, place = WAIT, battery.start_place
            if place in problem.stations and not battery.is_spare:
                kind, self.at_station[place] = SERVE, key
            elif place in problem.bays:
                kind, self.on_bay[place] = CHARGE, key
            self.lives[key] = Life(key, battery.start_soc, place, kind)
        self._set_up()

    def _look_ahead(self) -> None:
        """Note for each step when somebody is next at the yard, and when not."""
        grid, problem = self.problem.grid, self.problem
        starts = np.arange(grid.count + 1) * grid.step_min
        watched = np.array([problem.is_watched(int(minute)) for minute in starts])
        self.watched_from = _next(watched)
        for bay, windows in problem.unminded.items():
            unminded = np.zeros(grid.count + 1, dtype=bool)
            for window in windows:
                unminded |= (starts < window.end_min) & (
                    starts + grid.step_min > window.start_min
                )
            self.unminded_from[bay] = _next(unminded)

    def _set_up(self) -> None:
        """
        Give each station without a battery its first one; nobody walks yet.

        Under way only a spare that waits there is put in: all else is carried.
        """
        is_under_way = self.problem.scenario.is_under_way
        order = sorted(
            (key for key, held in self.at_station.items() if held is None),
            key=self._turn,
        )
        for station in order:
            spare = self._spare_at(station)
            if spare is None and is_under_way:
                continue
            able = self._waiting() if spare is None else [spare]
            battery = self._best_battery(station, self._need_wh(station, 0), able)
            if battery is not None:
                life = self.lives[battery]
                life.kind, life.place = SERVE, station
                self.at_station[station] = battery

    def _turn(self, station: str) -> tuple[int, float]:
        """When a station gets its first battery, by the style."""
        if self.style.first == "listed":
            return (0, 0.0)
        sign = -1 if self.style.first == "hungry" else 1
        return (self.problem.stations[station].tier, sign * self._need_wh(station, 0))


def _next(at: BoolArray) -> IntArray:
    """The first step from each step on at which something is so; else a large one."""
    count = at.size
    found = np.where(at, np.arange(count), 10 * count)
    return np.minimum.accumulate(found[::-1])[::-1].astype(np.int64)
