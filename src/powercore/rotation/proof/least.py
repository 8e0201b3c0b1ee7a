"""What minutes off the air no plan can be under."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from powercore.event.problem import Leg, Problem
from powercore.rotation.proof.climb import climb, prove
from powercore.rotation.proof.master import Master
from powercore.rotation.timetable import Prices, places_of, timetable


def least_off_air_min(
    problem: Problem,
    legs: Sequence[Leg],
    tier: int,
    *,
    step_min: int = 30,
    rounds: int = 400,
    go_on: Callable[[], bool] = lambda: True,
) -> float:
    """
    Return minutes off the air in one tier that no rotation can be under.

    Zero where the sun or a supply charges batteries at a station of that tier: such
    power is not bounded. It holds for rotations whose moves are at the regular points
    or at those of the rotation given, whatever they do to other tiers.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule, to begin with.
    tier : int
        Which stations count.
    step_min : int
        Distance of the regular points. [min]
    rounds, go_on
        See `prove`.
    """
    of_tier = [one.tier == tier for one in problem.stations.values()]
    gets = zip(problem.surplus_w.values(), problem.sun_w.values(), of_tier, strict=True)
    if any(counts and (more.any() or sun.any()) for more, sun, counts in gets):
        return 0.0  # what comes in at a station is not bounded
    # Where demand is the same all through an interval, a share of its energy is the
    # same share of its minutes.
    edges = {minute for leg in legs for minute in (leg.start_min, leg.end_min)}
    for key, counts in zip(problem.stations, of_tier, strict=True):
        if counts:
            changes = np.flatnonzero(np.diff(problem.demand_w[key])) + 1
            edges |= {int(i) * problem.grid.step_min for i in changes}
    only = Prices(
        minute=1,
        wh=0,
        tier_ratio=1,
        reserve_wh=0,
        stop=0,
        bay_change=0,
        engine_wh=0,
        left=0,
    )
    table = timetable(problem, step_min=step_min, prices=only, extra=edges)
    weights = np.array([one.weight for one in problem.stations.values()])
    counted = np.array(of_tier) / weights
    table = replace(table, worth=table.worth * counted[:, None])
    master = Master(table)
    for battery, row in enumerate(places_of(table, legs)):
        master.add(battery, row)
    total = float(table.worth.sum())
    bound = prove(master, climb(master, total), rounds=rounds, go_on=go_on)
    return max(0.0, total - bound.value)
