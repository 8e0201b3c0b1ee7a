"""Walks: whom a crew is sent to, with which battery, and when at the latest."""

from __future__ import annotations

import math
from bisect import bisect_left
from dataclasses import dataclass

from powercore.event.plans import CrewPlan
from powercore.event.problem import CARRIED, CHARGE, LIFT_KG, SERVE, WAIT, YARD
from powercore.rotation.construct.lives import Life, Swap
from powercore.rotation.construct.yard import Yard
from powercore.rotation.objective import WORTH_MIN

WORTH_A_WALK = 1.5
#: ... and at least this much of its own energy above reserve. (0 to 1)
LEAST_FILLED = 0.25


@dataclass(slots=True)
class Walks(Yard):
    """Crews, and the swaps they are on their way to."""

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
                self._carry(self.lives[old], swap.arrive, swap.arrive + walk_min, swap)
            new = self.lives[swap.battery]
            new.promised = False
            self._go(new, SERVE, swap.station, swap.arrive)
            self.at_station[swap.station] = swap.battery

    def _carry(self, life: Life, start: int, end: int, swap: Swap) -> None:
        end = min(max(end, start + 1), self.problem.span_min)
        self._go(life, CARRIED, "", start, swap=swap, due=end)

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
            opens = self._opens_at(station, now)
            return None if opens is None else opens - self.style.margin_min
        due = self._reserve_at(station, held, now)
        return None if due is None else due - self.style.margin_min

    def _consider(self, station: str, due: float, now: int) -> None:
        arrive = self._arrival(station, now)
        if arrive is None or not self._is_last_chance(station, due, now):
            return
        ready = self._waiting()
        if self.problem.is_watched(now) and now > 0:
            ready += [held for held in self.on_bay.values() if held is not None]
        crews = self._crews_for(station, arrive) if ready else []
        most_kg = LIFT_KG * max((one.people for _, one in crews), default=0)
        held, kg = self.at_station[station], self.problem.mass_kg
        back_kg = 0.0 if held is None else kg(held)
        if not crews or back_kg > most_kg:
            return
        walk_min = self.problem.stations[station].walk_min
        leave = arrive - walk_min
        ready = [key for key in ready if kg(key) <= most_kg]
        battery = self._best_battery(station, self._need_wh(station, arrive), ready)
        if battery is None or not self._is_worth(station, battery, arrive):
            return
        life = self.lives[battery]
        if life.kind == CHARGE:
            self._take_off(life.place, now)
        load_kg = max(back_kg, kg(battery))
        index, crew = next(
            found for found in crews if found[1].people * LIFT_KG >= load_kg
        )
        self.rounds += 1
        swap = Swap(station, battery, leave, arrive, crew.name, self.rounds)
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
        later = self._arrival(station, now + self.problem.grid.step_min)
        if later is None:
            return True
        allowed = self.problem.arrivals(station)
        at = bisect_left(allowed, later)
        return at == len(allowed) or allowed[at] > due

    def _crews_for(self, station: str, arrive: int) -> list[tuple[int, CrewPlan]]:
        """Crews that are free to be at a station then, each with its own number."""
        walk_min = self.problem.stations[station].walk_min
        leave, back = arrive - walk_min, arrive + walk_min
        if not self.problem.may_walk(station, arrive):
            return []
        by_name: dict[str, int] = {}
        able = self.problem.crews_for(leave, back)
        found = []
        for index, crew in enumerate(self.problem.scenario.crews):
            if crew.does == "walks":
                first = by_name.setdefault(crew.name, index)
                if crew in able and self.busy_until.get(first, 0) <= leave:
                    found.append((first, crew))
        return found

    def _is_worth(self, station: str, battery: str, arrive: int) -> bool:
        feed = self.problem.feed(station, battery)
        above_wh = self._above_wh(station, battery)
        if above_wh >= self._need_wh(station, arrive):
            return True
        whole_wh = (1 - feed.reserve_soc) * feed.capacity_wh
        held = self.at_station[station]
        if held is None or self._left_wh(station, held) <= 0:
            # Off the air: whatever is left helps, unless it ends at once.
            soon = self._drawn(station, arrive + WORTH_MIN)
            asked_wh = soon - self._drawn(station, arrive)
            return self._left_wh(station, battery) >= asked_wh
        there_wh = 0.0 if held is None else self._above_wh(station, held)
        return (
            above_wh >= LEAST_FILLED * whole_wh and above_wh > WORTH_A_WALK * there_wh
        )
