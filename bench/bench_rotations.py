"""
Planners against each other on events grown from a planted plan.

./kettle bench rotations [size=club] [kind=tight] [seed=1] [row=first,solver,...]

Rows, each with both sides from this one run:
first    the first valid plan, against one replay of it
solver   F after 10 s against the time-indexed model after 60 s on two cores, begun
         with the search's first pass
robin    F after 60 s against sending the next battery of the list every four hours;
         with walks and what is not served
gap      what of F after 60 s is above the proven bound, with 10 for each stop: one
         that only fetches counts here too, as it does in the bound
lns      F after 60 s against the same model on a few batteries at a time (kind=just)
just     watt-hours not served after 60 s, against all demand (kind=just)
draft    minutes off the air after 60 s of the application's own search, which goes by
         the strict order, against the first plan it begins with
memory   memory above what importing takes, after 10 s; alone, other rows take more
"""

import json
import os
import random
import resource
import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

import numpy as np  # noqa: E402 - after the path
from exact import solve  # noqa: E402
from rotations import KINDS, SIZES, SWAP, TIER_WEIGHT, digest, figure, grow  # noqa: E402

from powercore.event.problem import Problem  # noqa: E402
from powercore.rotation.construct import STYLES, construct  # noqa: E402
from powercore.rotation.proof.branch import close, is_small  # noqa: E402
from powercore.rotation.proof.climb import climb, prove  # noqa: E402
from powercore.rotation.proof.master import Master  # noqa: E402
from powercore.rotation.search.improve import Aim, improve  # noqa: E402
from powercore.rotation.search.passes import refine  # noqa: E402
from powercore.rotation.timetable import (  # noqa: E402
    NoCrewLeft,
    Prices,
    legs_of,
    timetable,
)
from powercore.rotation.tours.arrays import Fees, Left, arrays_of, workspace  # noqa: E402
from powercore.rotation.tours.path import best_tour  # noqa: E402
from powercore.rotation.tours.prices import stop_prices, value_of  # noqa: E402
from powercore.rotation.tours.table import laid, lay, put  # noqa: E402
from powercore.rotation.verify import verify  # noqa: E402

ROWS = ("first", "solver", "robin", "gap", "draft", "just", "lns", "memory")
OF_JUST = ("just", "lns")
DIGESTS = ROOT / "bench" / "rotations.sha256"


def main() -> None:
    """Measure what was asked for."""
    asked = dict(word.split("=", 1) for word in sys.argv[1:])
    for size in asked.get("size", "club").split(","):
        for kind in asked.get("kind", "tight").split(","):
            for seed in map(int, asked.get("seed", "1").split(",")):
                run = Run(size, kind, seed)
                for row in asked.get("row", ",".join(ROWS)).split(","):
                    of_kind = (row in OF_JUST) == (kind == "just")
                    if of_kind or row in ("first", "memory"):
                        getattr(run, row)()


class Run:
    """One grown event, and plans for it."""

    def __init__(self, size: str, kind: str, seed: int) -> None:
        self.name = f"{size}, {kind}, seed {seed}"
        known = dict(
            line.split("  ", 1)[::-1] for line in DIGESTS.read_text().splitlines()
        )
        found = digest(size, kind, seed)
        wanted = known.get(f"{size} {kind} {seed}")
        if wanted not in (None, found):
            raise SystemExit(f"{self.name} grew otherwise than committed")
        self.scenario = grow(size, kind, seed)
        self.problem, self.seed = Problem(self.scenario), seed
        bottom = max(one.tier for one in self.scenario.stations)
        scale = TIER_WEIGHT[bottom]
        self.prices = Prices(
            minute=0,
            wh=1,
            tier_ratio=2,
            reserve_wh=0,
            stop=SWAP / scale,
            together=0,
            bay_change=1e-4,
            left=1e-3,
        )
        self.scale = scale
        self.kept: dict[float, object] = {}
        self.table = timetable(self.problem, prices=self.prices)
        nothing = np.zeros((len(self.table.batteries), self.table.count), dtype=int)
        next(refine(self.table, nothing, seed=1, passes=1))  # compiled, not timed

    def first(self) -> None:
        """Time the first valid plan."""
        began = time.perf_counter()
        legs = construct(Problem(self.scenario))
        made = time.perf_counter() - began
        quick = time.perf_counter()
        construct(Problem(self.scenario), STYLES[:1])
        one = time.perf_counter() - quick
        began = time.perf_counter()
        assert verify(self.problem, legs).is_valid
        checked = time.perf_counter() - began
        self._say(
            "first plan",
            ("all starts", made, "s"),
            ("one replay", checked, "s"),
            f"small 0.1, club 0.2, big 0.5, huge 1 s; one start {one:.2f} s",
        )

    def solver(self) -> None:
        """
        Compare with the time-indexed model in a general solver, twice.

        It begins with a greedy table, then with what the search has after one pass.
        """
        ours = self._f(10)
        nothing = np.zeros((len(self.table.batteries), self.table.count), dtype=int)
        passed, _ = next(refine(self.table, nothing, seed=self.seed, passes=1))
        hints = {"greedily": greedy(self.table), "with a pass of the search": passed}
        for words, hint in hints.items():
            proof = solve(self.table, hint=hint, step_wh=1.0, seconds=60, workers=2)
            at = hint if proof.at is None else proof.at
            theirs = figure(self.scenario, legs_of(self.table, at))["f"]
            begun = figure(self.scenario, legs_of(self.table, hint))["f"]
            low = self.scale * (float(self.table.worth.sum()) - proof.bound)
            self._say(
                f"against the solver begun {words}",
                ("F, 10 s", ours, ""),
                (f"solver, F, 60 s, begun at {begun:.0f}", theirs, ""),
                f"small 1.0, club 0.6, big 0.55; its own bound {low:.0f}",
            )

    def robin(self) -> None:
        """Compare with the next battery of the list every four hours."""
        theirs = figure(self.scenario, round_robin(self.table))["f"]
        ours, found = self._f(60), self.kept["figure"]
        words = f"{found['walks']:.0f} walks, {found['unserved_wh']:.0f} Wh not served"
        self._say(
            "against round robin", (f"F, 60 s, {words}", ours, ""),
            ("round robin, F", theirs, ""), "small 0.5, club 0.45, big 0.45, huge 0.3",
        )  # fmt: skip

    def gap(self) -> None:
        """Compare with the bound."""
        self._f(60)
        at = self.kept["at"]
        began = time.perf_counter()

        def go_on(*_) -> bool:
            return time.perf_counter() - began < 60

        if is_small(self.table):
            best = close(self.table, at, halves=10**6, go_on=go_on).bound
        else:
            master = Master(self.table)
            for battery, row in enumerate(at):
                master.add(battery, row)
            best = prove(master, climb(master, 0.0), rounds=5_000, go_on=go_on).value
        arrays = arrays_of(self.table)
        total = float(self.table.worth.sum())
        f = self.scale * (total - value_of(laid(at, arrays), arrays))
        low = self.scale * (total - best)
        self._say(
            "gap", ("F, 60 s, above the bound", f - low, ""), ("F, 60 s", f, ""),
            f"small 0.1, club 0.3, big 0.4; bound {low:.0f}",
        )  # fmt: skip

    def just(self) -> None:
        """What is not served although everything could be."""
        self._f(60)
        lost = self.kept["figure"]["unserved_wh"]
        total = sum(float(wh[-1]) for wh in self.problem.drawn_wh.values())
        self._say(
            "just possible", ("not served, 60 s", lost, "Wh"), ("demand", total, "Wh"),
            "0; huge 0.0005",
        )  # fmt: skip

    def lns(self) -> None:
        """Compare with the general solver on a few batteries at a time, alone."""
        ours = self._f(60)
        table, rng, began = self.table, random.Random(self.seed), time.perf_counter()
        at = spread_out(table)
        begun = figure(self.scenario, legs_of(table, at))["f"]
        count = len(table.batteries)
        while (left := 60 - (time.perf_counter() - began)) > 0:
            free = frozenset(rng.sample(range(count), min(count, rng.randint(2, 6))))
            made = solve(
                table, hint=at, step_wh=1.0, seconds=min(left, 5), workers=2, free=free
            )
            if made.at is not None:
                at = min(at, made.at, key=lambda one: self._lost(one))
        theirs = figure(self.scenario, legs_of(table, at))["f"]
        self._say(
            "against neighbourhoods alone", ("F, 60 s", ours, ""),
            (f"neighbourhoods, F, 60 s, begun at {begun:.0f}", theirs, ""), "1.0",
        )  # fmt: skip

    def _lost(self, at) -> float:
        """F of a table; endless where its walks find no crew."""
        try:
            return figure(self.scenario, legs_of(self.table, at))["f"]
        except NoCrewLeft:
            return float("inf")

    def draft(self) -> None:
        """Compare what the application finds with its first plan."""
        legs = construct(self.problem)
        first = verify(self.problem, legs).outcome
        began = time.perf_counter()
        found = improve(
            self.problem,
            legs,
            Aim(passes=10_000),
            tell=lambda _: time.perf_counter() - began < 60,
        ).report.outcome
        sides = (
            (f"{words}, {one.walks} walks", one.total_min("off_air"), "min")
            for words, one in (("off the air, 60 s", found), ("first plan", first))
        )
        self._say("the application's own search", *sides, "shown")

    def memory(self) -> None:
        """Memory of this process above what importing took."""
        before = BASE_MB
        self._f(10)
        used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        self._say(
            "memory", ("above imports", used - before, "MB"), ("imports", before, "MB"),
            "club 200, big 300, huge 500 MB above",
        )  # fmt: skip

    def _f(self, seconds: float) -> float:
        """F after some seconds of search from nothing."""
        if seconds in self.kept:
            return self.kept[seconds]
        began = time.perf_counter()
        at = np.zeros((len(self.table.batteries), self.table.count), dtype=int)
        alone = seconds / 3 if is_small(self.table) else seconds
        for found, _ in refine(self.table, at, seed=self.seed, passes=10_000):
            at = found
            if time.perf_counter() - began > alone:
                break
        if is_small(self.table):
            at = close(
                self.table,
                at,
                halves=10**6,
                go_on=lambda *_: time.perf_counter() - began < seconds,
            ).at
        self.kept["at"] = at
        self.kept["figure"] = figure(self.scenario, legs_of(self.table, at))
        self.kept[seconds] = self.kept["figure"]["f"]
        return self.kept[seconds]

    def _say(self, what, ours, theirs, target) -> None:
        print(
            json.dumps(
                {
                    "what": f"{what}: {self.name}",
                    "sides": [
                        {"name": side[0], "value": side[1], "unit": side[2]}
                        for side in (ours, theirs)
                    ],
                    "ratio": ours[1] / theirs[1] if theirs[1] else float("inf"),
                    "target": target,
                }
            ),
            flush=True,
            file=OWN,
        )


def greedy(table):
    """One battery after the other on its best tour."""
    arrays = arrays_of(table)
    at = np.zeros((len(table.batteries), table.count), dtype=np.int64)
    state = laid(at, arrays)
    room = workspace(table.count, table.places, 24)
    plain, free = np.ones((len(table.stations), table.count)), 0 * table.most_w
    for b in range(len(at)):
        lay(b, -1, arrays, state)
        price = stop_prices(arrays, state)
        fees = Fees(plain, state.rent_s, state.rent_y, price, price, free)
        left = Left(state.power_w, state.store_wh, state.spilt, state.racked)
        tour, _ = best_tour(b, arrays, fees, left, False, room)
        put(b, tour, arrays, state)
    return state.at


def spread_out(table):
    """A battery at each station all the while; what neighbourhoods begin with."""
    at = np.zeros((len(table.batteries), table.count), dtype=int)
    for s in range(len(table.stations)):
        at[s] = 1 + s
    return at


def round_robin(table):
    """Every four hours each station gets the next battery; what is home charges."""
    at = np.zeros((len(table.batteries), table.count), dtype=int)
    batteries, stations = len(table.batteries), len(table.stations)
    every, following = 8, 0
    held = [None] * stations
    for start in range(0, table.count, every):
        for s in range(stations):
            i = start + s * every // max(stations, 1) if start else 0
            if i >= table.count:
                continue
            for _ in range(batteries):
                b, following = following % batteries, following + 1
                free = (at[b, max(0, i - 1) :] == 0).all() and b not in held
                if free:
                    if held[s] is not None:
                        at[held[s], i:] = 0
                        at[held[s], i : i + 1] = -1
                    if i:
                        at[b, i - 1] = -1
                    at[b, i:] = 1 + s
                    held[s] = b
                    break
    for y in range(len(table.bays)):
        p = 1 + stations + y
        for b in range(y, batteries, len(table.bays)):
            at[b] = np.where((at[b] == 0) & ~(at == p).any(axis=0), p, at[b])
    try:
        return legs_of(table, at)
    except NoCrewLeft:
        return legs_of(table, spread_out(table))


# The linear solver greets on standard output from its own code.
OWN = os.fdopen(os.dup(1), "w")
os.dup2(2, 1)
BASE_MB = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024

if __name__ == "__main__":
    if sys.argv[1:] == ["digests"]:
        for size in SIZES:
            for kind in KINDS:
                for seed in range(1, 6):
                    print(f"{digest(size, kind, seed)}  {size} {kind} {seed}", file=OWN)
    else:
        main()
