"""
The full time-indexed model in a general solver: for proofs on tiny events.

Every battery has one place in every interval; energy is counted in whole steps, uses
rounded up and charging down. What it finds can be carried out; on events whose steps
come out even it is the best there is. On a club's event it is hopeless alone, which
is why it serves as the baseline that other planners are measured against.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations, product
from typing import Any

import numpy as np
from ortools.sat.python import cp_model

from powercore.rotation.timetable import ON_THE_WAY, Timetable
from powercore.values import IntArray

#: Parts into which a unit of worth is cut for the solver's whole numbers.
PARTS = 1000


@dataclass(frozen=True, slots=True)
class Proof:
    """What the solver found, and how far it got."""

    #: Where batteries are, shape (B, P); None when it found nothing.
    at: IntArray | None
    value: float
    #: No table of this model is worth more.
    bound: float
    is_proven: bool


def solve(
    table: Timetable,
    *,
    hint: IntArray | None = None,
    step_wh: float = 0.1,
    seconds: float = 60.0,
    workers: int = 1,
    seed: int = 1,
    free: frozenset[int] | None = None,
) -> Proof:
    """
    Solve a table as a whole.

    Charging is at the bulk rate up to full, and no store and no reserve is counted:
    it is for events without these.

    Parameters
    ----------
    hint : int array, shape (B, P)
        A table to begin with.
    step_wh : float
        Step of energy. [Wh]
    free : set of int
        Only these batteries move, the others do as in the hint; `value` and `bound`
        leave out what those are worth.
    """
    model = _Model(table, step_wh, hint if free is not None else None, free)
    if hint is not None:
        model.hint(hint)
    solver = cp_model.CpSolver()
    solver.parameters.max_time_in_seconds = seconds
    solver.parameters.num_workers = workers
    solver.parameters.random_seed = seed
    status = solver.solve(model.model)
    bound = solver.best_objective_bound / PARTS
    if status not in (cp_model.OPTIMAL, cp_model.FEASIBLE):
        return Proof(None, -np.inf, bound, is_proven=False)
    at = np.zeros((model.batteries, table.count), dtype=np.int64)
    if hint is not None and free is not None:
        at[:] = hint
    for (b, p, i), chosen in model.x.items():
        if solver.value(chosen):
            at[b, i] = p
    value = solver.objective_value / PARTS
    return Proof(at, value, bound, is_proven=status == cp_model.OPTIMAL)


class _Model:
    def __init__(
        self,
        table: Timetable,
        step_wh: float,
        fixed: IntArray | None = None,
        free: frozenset[int] | None = None,
    ) -> None:
        self.fixed = fixed
        self.table, self.model = table, cp_model.CpModel()
        self.stations, self.bays = len(table.stations), len(table.bays)
        self.batteries, self.count = len(table.batteries), table.count
        everyone = frozenset(range(self.batteries))
        self.free = sorted(everyone if free is None else free)
        holds = table.holds_wh.mean(axis=0) if self.stations else np.ones(0)
        self.full = np.round(holds / step_wh).astype(int)
        self.x: dict[tuple[int, int, int], cp_model.IntVar] = {}
        self.places_at: dict[int, list[int]] = {}
        for p in range(table.places):
            self.places_at.setdefault(table.station_of(p), []).append(p)
        self.gain: list[cp_model.LinearExpr] = []
        self._places()
        self._stops()
        for b in self.free:
            self._moves(b)
            self._energy(b)
        self.model.maximize(sum(self.gain))

    def _places(self) -> None:
        table, model = self.table, self.model
        places = table.places
        for b, i in product(self.free, range(self.count)):
            row = []
            for p in (ON_THE_WAY, *range(places)):
                if p == ON_THE_WAY or table.may[b, p, i]:
                    self.x[b, p, i] = model.new_bool_var(f"x{b},{p},{i}")
                    row.append(self.x[b, p, i])
            model.add_exactly_one(row)
        for p, i in product(range(1, places), range(self.count)):
            there = sum(self.at(b, p, i) for b in range(self.batteries))
            rack = p - table.first_rack
            if not isinstance(there, int):
                model.add(there <= (1 if rack < 0 else int(table.rack_room[rack])))
        for b in self.free:
            start = int(table.start_at[b])
            station = table.station_of(start)
            if start:
                here = (
                    self.at(b, start, 0) if station < 0 else self.there(b, station, 0)
                )
                model.add(here == 1)

    def at(self, b: int, p: int, i: int) -> Any:
        """Whether a battery is in a place; 0 where it may not be."""
        found = self.x.get((b, p, i))
        if found is None and self.fixed is not None and b not in self.free:
            return int(self.fixed[b, i] == p)
        return 0 if found is None else found

    def there(self, b: int, s: int, i: int) -> Any:
        """Whether a battery is at a station, in use or as a spare."""
        return sum(self.at(b, p, i) for p in self.places_at[s])

    def _stops(self) -> None:
        table, model = self.table, self.model
        self.stop: dict[tuple[int, int], cp_model.IntVar] = {}
        for s, i in product(range(self.stations), range(1, self.count)):
            one = model.new_bool_var(f"stop{s},{i}")
            self.stop[s, i] = one
            if not table.duty[s, i]:
                model.add(one == 0)
            self.gain.append(-round(PARTS * table.stop_prices[s, i]) * one)
            for b in range(self.batteries):
                before, now = self.there(b, s, i - 1), self.there(b, s, i)
                if not isinstance(before, int) or not isinstance(now, int):
                    model.add(now - before <= one)
                    model.add(before - now <= one)
                elif before != now:
                    model.add(one == 1)
        starts = {int(table.points[i] - table.walk_min[s]) for s, i in self.stop}
        for minute in starts:
            busy = [
                one
                for (s, i), one in self.stop.items()
                if -table.walk_min[s] <= minute - table.points[i] < table.walk_min[s]
            ]
            model.add(sum(busy) <= int(table.crews[max(minute, 0)]))

    def _moves(self, b: int) -> None:
        table, model = self.table, self.model
        leaves: list[tuple[int, int, cp_model.IntVar]] = []
        comes: list[tuple[int, int, cp_model.IntVar]] = []
        for s, i in product(range(self.stations), range(1, self.count)):
            before, now = self.there(b, s, i - 1), self.there(b, s, i)
            left = model.new_bool_var("")
            came = model.new_bool_var("")
            model.add(before - now <= left)
            model.add(now - before <= came)
            back, out = int(table.back_at[s, i]), int(table.out_from[s, i])
            if not 0 <= back <= self.count:
                model.add(left == 0)
            if out < 0:
                model.add(came == 0)
            for j in range(i, min(max(back, i), self.count)):
                model.add_implication(left, self.x[b, ON_THE_WAY, j])
            for j in range(max(out, 0), i):
                model.add_implication(came, self.x[b, ON_THE_WAY, j])
            leaves.append((back, i, left))
            comes.append((out, i, came))
        # From one station to another by way of the yard.
        for (back, i, left), (out, j, came) in product(leaves, comes):
            if i < j and out < back:
                model.add_at_most_one(left, came)
        for rack, s in enumerate(table.rack_at.tolist()):
            for i in np.flatnonzero(~table.swaps[rack, : self.count]).tolist():
                for p, q in permutations((1 + s, table.first_rack + rack)):
                    if i:
                        model.add(self.at(b, p, i - 1) + self.at(b, q, i) <= 1)
        for y, i in product(range(self.bays), range(1, self.count)):
            if not table.watched[i]:
                p = 1 + self.stations + y
                model.add(self.at(b, p, i) == self.at(b, p, i - 1))

    def _energy(self, b: int) -> None:
        table, model, full = self.table, self.model, int(self.full[b])
        held = [model.new_int_var(0, full, "") for _ in range(self.count + 1)]
        model.add(held[0] == int(table.start_soc[b] * full))
        hours = np.diff(table.points) / 60
        for i in range(self.count):
            out: list[cp_model.IntVar] = []
            for s in range(self.stations):
                here = self.at(b, 1 + s, i)
                if isinstance(here, int) or table.need_wh[s, i] <= 0:
                    continue
                need = int(
                    np.ceil(table.need_wh[s, i] / table.holds_wh[s, b] * full - 1e-9)
                )
                floor = int(np.ceil(table.floor[s, b] * full - 1e-9))
                given = model.new_int_var(0, need, "")
                ends = model.new_bool_var("")
                model.add(given <= need * here)
                has = self._has(held[i], floor)
                # It doesn't disconnect itself: all it needs, or all there is.
                model.add(given == need).only_enforce_if(here, ends.Not())
                model.add(given <= held[i] - floor).only_enforce_if(here, has)
                model.add(given >= held[i] - floor).only_enforce_if(here, ends)
                model.add(given == 0).only_enforce_if(has.Not())
                out.append(given)
                self.gain.append(round(PARTS * table.worth[s, i] / need) * given)
            charges = []
            for y in range(self.bays):
                here = self.at(b, 1 + self.stations + y, i)
                if table.is_on[y, i] and not isinstance(here, int):
                    most = int(table.bulk[y, b] * hours[i] * full + 1e-9)
                    gained = model.new_int_var(0, most, "")
                    model.add(gained <= most * here)
                    charges.append(gained)
            model.add(held[i + 1] == held[i] - sum(out) + sum(charges))

    def _has(self, held: cp_model.IntVar, floor: int) -> cp_model.IntVar:
        """Whether there is anything above a floor."""
        has = self.model.new_bool_var("")
        self.model.add(held >= floor).only_enforce_if(has)
        self.model.add(held < floor).only_enforce_if(has.Not())
        return has

    def hint(self, at: IntArray) -> None:
        """Begin with a table."""
        for (b, p, i), chosen in self.x.items():
            self.model.add_hint(chosen, int(at[b, i] == p))
