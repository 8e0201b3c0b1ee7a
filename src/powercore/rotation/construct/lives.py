"""Batteries on their way through the event, and what each holds for a station."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from powercore.event.problem import WAIT, YARD, Leg, Problem
from powercore.rotation.construct.styles import Style
from powercore.values import FloatArray, IntArray


@dataclass(slots=True)
class Life:
    """One battery on its way through the event."""

    key: str
    soc: float
    place: str
    kind: str
    since: int = 0
    crew: str = ""
    round: int | None = None
    #: When a carried or promised battery is where it goes. [min]
    due: int = 0
    promised: bool = False
    #: When it has rested enough to be charged. [min]
    rested: int = 0


@dataclass(slots=True)
class Swap:
    """A walk that brings a battery to a station and fetches the one there."""

    station: str
    battery: str
    leave: int
    arrive: int
    crew: str
    round: int


@dataclass(slots=True)
class Lives:
    """Where every battery is, with its legs so far."""

    problem: Problem
    style: Style
    legs: list[Leg] = field(default_factory=list)
    lives: dict[str, Life] = field(default_factory=dict)
    at_station: dict[str, str | None] = field(default_factory=dict)
    on_bay: dict[str, str | None] = field(default_factory=dict)
    busy_until: dict[int, int] = field(default_factory=dict)
    swaps: list[Swap] = field(default_factory=list)
    store_wh: dict[str, float | None] = field(default_factory=dict)
    #: Order in the scenario: ties go to the first, whatever the keys are.
    rank: dict[str, int] = field(default_factory=dict)
    rounds: int = 0
    #: From each step on, the first at which somebody is at the yard, and the first in
    #: which a bay has power while nobody watches it.
    watched_from: IntArray = field(default_factory=lambda: np.zeros(1, dtype=np.int64))
    unminded_from: dict[str, IntArray] = field(default_factory=dict)

    def _end_leg(self, life: Life, minute: int) -> None:
        if minute > life.since:
            self.legs.append(
                Leg(
                    kind=life.kind,
                    battery=life.key,
                    place=life.place,
                    start_min=life.since,
                    end_min=minute,
                    crew=life.crew,
                    round=life.round,
                )
            )

    def _go(
        self,
        life: Life,
        kind: str,
        place: str,
        minute: int,
        *,
        swap: Swap | None = None,
        due: int = 0,
    ) -> None:
        """End a battery's leg and begin the next; `swap` is what it is carried for."""
        self._end_leg(life, minute)
        life.kind, life.place, life.since = kind, place, minute
        life.crew = swap.crew if swap is not None else ""
        life.round = swap.round if swap is not None else None
        life.due = due

    def _waiting(self) -> list[str]:
        return [
            key
            for key, life in self.lives.items()
            if life.kind == WAIT and life.place == YARD and not life.promised
        ]

    def _above_wh(self, station: str, key: str) -> float:
        feed = self.problem.feed(station, key)
        return max(0.0, (self.lives[key].soc - feed.reserve_soc) * feed.capacity_wh)

    def _left_wh(self, station: str, key: str) -> float:
        feed = self.problem.feed(station, key)
        return max(0.0, (self.lives[key].soc - feed.floor_soc) * feed.capacity_wh)

    def _drawn(self, station: str, minute: float) -> float:
        drawn: FloatArray = self.problem.asked_wh[station]
        step = self.problem.grid.step_min
        at = min(int(minute // step), drawn.size - 2)
        share = (minute - at * step) / step
        return float(drawn[at] + share * (drawn[at + 1] - drawn[at]))

    def _need_wh(self, station: str, minute: float) -> float:
        return float(self.problem.asked_wh[station][-1]) - self._drawn(station, minute)

    def _best_battery(
        self, station: str, need_wh: float, keys: list[str]
    ) -> str | None:
        """The battery a station gets: the fullest, or the smallest that lasts."""
        fit = [key for key in keys if self.problem.feed(station, key).refusal is None]
        if self.style.first == "listed":
            return next(iter(fit), None)
        able = {key: self._above_wh(station, key) for key in fit}
        if not any(able.values()):  # into reserve is better than off the air
            able = {key: self._left_wh(station, key) for key in able}
        able = {key: wh for key, wh in able.items() if wh > 0}
        if not able:
            return None
        if self.style.fits:
            enough = {key: wh for key, wh in able.items() if wh >= need_wh}
            if enough:
                return min(enough, key=lambda key: (enough[key], -self.rank[key]))
        return max(able, key=lambda key: (able[key], self.rank[key]))

    def _spare_at(self, station: str) -> str | None:
        """The best battery that waits at a station, with anything above its reserve."""
        if not self.problem.stations[station].spares:
            return None
        there = [
            key
            for key, life in self.lives.items()
            if (life.kind, life.place) == (WAIT, station)
            and self._above_wh(station, key) > 0
        ]
        return max(there, key=lambda key: self._above_wh(station, key), default=None)

    def _opens_at(self, station: str, now: int) -> float | None:
        """When a station next draws anything; None when it never does again."""
        step = self.problem.grid.step_min
        draws = np.flatnonzero(self.problem.asked_w[station][now // step :] > 0)
        return float(now + int(draws[0]) * step) if draws.size else None

    def _reserve_at(self, station: str, held: str, now: int) -> float | None:
        """When a battery falls to its reserve there; None when it never does."""
        drawn = self.problem.asked_wh[station]
        feed = self.problem.feed(station, held)
        above_wh = max(
            0.0, (self.lives[held].soc - feed.reserve_soc) * feed.capacity_wh
        )
        target = self._drawn(station, now) + above_wh
        if target >= drawn[-1] - 1e-6:
            return None
        at = int(np.searchsorted(drawn, target, side="right")) - 1
        return float(at * self.problem.grid.step_min)
