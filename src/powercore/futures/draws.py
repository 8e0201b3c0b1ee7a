"""
Futures of an event, and what comes out of each: shared by replay and simulate.

A future says how much more or less than planned each station uses, each battery
holds and has at the start, and what the sun does.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from powercore.belief.slack import START_SD
from powercore.event.plans import FORECAST, NO_SUN
from powercore.event.problem import Problem
from powercore.values import FloatArray

#: A day's light against the forecast, one standard deviation as a share: the cloud
#: model alone is within 20 % for a day (Kasten & Czeplak 1980).
SKY_SD = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class Futures:
    """
    Some futures of one problem.

    The order of stations, batteries and sources is the problem's own. L futures, S
    stations, B batteries, Q sources, K skies, T steps.
    """

    #: Use against plan. shape (L, S)
    demand: FloatArray
    #: Capacity against the trusted one. shape (L, B)
    capacity: FloatArray
    #: Charge at the start. (0 to 1), shape (L, B)
    start_soc: FloatArray
    #: Which sky each future has, and its light against it. shape (L,)
    sky: np.ndarray
    sun: FloatArray
    #: Offered by panels. [W], shapes (K, S, T) and (K, Q, T)
    station_sun_w: FloatArray
    source_sun_w: FloatArray
    #: Futures whose charge is kept at each cut; it takes memory. bool, shape (L,)
    traced: np.ndarray
    #: What changes from hour to hour on top, as factors; None: nothing does.
    #: shapes (L, S, H) and (L, H)
    use_by_hour: FloatArray | None = None
    light_by_hour: FloatArray | None = None
    #: What bays give over what they should, in the problem's order; None: just that.
    #: shape (L, bays)
    bay_rate: FloatArray | None = None
    #: Which of several problems each is of, from 0; None: in equal parts, in order.
    #: shape (L,)
    variant: np.ndarray | None = None

    def use(self, minute: int) -> FloatArray:
        """Use against plan at a minute. shape (L, S)"""
        if self.use_by_hour is None:
            return self.demand
        factor: FloatArray = self.demand * self.use_by_hour[:, :, minute // 60]
        return factor

    def light(self, minute: int) -> FloatArray:
        """Light against the sky of each future at a minute. shape (L,)"""
        if self.light_by_hour is None:
            return self.sun
        factor: FloatArray = self.sun * self.light_by_hour[:, minute // 60]
        return factor

    @property
    def count(self) -> int:
        """How many futures."""
        return int(self.sky.size)


@dataclass(frozen=True, slots=True, kw_only=True)
class Runs:
    """
    What comes out of L futures.

    S stations, N legs, Q sources, B batteries; C cuts for R traced futures.
    """

    #: Minutes, and the first minute off the air (NaN: never). shape (L, S)
    off_air_min: FloatArray
    first_off_min: FloatArray
    reserve_min: FloatArray
    shed_min: FloatArray
    #: Not delivered; from mains, vehicle or generator there; straight from panels
    #: there; offered by panels and not taken. [Wh], shape (L, S)
    unserved_wh: FloatArray
    supplied_wh: FloatArray
    sun_wh: FloatArray
    spilled_wh: FloatArray
    #: Of what the event asks for as planned, not had: all of it while off the air, and
    #: what low power leaves out. [Wh], shape (L, S)
    missed_wh: FloatArray
    #: Out of the battery of each serving leg; into it from panels, and from other
    #: power at the station. [Wh], shape (L, N)
    leg_out_wh: FloatArray
    leg_sun_wh: FloatArray
    leg_fed_wh: FloatArray
    #: Charge of each leg's battery at its start and end. shape (L, N)
    leg_start: FloatArray
    leg_end: FloatArray
    #: Given to batteries on bays. [Wh], shape (L, Q)
    source_wh: FloatArray
    #: Charge and buffer banks at each cut. shapes (C,), (R, C, B), (R, C, Q)
    times_min: FloatArray
    soc: FloatArray
    store_wh: FloatArray


def likely(
    problem: Problem,
    suns: Mapping[str, tuple[Sequence[FloatArray], Sequence[FloatArray]]],
    *,
    count: int,
    seed: int = 1,
) -> Futures:
    """
    The planned future first under each sky, then `count` likely ones of each.

    Use, capacity and starting charge vary by their spreads; under the forecast the
    light does too. The same seed gives the same futures, and the same draws are
    used under each sky, so that skies compare fairly.

    Parameters
    ----------
    suns : mapping
        For each sky, power offered by stations' and by sources' panels, in order.
    count : int
        Futures under each sky beside the planned one.

    Returns
    -------
    Futures
        With (1 + count) futures for each sky, sky by sky; the planned is traced.
    """
    stations, batteries = problem.stations.values(), problem.batteries.values()
    rng = np.random.default_rng(seed)
    zeros = np.zeros(count)
    use = [_varied(rng, 1.0, one.spread, zeros) for one in stations]
    capacity = [_varied(rng, 1.0, one.trusted_sd, zeros) for one in batteries]
    start = [
        np.concatenate(
            [[one.start_soc], one.start_soc - abs(rng.normal(0, START_SD, count))]
        )
        for one in batteries
    ]
    light = _varied(rng, 1.0, SKY_SD, zeros)
    each = 1 + count
    return Futures(
        demand=np.tile(_columns(use, each), (len(suns), 1)),
        capacity=np.tile(_columns(capacity, each), (len(suns), 1)),
        start_soc=np.clip(np.tile(_columns(start, each), (len(suns), 1)), 0, 1),
        sky=np.repeat(np.arange(len(suns)), each),
        sun=np.concatenate(
            [
                np.clip(light, 0, 1.3)
                if name == FORECAST
                else np.full(each, 0.0 if name == NO_SUN else 1.0)
                for name in suns
            ]
        ),
        station_sun_w=_stack([stations for stations, _ in suns.values()], problem),
        source_sun_w=_stack([sources for _, sources in suns.values()], problem),
        traced=np.tile(np.arange(each) == 0, len(suns)),
    )


def joined(parts: Sequence[Futures]) -> Futures:
    """Futures of several problems one after another, each with its own skies."""
    first = parts[0]
    skies = np.cumsum([0, *(part.station_sun_w.shape[0] for part in parts[:-1])])
    return Futures(
        demand=np.concatenate([part.demand for part in parts]),
        capacity=np.concatenate([part.capacity for part in parts]),
        start_soc=np.concatenate([part.start_soc for part in parts]),
        sky=np.concatenate(
            [part.sky + offset for part, offset in zip(parts, skies, strict=True)]
        ),
        sun=np.concatenate([part.sun for part in parts]),
        station_sun_w=np.concatenate([part.station_sun_w for part in parts]),
        source_sun_w=np.concatenate([part.source_sun_w for part in parts])
        if first.source_sun_w.size
        else first.source_sun_w,
        traced=np.concatenate([part.traced for part in parts]),
    )


def _varied(
    rng: np.random.Generator, mean: float, sd: float, zeros: FloatArray
) -> FloatArray:
    """The mean, then values around it within three standard deviations."""
    off = np.clip(rng.normal(zeros, 1.0), -3, 3) * sd
    return np.concatenate([[mean], np.maximum(mean + off, 0.05 * mean)])


def _columns(parts: list[FloatArray], rows: int) -> FloatArray:
    return np.stack(parts, axis=1) if parts else np.zeros((rows, 0))


def _stack(skies: list[Sequence[FloatArray]], problem: Problem) -> FloatArray:
    count = problem.grid.count
    return np.array(
        [np.array(list(sky)).reshape(len(sky), count) for sky in skies]
    ).reshape(len(skies), -1, count)


def wander(
    rng: np.random.Generator, shape: tuple[int, ...], hours: int, memory_h: float
) -> FloatArray:
    """
    Values of unit spread that remember themselves, hour by hour.

    A first-order autoregressive process: from one hour to the next exp(-1 / memory) of
    a value stays.

    Parameters
    ----------
    rng : numpy.random.Generator
    shape : tuple of int
        Of one hour's values.
    hours : int
    memory_h : float
        Time after which 1/e of a value is left. [h]

    Returns
    -------
    ndarray of shape (*shape, hours)
    """
    keeps = float(np.exp(-1 / memory_h))
    new = rng.normal(size=(*shape, hours))
    found = np.empty_like(new)
    found[..., 0] = new[..., 0]
    for hour in range(1, hours):
        kept = keeps * found[..., hour - 1]
        found[..., hour] = kept + np.sqrt(1 - keeps**2) * new[..., hour]
    return found
