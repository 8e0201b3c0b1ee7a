"""
Rotations to measure planners on, grown from seeds.

An event is grown from a planted plan: batteries are sent, relieved and charged at
random, and each station then uses just what its batteries brought. So the plan
without a shortfall is known to exist ("just possible"); "tight" asks 10 to 20 %
more. Everybody walks and charges at half hours; walks take at most a quarter.
"""

from __future__ import annotations

import hashlib
import random
from dataclasses import dataclass, replace

import numpy as np

from powercore.event.plans import BatteryPlan, BayPlan, CrewPlan, StationPlan
from powercore.event.problem import CHARGE, SERVE, Leg, Problem
from powercore.event.scenario import Scenario, encode
from powercore.physics.battery import Pack
from powercore.physics.loads import Draw, Load, Opening, Pattern
from powercore.rotation.timetable import legs_of, timetable
from powercore.rotation.verify import verify
from powercore.sun.sources import SourcePlan
from powercore.values import STATED_V, Window

SLOT = 30
#: Price of a swap in the one figure that all planners are compared by.
SWAP = 10
TIER_WEIGHT = {1: 4.0, 2: 2.0, 3: 1.0}


@dataclass(frozen=True, slots=True)
class Size:
    """How big an event is."""

    stations: int
    batteries: int
    bays: int
    hours: int
    crews: int


SIZES = {
    "small": Size(2, 4, 2, 12, 1),
    "club": Size(6, 16, 4, 24, 2),
    "big": Size(12, 40, 10, 36, 3),
    "huge": Size(30, 120, 24, 48, 6),
}
KINDS = ("just", "tight")


def figure(scenario: Scenario, legs: list[Leg] | tuple[Leg, ...]) -> dict[str, float]:
    """What planners are compared by, from the verifier's replay; valid or not."""
    report = verify(Problem(scenario), legs)
    tiers = {one.key: one.tier for one in scenario.stations}
    lost = sum(
        TIER_WEIGHT[tiers[fall.station]] * fall.unserved_wh
        for fall in report.outcome.shortfalls
    )
    swaps = sum(leg.kind == SERVE and leg.start_min > 0 for leg in legs)
    return {
        "valid": float(report.is_valid),
        "f": lost + SWAP * swaps,
        "unserved_wh": report.outcome.unserved_wh,
        "walks": float(report.outcome.walks),
        "swaps": float(swaps),
    }


def grow(size: str, kind: str, seed: int) -> Scenario:
    """Return one event; the same for the same three."""
    scenario = _grown(SIZES[size], random.Random(f"{size} {seed}"))
    if kind == "tight":
        more = 1.1 + 0.1 * random.Random(f"more {size} {seed}").random()
        scenario = _scaled(scenario, more)
    return scenario


def digest(size: str, kind: str, seed: int) -> str:
    """The event's own hash, by which it is committed."""
    return hashlib.sha256(encode(grow(size, kind, seed))).hexdigest()[:16]


def _grown(size: Size, rng: random.Random) -> Scenario:
    slots = size.hours * 60 // SLOT
    ah = [rng.choice((20.0, 24.0, 30.0)) for _ in range(size.batteries)]
    bay_w = [rng.choice((60.0, 80.0, 100.0)) for _ in range(size.bays)]
    tiers = [1 + n % 3 for n in range(size.stations)]
    walks = [rng.randint(3, 15) for _ in range(size.stations)]
    planted = _Planted(size, slots, ah, bay_w, rng)
    planted.run()
    legs = planted.legs(
        Problem(_scenario(size, slots, ah, bay_w, tiers, walks, planted))
    )
    for _ in range(6):
        empty = _scenario(size, slots, ah, bay_w, tiers, walks, planted)
        planted.stretch(Problem(empty), legs)
    empty = _scenario(size, slots, ah, bay_w, tiers, walks, planted)
    low, high = 0.5, 1.25
    for _ in range(12):  # the most at which the planted plan still serves all
        middle = (low + high) / 2
        report = verify(Problem(_scaled(empty, middle)), legs)
        if not report.is_valid:
            raise AssertionError(report.broken[:3])
        if report.outcome.unserved_wh > 1e-6:
            high = middle
        else:
            low = middle
    return _scaled(empty, low)


class _Planted:
    """A plan made at random, and what its batteries could bring."""

    def __init__(
        self,
        size: Size,
        slots: int,
        ah: list[float],
        bay_w: list[float],
        rng: random.Random,
    ) -> None:
        self.size, self.slots, self.rng = size, slots, rng
        self.wh = [one * STATED_V for one in ah]
        self.bay_w = bay_w
        self.soc = [1.0] * size.batteries
        self.home_from = [0] * size.batteries
        self.place: list[tuple[str, int] | None] = [None] * size.batteries
        self.since = [0] * size.batteries
        self.life: list[list[tuple[str, int, int, int]]] = [
            [] for _ in range(size.batteries)
        ]
        self.use_wh = [[0.0] * slots for _ in range(size.stations)]

    def run(self) -> None:
        """Go through the event, slot by slot."""
        rng, size = self.rng, self.size
        order = list(range(size.batteries))
        rng.shuffle(order)
        at_station = order[: size.stations]
        until = [0] * size.stations
        for station, battery in enumerate(at_station):
            self._go(battery, (SERVE, station), 0)
            until[station] = rng.randint(5, 9)
        on_bay: list[int | None] = [None] * size.bays
        for slot in range(self.slots):
            walks = 0
            for station in rng.sample(range(size.stations), size.stations):
                if until[station] > slot or walks >= size.crews:
                    continue
                ready = [
                    b
                    for b in range(size.batteries)
                    if self.place[b] is None
                    and self.home_from[b] < slot
                    and self.soc[b] > 0.6
                ]
                if not ready:
                    continue
                new = max(ready, key=lambda b: self.soc[b] + 0.2 * rng.random())
                self._bring(at_station[station], slot)
                self._go(new, (SERVE, station), slot)
                at_station[station] = new
                until[station] = slot + rng.randint(5, 9)
                walks += 1
            self._mind(on_bay, slot)
        for battery in range(size.batteries):
            self._bring(battery, self.slots)
        for life in self.life:  # a charge that nothing follows is not needed
            if life and life[-1][0] == CHARGE:
                life.pop()

    def stretch(self, problem: Problem, legs: tuple[Leg, ...]) -> None:
        """Let each stay at a station use just what its battery brought."""
        report = verify(problem, legs)
        for leg, (start, end) in zip(legs, report.outcome.leg_soc, strict=True):
            if leg.kind == SERVE:
                use = self.use_wh[int(leg.place[1:])]
                floor = problem.feed(leg.place, leg.battery).floor_soc
                factor = (start - floor - 0.01) / max(start - end, 0.01)
                for slot in range(leg.start_min // SLOT, leg.end_min // SLOT):
                    use[slot] *= min(1.1, factor)

    def bay_windows(self, bay: int) -> tuple[Window, ...]:
        """When a bay has power: while it is used, and an hour around."""
        used = [False] * self.slots
        for life in self.life:
            for kind, number, start, end in life:
                if (kind, number) == (CHARGE, bay):
                    for slot in range(max(0, start - 2), min(self.slots, end + 2)):
                        used[slot] = True
        edges = [
            slot
            for slot in range(self.slots + 1)
            if (slot < self.slots and used[slot]) != (slot > 0 and used[slot - 1])
        ]
        return tuple(
            Window(start_min=a * SLOT, end_min=b * SLOT)
            for a, b in zip(edges[::2], edges[1::2], strict=True)
        )

    def _mind(self, on_bay: list[int | None], slot: int) -> None:
        for bay, held in enumerate(on_bay):
            if held is not None:
                wh = self.bay_w[bay] * 0.9 * SLOT / 60
                if slot > self.since[held]:
                    self.soc[held] = min(0.96, self.soc[held] + wh / self.wh[held])
                if self.soc[held] >= 0.95:
                    self._bring(held, slot)
                    on_bay[bay] = None
            if on_bay[bay] is None:
                low = [
                    b
                    for b in range(self.size.batteries)
                    if self.place[b] is None
                    and self.home_from[b] <= slot
                    and self.soc[b] < 0.7
                ]
                if low:
                    chosen = min(low, key=lambda b: self.soc[b])
                    self._go(chosen, (CHARGE, bay), slot)
                    on_bay[bay] = chosen

    def _go(self, battery: int, place: tuple[str, int], slot: int) -> None:
        self.place[battery], self.since[battery] = place, slot

    def _bring(self, battery: int, slot: int) -> None:
        place, since = self.place[battery], self.since[battery]
        if place is None or slot == since:
            return
        kind, number = place
        self.life[battery].append((kind, number, since, slot))
        if kind == SERVE:
            # What it had, used by a pattern of its own.
            wh = (self.soc[battery] - 0.12) * self.wh[battery]
            parts = [0.8 + 0.4 * self.rng.random() for _ in range(slot - since)]
            for n, part in enumerate(parts):
                self.use_wh[number][since + n] = wh * part / sum(parts)
            self.soc[battery] = 0.12
            self.home_from[battery] = slot + 1
        else:
            self.home_from[battery] = slot
        self.place[battery] = None

    def legs(self, problem: Problem) -> tuple[Leg, ...]:
        """The planted plan as legs."""
        table = timetable(problem, step_min=SLOT)
        at = np.zeros((len(self.life), table.count), dtype=int)
        stations = self.size.stations
        for row, life in zip(at, self.life, strict=True):
            for kind, number, start, end in life:
                span = (table.points >= start * SLOT) & (table.points < end * SLOT)
                row[span[:-1]] = 1 + number + (stations if kind == CHARGE else 0)
        return legs_of(table, at)


def _scenario(
    size: Size,
    slots: int,
    ah: list[float],
    bay_w: list[float],
    tiers: list[int],
    walks: list[int],
    planted: _Planted,
) -> Scenario:
    span = slots * SLOT
    stations = []
    for number in range(size.stations):
        amps = [wh / (SLOT / 60) / STATED_V for wh in planted.use_wh[number]]
        # A quarter more can be asked of it without another peak.
        peak = 1.25 * max(*amps, 0.1)
        draw = Draw(receive_a=0.0, transmit_idle_a=peak, key_down_a=peak)
        stations.append(
            StationPlan(
                key=f"s{number}",
                name=f"Station {number}",
                tier=tiers[number],
                walk_min=walks[number],
                path_ohm=0.004,
                loads=(Load(name="radio", draw=draw),),
                openings=tuple(
                    Opening(
                        start_min=slot * SLOT,
                        end_min=(slot + 1) * SLOT,
                        pattern=Pattern(transmit_share=one / peak, duty=1.0),
                    )
                    for slot, one in enumerate(amps)
                ),
            )
        )
    return Scenario(
        name="grown",
        zone="UTC",
        starts_at="2026-06-27T18:00:00+00:00",
        span_min=span,
        stations=tuple(stations),
        batteries=tuple(
            BatteryPlan(
                key=f"k{n}",
                tag=f"K{n:02}",
                start_soc=1.0 if planted.life[n] else 0.2,
                pack=Pack(
                    chemistry="lifepo4", series=4, nameplate_ah=one, tested_ah=one
                ),
            )
            for n, one in enumerate(ah)
        ),
        sources=tuple(
            SourcePlan(
                key=f"line{n}",
                name=f"Line {n}",
                kind="mains",
                max_w=2 * watts,
                windows=planted.bay_windows(n),
            )
            for n, watts in enumerate(bay_w)
        ),
        bays=tuple(
            BayPlan(
                key=f"bay{n}",
                name=f"Bay {n}",
                source=f"line{n}",
                max_w=watts,
                chemistries=("lifepo4",),
            )
            for n, watts in enumerate(bay_w)
        ),
        crews=(
            *(
                CrewPlan(name=f"crew {n}", does="walks", start_min=0, end_min=span)
                for n in range(size.crews)
            ),
            CrewPlan(name="watch", does="yard", start_min=0, end_min=span),
        ),
    )


def _scaled(scenario: Scenario, factor: float) -> Scenario:
    """The same event with every station using a factor as much."""
    stations = tuple(
        replace(
            one,
            openings=tuple(
                replace(
                    opening,
                    pattern=Pattern(
                        transmit_share=min(
                            1.0, opening.pattern.transmit_share * factor
                        ),
                        duty=1.0,
                    ),
                )
                for opening in one.openings
            ),
        )
        for one in scenario.stations
    )
    return replace(scenario, stations=stations)
