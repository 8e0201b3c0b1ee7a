"""Likely versions of what really was, drawn from what is believed of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from powercore.debrief.attribute import DRAWN, MODEL_SD, Believed
from powercore.debrief.separate import Ratio, Separated
from powercore.event.problem import Problem
from powercore.values import FloatArray


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Given:
    """What panels and bays gave."""

    #: By the sky as it was, in the problem's order, one row each. [W], shapes (S, T)
    #: and (Q, T)
    station_sun_w: Sequence[FloatArray]
    source_sun_w: Sequence[FloatArray]
    #: Given over what that sky gives.
    light: Ratio
    #: Given over what they should by bays, by key; just that where nothing is said.
    bays: Mapping[str, Ratio] = field(default_factory=dict)


def versions_of(
    problem: Problem,
    separated: Separated,
    *,
    start_soc: Mapping[str, tuple[float, float]],
    given: Given,
    count: int = DRAWN,
    seed: int = 1,
) -> Believed:
    """
    Draw likely versions of an event; the likeliest comes first.

    Parameters
    ----------
    problem : Problem
        The event as planned.
    separated : Separated
        Stations' draws and batteries' capacities.
    start_soc : mapping of str to (float, float)
        Charge at the start by battery, mean and standard deviation; as planned and
        known where nothing is said. (0 to 1)
    given : Given
        What panels and bays gave.

    Returns
    -------
    Believed
        With 1 + `count` versions.
    """
    rng = np.random.default_rng(seed)
    values = np.vstack([separated.mean, separated.samples(rng, count)])
    keys = list(problem.batteries)
    means = np.array(
        [start_soc.get(key, (problem.batteries[key].start_soc, 0))[0] for key in keys]
    )
    sds = np.array([start_soc.get(key, (0, 0.0))[1] for key in keys])
    off = np.vstack([np.zeros(len(keys)), rng.normal(size=(count, len(keys)))])
    model = np.vstack([np.zeros(len(keys)), rng.normal(size=(count, len(keys)))])
    plain = Ratio(log=0.0, sd=0.0)
    gave = [given.bays.get(key, plain) for key in problem.bays]
    pace = np.vstack([np.zeros(len(gave)), rng.normal(size=(count, len(gave)))])
    shine = np.concatenate([[0.0], rng.normal(size=count)])
    hours = -(-problem.span_min // 60)
    steps = problem.grid.count
    return Believed(
        load=_of(
            separated.draws_by_hour(values, hours), separated.stations, problem.stations
        ),
        capacity=_of(separated.held(values), separated.batteries, keys)
        * np.exp(MODEL_SD * model),
        start_soc=np.clip(means + sds * off, 0, 1),
        bay_rate=np.exp(
            np.array([one.log for one in gave]) + np.array([o.sd for o in gave]) * pace
        ),
        light=np.exp(given.light.log + given.light.sd * shine),
        station_sun_w=np.array(given.station_sun_w).reshape(-1, steps),
        source_sun_w=np.array(given.source_sun_w).reshape(-1, steps),
    )


def _of(values: FloatArray, known: Sequence[str], names: Iterable[str]) -> FloatArray:
    """Columns in the problem's order; as planned where nothing is known."""
    keys = list(names)
    found = np.ones((values.shape[0], len(keys), *values.shape[2:]))
    for number, key in enumerate(keys):
        if key in known:
            found[:, number] = values[:, known.index(key)]
    return found
