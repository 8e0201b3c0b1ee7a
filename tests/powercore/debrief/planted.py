"""Events with planted causes, played on the physical plant, not on the simulator."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from powercore.debrief.attribute import (
    CAPACITY,
    LOAD,
    MOVES,
    SOURCE,
    START,
    Actual,
)
from powercore.debrief.separate import Ratio, ReadTurn, separate
from powercore.debrief.versions import Given, versions_of
from powercore.event.problem import CHARGE, SERVE, Leg, Problem
from powercore.gear.plant import Account, PlantBattery
from powercore.values import Window
from tests.builders import make_battery, make_scenario, make_station, open_all

SPAN, AMPS, AH = 690, 2.5, 12.0
#: How well each cause is measured: standard deviations of a logarithm, or of a charge.
READ_SD = 0.04
STEP_MIN = 5


def legs_of(late_min: int = 0) -> list[Leg]:
    """Two batteries in turn; the first charges in between; the first relief is late."""
    first = 230 + late_min
    plan = [
        (SERVE, "k01", "esker", 0, first),
        (SERVE, "k02", "esker", first, 460),
        (CHARGE, "k01", "bay1", first + 10, 450),
        (SERVE, "k01", "esker", 460, SPAN),
    ]
    return [
        Leg(kind=kind, battery=battery, place=place, start_min=start, end_min=end)
        for kind, battery, place, start, end in plan
    ]


@dataclass(frozen=True)
class Planted:
    """What really was; as planned by default."""

    load: float = 1.0
    holds: float = 1.0
    start: float = 1.0
    late_min: int = 0
    out_min: int = 0

    @classmethod
    def drawn(cls, rng: np.random.Generator) -> tuple[Planted, tuple[str, str]]:
        """Two causes of random size."""
        size = {
            LOAD: {"load": rng.uniform(1.15, 1.6)},
            CAPACITY: {"holds": rng.uniform(0.55, 0.8)},
            START: {"start": rng.uniform(0.5, 0.75)},
            MOVES: {"late_min": 5 * int(rng.integers(6, 22))},
            SOURCE: {"out_min": 5 * int(rng.integers(14, 30))},
        }
        one, two = rng.choice(sorted(size), 2, replace=False).tolist()
        return cls(**size[one], **size[two]), (one, two)

    def with_only(self, causes: Collection[str]) -> Planted:
        """The same with other causes as planned."""
        plan = Planted()
        return Planted(
            load=(self if LOAD in causes else plan).load,
            holds=(self if CAPACITY in causes else plan).holds,
            start=(self if START in causes else plan).start,
            late_min=(self if MOVES in causes else plan).late_min,
            out_min=(self if SOURCE in causes else plan).out_min,
        )

    @property
    def outage(self) -> tuple[Window, ...]:
        """When the bay gave nothing."""
        if not self.out_min:
            return ()
        return (Window(start_min=250, end_min=250 + self.out_min),)


def make_problem() -> Problem:
    """One station of 32 W, two tested 12 Ah packs, one bay."""
    return Problem(
        make_scenario(
            span_min=SPAN,
            stations=(make_station(amps=AMPS, openings=open_all(SPAN)),),
            batteries=(make_battery("k01", AH), make_battery("k02", AH)),
        )
    )


def play(problem: Problem, real: Planted) -> tuple[float, float]:
    """Run it on the plant: planned energy not had [Wh], minutes off the air."""
    held = {
        key: PlantBattery(
            pack=one.pack,
            true_ah=AH * real.holds,
            soc=real.start,
            cut_soc=max(0.02, problem.feed("esker", key).floor_soc),
            account=Account(),
        )
        for key, one in problem.batteries.items()
    }
    planned_w = float(problem.load_w["esker"][0])
    off_min = 0.0
    for minute in range(0, SPAN, STEP_MIN):
        for leg in legs_of(real.late_min):
            if not leg.start_min <= minute < leg.end_min:
                continue
            hours = STEP_MIN / 60
            if leg.kind == SERVE:
                asked = planned_w * real.load * hours
                given = held[leg.battery].serve(planned_w * real.load, hours)
                off_min += (1 - given / asked) * STEP_MIN
            elif not any(w.start_min <= minute < w.end_min for w in real.outage):
                held[leg.battery].charge(problem.bays["bay1"].max_w, hours)
    return planned_w * off_min / 60, off_min


def logged(
    problem: Problem, real: Planted, rng: np.random.Generator, count: int
) -> Actual:
    """What a good log says of it: readings with errors, moves and outages exactly."""
    log_sd = READ_SD

    def read(true: float) -> Ratio:
        return Ratio(log=float(np.log(true) + rng.normal(0, log_sd)), sd=log_sd)

    turns = [
        ReadTurn(
            station="esker",
            battery=leg.battery,
            start_min=leg.start_min,
            end_min=leg.end_min,
            drawn=read(real.load),
            used=read(real.load / real.holds),
        )
        for leg in legs_of(real.late_min)
        if leg.kind == SERVE
    ]
    zero = [np.zeros(problem.grid.count)]
    missed_wh, off_min = play(problem, real)

    def seen() -> tuple[float, float]:
        return float(np.clip(real.start + rng.normal(0, READ_SD), 0, 1)), READ_SD

    return Actual(
        believed=versions_of(
            problem,
            separate(
                turns,
                station_sd={"esker": 0.3},
                battery_sd=dict.fromkeys(problem.batteries, 0.3),
            ),
            start_soc={key: seen() for key in problem.batteries},
            given=Given(
                station_sun_w=zero, source_sun_w=zero, light=Ratio(log=0.0, sd=0.0)
            ),
            count=count,
        ),
        legs=tuple(legs_of(real.late_min)),
        dead={"bay1": real.outage},
        missed_wh={"esker": missed_wh},
        off_min={"esker": off_min},
    )
