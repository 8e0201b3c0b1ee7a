"""
Build a first complete rotation at once: greedy with look-ahead, several starts.

The event is walked through in 5-minute steps. Before each step the most urgent
stations, first tier first, are asked when their battery reaches its reserve; one
whose last good chance of a walk has come gets a battery from the yard. Returned
batteries charge where a bay is free and the yard is watched. Every start differs
in how early it swaps, which battery it sends, and how full it charges; the best
result by the strict order of the objective is kept. Big events get fewer starts,
so that a plan is there at once. Everything made is valid.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import product

import numpy as np

from powercore.event.problem import CARRIED, CHARGE, SERVE, WAIT, YARD, Leg, Problem
from powercore.rotation.pins import kept
from powercore.sun.sources import SUN
from powercore.values import BoolArray, FloatArray, IntArray

#: How far ahead power for a bay is looked for. [min]
AHEAD_MIN = 12 * 60
#: A battery is worth a walk when it brings this many times what is there. [ratio]
WORTH_A_WALK = 1.5
#: ... and at least this much of its own energy above reserve. (0 to 1)
LEAST_FILLED = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class Style:
    """How one start decides."""

    #: How long before its reserve a battery is relieved. [min]
    margin_min: int
    #: Send the fullest, or the smallest that lasts to the end.
    fits: bool
    #: Charge up to here when others wait for the bay. (0 to 1)
    charge_to: float
    #: Which stations of a tier get their first battery first: "hungry" (most to
    #: give), "light" (longest on the air where batteries are scarce) or "listed".
    first: str = "hungry"
    #: Whether anybody walks.
    walks: bool = True


STYLES = (
    *(
        Style(margin_min=margin, fits=fits, charge_to=target)
        for margin, fits, target in product((10, 30, 60), (False, True), (0.9, 1.0))
    ),
    Style(margin_min=10, fits=False, charge_to=0.9, first="light"),
    Style(margin_min=30, fits=True, charge_to=0.9, first="light"),
    # The plainest set-up there is, so that no plan is worse than it.
    Style(margin_min=10, fits=False, charge_to=1.0, first="listed", walks=False),
)
#: Starts of an event with more batteries x steps than this: three unlike ones of those
#: that win most often on events grown from seeds, and the plainest set-up.
BIG_STEPS, OF_BIG = 10_000, (STYLES[6], STYLES[10], STYLES[5], STYLES[-1])


def construct(
    problem: Problem, styles: Sequence[Style] | None = None
) -> tuple[Leg, ...]:
    """
    Return the best rotation of several greedy starts; the same every time.

    Parameters
    ----------
    problem : Problem
        The event; batteries already at a station or bay stay until relieved.
    styles : sequence of Style, optional
        The starts to try; by default as many as the event's size allows.

    Returns
    -------
    tuple of Leg
        A complete rotation: every battery that is not on hold is accounted for
        from start to end, and all pins are kept.

    Raises
    ------
    powercore.rotation.pins.PinRefused
        If a pin can't be kept.
    """
    best: tuple[tuple[float, ...], tuple[Leg, ...]] | None = None
    if styles is None:
        is_big = len(problem.batteries) * problem.grid.count > BIG_STEPS
        styles = OF_BIG if is_big else STYLES
    for style in styles:
        walk = _Walkthrough(problem, style)
        walk.run()
        if best is None or walk.score() < best[0]:
            best = walk.score(), tuple(walk.legs)
    assert best is not None  # noqa: S101 - there is at least one style
    return kept(problem, best[1]) if problem.scenario.pins else best[1]


def _next(at: BoolArray) -> IntArray:
    """The first step from each step on at which something is so; else a large one."""
    count = at.size
    found = np.where(at, np.arange(count), 10 * count)
    return np.minimum.accumulate(found[::-1])[::-1].astype(np.int64)


@dataclass(slots=True)
class _Life:
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
class _Swap:
    station: str
    battery: str
    leave: int
    arrive: int
    crew: str
    round: int


@dataclass(slots=True)
class _Walkthrough:
    problem: Problem
    style: Style
    legs: list[Leg] = field(default_factory=list)
    lives: dict[str, _Life] = field(default_factory=dict)
    at_station: dict[str, str | None] = field(default_factory=dict)
    on_bay: dict[str, str | None] = field(default_factory=dict)
    busy_until: dict[int, int] = field(default_factory=dict)
    swaps: list[_Swap] = field(default_factory=list)
    store_wh: dict[str, float | None] = field(default_factory=dict)
    #: Order in the scenario: ties go to the first, whatever the keys are.
    rank: dict[str, int] = field(default_factory=dict)
    off_air: dict[str, float] = field(default_factory=dict)
    unserved: dict[str, float] = field(default_factory=dict)
    in_reserve: dict[str, float] = field(default_factory=dict)
    #: Minutes by which planned walks lack the slack they should have. [min]
    thin_min: float = 0.0
    rounds: int = 0
    bay_changes: int = 0
    #: From each step on, the first at which somebody is at the yard, and the first in
    #: which a bay has power while nobody watches it.
    watched_from: IntArray = field(default_factory=lambda: np.zeros(1, dtype=np.int64))
    unminded_from: dict[str, IntArray] = field(default_factory=dict)

    def run(self) -> None:
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

    def score(self) -> tuple[float, ...]:
        """The objective in strict order; smaller is better."""
        by_tier: list[float] = []
        tiers = sorted({s.tier for s in self.problem.stations.values()})
        for tier in tiers:
            keys = [k for k, s in self.problem.stations.items() if s.tier == tier]
            by_tier.append(self._weighed(self.off_air, keys))
            by_tier.append(self._weighed(self.unserved, keys))
        for tier in tiers:
            keys = [k for k, s in self.problem.stations.items() if s.tier == tier]
            by_tier.append(self._weighed(self.in_reserve, keys))
        return (*by_tier, round(self.thin_min, 3), self.rounds, self.bay_changes)

    def _weighed(self, lost: dict[str, float], stations: Sequence[str]) -> float:
        return sum(self.problem.stations[key].weight * lost[key] for key in stations)

    # --- start ---------------------------------------------------------------

    def _begin(self) -> None:
        problem = self.problem
        self.at_station = dict.fromkeys(problem.stations)
        self.on_bay = dict.fromkeys(problem.bays)
        zero = dict.fromkeys(problem.stations, 0.0)
        self.off_air, self.unserved, self.in_reserve = (
            dict(zero),
            dict(zero),
            dict(zero),
        )
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
            self.lives[key] = _Life(key, battery.start_soc, place, kind)
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
        """Give each station without a battery its first one; nobody walks yet."""
        order = sorted(
            (key for key, held in self.at_station.items() if held is None),
            key=self._turn,
        )
        for station in order:
            spare = self._spare_at(station)
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

    # --- legs ----------------------------------------------------------------

    def _end_leg(self, life: _Life, minute: int) -> None:
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
        life: _Life,
        kind: str,
        place: str,
        minute: int,
        *,
        crew: str = "",
        number: int | None = None,
        due: int = 0,
    ) -> None:
        """End a battery's leg and begin the next."""
        self._end_leg(life, minute)
        life.kind, life.place, life.since = kind, place, minute
        life.crew, life.round, life.due = crew, number, due

    def _arrive(self, now: int) -> None:
        for life in self.lives.values():
            if life.kind == CARRIED and not life.promised and life.due <= now:
                life.rested = life.due + self.problem.scenario.settle_min
                self._go(life, WAIT, YARD, life.due)
        for swap in [swap for swap in self.swaps if swap.arrive <= now]:
            self.swaps.remove(swap)
            walk_min = self.problem.stations[swap.station].walk_min
            old = self.at_station[swap.station]
            if old is not None:
                self.thin_min += self._missing_slack_min(swap.station, old, now)
                self._carry(self.lives[old], swap.arrive, swap.arrive + walk_min, swap)
            new = self.lives[swap.battery]
            new.promised = False
            self._go(new, SERVE, swap.station, swap.arrive)
            self.at_station[swap.station] = swap.battery

    def _missing_slack_min(self, station: str, held: str, now: int) -> float:
        """How much a relief lacks of twice the usual lateness before the reserve."""
        wanted = 2 * self.problem.scenario.lateness_min
        due = self._reserve_at(station, held, now)
        return 0.0 if due is None else max(0.0, wanted - (due - now))

    def _carry(self, life: _Life, start: int, end: int, swap: _Swap) -> None:
        end = min(max(end, start + 1), self.problem.span_min)
        self._go(life, CARRIED, "", start, crew=swap.crew, number=swap.round, due=end)

    # --- yard ----------------------------------------------------------------

    def _must_leave(self, bay: str, key: str, now: int) -> bool:
        """Whether a charge would go on unwatched before somebody can end it."""
        if not self.problem.needs_watch(bay, key):
            return False
        step = now // self.problem.grid.step_min
        unminded = self.unminded_from[bay]
        return bool(unminded[step] < self.watched_from[step + 1])

    def _waiting(self) -> list[str]:
        return [
            key
            for key, life in self.lives.items()
            if life.kind == WAIT and life.place == YARD and not life.promised
        ]

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
                self.bay_changes += 1

    def _take_off(self, bay: str, now: int) -> None:
        held = self.on_bay[bay]
        assert held is not None  # noqa: S101 - asked only of a bay in use
        self._go(self.lives[held], WAIT, YARD, now)
        self.on_bay[bay] = None
        self.bay_changes += 1

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

    # --- walks ---------------------------------------------------------------

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

    def _swap_spares(self, now: int) -> None:
        """Let operators put in the spare they have, when their battery is used up."""
        for station, held in self.at_station.items():
            spare = self._spare_at(station)
            if spare is None or now == 0 or not self._may_swap(station, now):
                continue
            due = now if held is None else self._reserve_at(station, held, now)
            if due is not None and due <= now:
                if held is not None:
                    self._go(self.lives[held], WAIT, station, now)
                self._go(self.lives[spare], SERVE, station, now)
                self.at_station[station] = spare

    def _may_swap(self, station: str, now: int) -> bool:
        problem = self.problem
        return problem.may_swap(station, now) and not problem.is_untouched(station, now)

    def _send_walks(self, now: int) -> None:
        expected = {swap.station for swap in self.swaps}
        asked = []
        for key, plan in self.problem.stations.items():
            if key not in expected and self._spare_at(key) is None:
                due = self._due(key, now)
                if due is not None:
                    asked.append((plan.tier, due, -self.rank[key], key))
        for _, due, _, station in sorted(asked):
            self._consider(station, due, now)

    def _due(self, station: str, now: int) -> float | None:
        """When a station's battery must be relieved; None when it never must."""
        held = self.at_station[station]
        if held is None:
            return float(now) if self._need_wh(station, now) > 1e-6 else None
        due = self._reserve_at(station, held, now)
        return None if due is None else due - self.style.margin_min

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

    def _consider(self, station: str, due: float, now: int) -> None:
        arrive = self._arrival(station, now)
        if arrive is None or not self._is_last_chance(station, due, now):
            return
        crew = self._crew_for(station, arrive)
        if crew is None:
            return
        walk_min = self.problem.stations[station].walk_min
        leave = arrive - walk_min
        ready = self._waiting()
        if self.problem.is_watched(now) and now > 0:
            ready += [held for held in self.on_bay.values() if held is not None]
        battery = self._best_battery(station, self._need_wh(station, arrive), ready)
        if battery is None or not self._is_worth(station, battery, arrive):
            return
        life = self.lives[battery]
        if life.kind == CHARGE:
            self._take_off(life.place, now)
        index, name = crew
        self.rounds += 1
        swap = _Swap(station, battery, leave, arrive, name, self.rounds)
        self.busy_until[index] = arrive + walk_min
        self._carry(life, leave, arrive, swap)
        life.promised = True
        self.swaps.append(swap)

    def _arrival(self, station: str, now: int) -> int | None:
        """First step at which somebody who leaves now can be there."""
        step = self.problem.grid.step_min
        walk_min = self.problem.stations[station].walk_min
        arrive = math.ceil((now + walk_min) / step) * step
        return arrive if arrive + walk_min <= self.problem.span_min else None

    def _is_last_chance(self, station: str, due: float, now: int) -> bool:
        """Whether a walk after this one would come too late."""
        step = self.problem.grid.step_min
        later = now + step
        while later < self.problem.span_min:
            arrive = self._arrival(station, later)
            if arrive is None:
                return True
            if self.problem.may_walk(station, arrive):
                return arrive > due
            later += step
        return True

    def _crew_for(self, station: str, arrive: int) -> tuple[int, str] | None:
        walk_min = self.problem.stations[station].walk_min
        leave, back = arrive - walk_min, arrive + walk_min
        if not self.problem.may_walk(station, arrive):
            return None
        by_name: dict[str, int] = {}
        able = self.problem.crews_for(leave, back)
        for index, crew in enumerate(self.problem.scenario.crews):
            if crew.does == "walks":
                first = by_name.setdefault(crew.name, index)
                if crew in able and self.busy_until.get(first, 0) <= leave:
                    return first, crew.name
        return None

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

    def _above_wh(self, station: str, key: str) -> float:
        feed = self.problem.feed(station, key)
        return max(0.0, (self.lives[key].soc - feed.reserve_soc) * feed.capacity_wh)

    def _left_wh(self, station: str, key: str) -> float:
        feed = self.problem.feed(station, key)
        return max(0.0, (self.lives[key].soc - feed.floor_soc) * feed.capacity_wh)

    def _is_worth(self, station: str, battery: str, arrive: int) -> bool:
        feed = self.problem.feed(station, battery)
        above_wh = self._above_wh(station, battery)
        if above_wh >= self._need_wh(station, arrive):
            return True
        whole_wh = (1 - feed.reserve_soc) * feed.capacity_wh
        held = self.at_station[station]
        if held is None or self._left_wh(station, held) <= 0:
            return True  # off the air: whatever is left helps
        there_wh = 0.0 if held is None else self._above_wh(station, held)
        return (
            above_wh >= LEAST_FILLED * whole_wh and above_wh > WORTH_A_WALK * there_wh
        )

    def _drawn(self, station: str, minute: float) -> float:
        drawn: FloatArray = self.problem.asked_wh[station]
        step = self.problem.grid.step_min
        at = min(int(minute // step), drawn.size - 2)
        share = (minute - at * step) / step
        return float(drawn[at] + share * (drawn[at + 1] - drawn[at]))

    def _need_wh(self, station: str, minute: float) -> float:
        return float(self.problem.asked_wh[station][-1]) - self._drawn(station, minute)

    # --- physics in steps ----------------------------------------------------

    def _advance(self, now: int, step: int) -> None:
        hours = self.problem.grid.step_min / 60
        for station, held in self.at_station.items():
            if self.problem.demand_w[station][step] > 0:
                self._feed(station, held, step)
            surplus_w = float(self.problem.surplus_w[station][step])
            if held is not None and surplus_w > 0:
                model, life = self.problem.field_model(held, station), self.lives[held]
                before = life.soc * model.capacity
                most = surplus_w / self.problem.bay_w(held, 1.0) * hours
                gained = min(model.after(before, hours) - before, most)
                life.soc += gained / model.capacity
        for source, store in self.store_wh.items():
            if store is not None:
                filled = float(self.problem.fills_w[source][step]) * hours
                holds = self.problem.sources[source].holds_wh or 0.0
                self.store_wh[source] = min(store + filled, max(store, holds))
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

    def _feed(self, station: str, held: str | None, step: int) -> None:
        step_min = self.problem.grid.step_min
        all_wh = float(self.problem.demand_w[station][step]) * step_min / 60
        need_wh = float(self.problem.asked_w[station][step]) * step_min / 60
        lost = 1.0
        if held is not None:
            feed, life = self.problem.feed(station, held), self.lives[held]
            left_wh = max(0.0, (life.soc - feed.floor_soc) * feed.capacity_wh)
            given_wh = min(need_wh, left_wh)
            life.soc -= given_wh / feed.capacity_wh
            depth = max(0.0, feed.reserve_soc - life.soc)
            self.in_reserve[station] += depth * step_min
            lost = 1 - given_wh / need_wh if need_wh > 0 else 0.0
        self.off_air[station] += step_min * lost
        self.unserved[station] += all_wh * lost
