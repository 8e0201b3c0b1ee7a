"""
Why an event went otherwise than planned: each cause's share of what ran short.

The plan is simulated, then what really was, and every mixture of the two: with the
real loads but the planned sun, and so on. The change is shared among the causes by
their Shapley values [1]_, in whole µWh and ms, so that the shares and what the
simulation does not explain add up exactly to what was logged less what was planned.

What really was is believed, not known. So likely versions of it are drawn; those that
end as was logged count more than others (importance resampling [3]_), and each is
shared along one random order of the causes and the same backwards; that it was one
order and not all is taken out again by what the same order says of the most likely
version (a control variate [2]_).

References
----------
.. [1] L. S. Shapley, "A value for n-person games", in Contributions to the Theory of
   Games II, Princeton University Press, 1953; sampled orders as in E. Strumbelj and
   I. Kononenko, "Explaining prediction models and individual predictions with feature
   contributions", Knowledge and Information Systems 41, 2014.
.. [2] P. Glasserman, Monte Carlo Methods in Financial Engineering, Springer, 2003,
   sec. 4.1.
.. [3] A. F. M. Smith and A. E. Gelfand, "Bayesian statistics without tears: a
   sampling-resampling perspective", The American Statistician 46(2), 1992.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import groupby, pairwise
from typing import Any

import numpy as np

from powercore.debrief.shapley import along, shares_of
from powercore.event.plans import Pin
from powercore.event.problem import CHARGE, SERVE, Leg, Problem
from powercore.futures.draws import Futures
from powercore.futures.simulate import simulate
from powercore.values import FloatArray, IntArray, Window, without

LOAD, SUN, CAPACITY, START = "load", "sun", "capacity", "start"
MOVES, SOURCE, FAULT, SAVING = "moves", "source", "fault", "saving"
#: Causes in the order in which a ledger tells them.
CAUSES = (LOAD, SUN, CAPACITY, START, MOVES, SOURCE, FAULT, SAVING)
#: What the simulation does not explain.
UNEXPLAINED = "unexplained"
#: Causes that are other legs or other hours, not other numbers of the same ones.
_STRUCTURAL = (MOVES, SOURCE, FAULT)
#: Likely versions that are drawn, of which so many are shared out; and how many
#: futures are simulated together.
DRAWN, VERSIONS, TOGETHER = 1000, 200, 4000
#: How far the simulation is off a battery, as a share of what it holds: one standard
#: deviation. Common practice, no source.
MODEL_SD = 0.015
#: How far off what people note of the minutes off the air is, and the simulation of
#: them: one standard deviation, and of it so much a share. [min], [ratio]
NOTED_MIN, NOTED_SHARE = 10.0, 0.1
#: Versions that must go on counting, as a share of all: else the log's minutes are
#: believed less.
LEFT = 0.1
#: Of a share's interval: 1 time in 10 it is below, 1 in 10 above.
BAND = (10, 90)


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Believed:
    """
    What is believed of what really was, as M versions; the first is the likeliest.

    S stations, B batteries, Q sources, T steps, H hours; in the problem's order.
    """

    #: Draw over plan, hour by hour. shape (M, S, H)
    load: FloatArray
    #: What batteries hold over what they were trusted with. shape (M, B)
    capacity: FloatArray
    #: Charge at the start. (0 to 1), shape (M, B)
    start_soc: FloatArray
    #: Light against `station_sun_w`. shape (M,)
    light: FloatArray
    #: What bays gave over what they should. shape (M, bays)
    bay_rate: FloatArray
    #: What panels gave by the sky as it was. [W], shapes (S, T) and (Q, T)
    station_sun_w: FloatArray
    source_sun_w: FloatArray


@dataclass(frozen=True, slots=True, eq=False, kw_only=True)
class Actual:
    """What really was, as far as the log says."""

    believed: Believed
    #: Where batteries really were.
    legs: tuple[Leg, ...]
    #: When sources really ran: the same event with other hours; None: as planned.
    sources: Problem | None = None
    #: When bays gave nothing, and when stations were off the air for a connection or
    #: for equipment, by the key of the bay or station. [min]
    dead: Mapping[str, Sequence[Window]] = field(default_factory=dict)
    faults: Mapping[str, Sequence[Window]] = field(default_factory=dict)
    #: When stations were on low power.
    saving: tuple[Pin, ...] = ()
    #: Logged, by station: not had of what was planned, off the air. [Wh], [min]
    missed_wh: Mapping[str, float]
    off_min: Mapping[str, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class Amount:
    """A share in whole units, with its 80 % interval."""

    exact: int
    low: float
    high: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """One cause's share of a station's change: in µWh, and in ms off the air."""

    cause: str
    energy: Amount
    time: Amount


@dataclass(frozen=True, slots=True, kw_only=True)
class CauseLedger:
    """
    How a station's plan became what happened; without a key: all stations.

    Each pair is energy not had of what was planned [µWh], and time off the air [ms].
    """

    station: str
    planned: tuple[int, int]
    actual: tuple[int, int]
    #: In the order of `CAUSES`, those that changed something anywhere; what is not
    #: explained comes last.
    parts: tuple[Part, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Likely:
    """What something most likely was, with its 80 % interval."""

    low: float
    typical: float
    high: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Attribution:
    """The ledgers of an event's stations, and of all together, first."""

    total: CauseLedger
    stations: tuple[CauseLedger, ...]
    versions: int
    #: How many futures were simulated for it.
    futures: int
    #: What it rests on: stations' draw over plan, what batteries hold over trust, and
    #: their charge at the start, by key; and light against the sky as it was.
    draws: dict[str, Likely]
    holds: dict[str, Likely]
    starts: dict[str, Likely]
    #: What bays gave over what they should, by key.
    bays: dict[str, Likely]
    light: Likely


def attribute(
    problem: Problem,
    legs: Sequence[Leg],
    actual: Actual,
    *,
    seed: int = 1,
    told: Callable[[float], None] = lambda share: None,
) -> Attribution:
    """
    Share what ran short among its causes.

    Of the versions of what really was, `VERSIONS` are kept by how nearly they end as
    was logged.

    Parameters
    ----------
    problem : Problem
        The event as planned.
    legs : sequence of Leg
        The rotation as planned.
    actual : Actual
        What really was.
    told : callable
        Is told how much of it is done. (0 to 1)

    Returns
    -------
    Attribution
        Shares of each station and of all: planned + shares + what is not explained =
        actual, to the last µWh and ms.
    """
    game = _Game(problem, legs, actual)
    if game.causes and actual.believed.load.shape[0] > 1:
        agreed = _agreeing(game, np.random.default_rng(seed + 1))
        game = _Game(problem, legs, replace(actual, believed=agreed))
    causes = game.causes
    every = [(bits, 0) for bits in range(1 << len(causes))]
    rng = np.random.default_rng(seed)
    versions = game.actual.believed.load.shape[0] - 1
    orders = [rng.permutation(len(causes)).tolist() for _ in range(versions)]
    asked = dict.fromkeys(every)
    for version, order in enumerate(orders, 1):
        asked |= dict.fromkeys((bits, version) for bits in along(order))
        asked |= dict.fromkeys((bits, version) for bits in along(order[::-1]))
    found = game.run(list(asked), told)
    exact = shares_of(np.stack([found[row] for row in every]))
    drawn = np.stack(
        [exact, *(exact + _off(found, v, order) for v, order in enumerate(orders, 1))]
    )
    ends = np.stack([found[len(every) - 1, v] for v in range(versions + 1)])
    futures = len({game.alike(row) for row in asked})
    return _ledgers(game, found[0, 0], ends, drawn, futures)


def _rests_on(game: _Game) -> dict[str, Any]:
    """What is believed of each thing in the versions that are shared."""
    believed = game.actual.believed
    batteries = list(game.problem.batteries)

    def of(values: FloatArray, keys: Sequence[str]) -> dict[str, Likely]:
        return {key: _likely(values[:, at]) for at, key in enumerate(keys)}

    return {
        "draws": of(believed.load.mean(axis=2), game.keys),
        "holds": of(believed.capacity, batteries),
        "starts": of(believed.start_soc, batteries),
        "bays": of(believed.bay_rate, list(game.problem.bays)),
        "light": _likely(believed.light),
    }


def _likely(versions: FloatArray) -> Likely:
    low, high = np.percentile(versions, BAND)
    return Likely(low=float(low), typical=float(versions[0]), high=float(high))


def _agreeing(game: _Game, rng: np.random.Generator) -> Believed:
    """Versions drawn again by how nearly they end with the minutes that were logged."""
    believed = game.actual.believed
    count = believed.load.shape[0] - 1
    every = (1 << len(game.causes)) - 1
    runs = game.run([(every, version) for version in range(1, count + 1)])
    ends = np.stack([runs[every, v][:, 1] for v in range(1, count + 1)]) / 60_000
    logged = np.array([game.actual.off_min.get(key, 0.0) for key in game.keys])
    misfit = ((ends - logged) / (NOTED_MIN + NOTED_SHARE * logged)) ** 2
    weights = _tempered(-0.5 * misfit.sum(axis=1))
    kept = min(VERSIONS, count)
    places = (rng.random() + np.arange(kept)) / kept
    drawn = np.searchsorted(np.cumsum(weights), places).clip(max=count - 1) + 1

    def again(values: FloatArray, *, is_ratio: bool = True) -> FloatArray:
        of = values[1:]
        if not is_ratio:
            likeliest = np.tensordot(weights, of, 1)
        else:
            likeliest = np.exp(np.tensordot(weights, np.log(np.maximum(of, 1e-6)), 1))
        return np.concatenate([likeliest[None], values[drawn]])

    return replace(
        believed,
        load=again(believed.load),
        capacity=again(believed.capacity),
        start_soc=again(believed.start_soc, is_ratio=False),
        light=again(believed.light),
        bay_rate=again(believed.bay_rate),
    )


def _tempered(logs: FloatArray) -> FloatArray:
    """Weights (sum 1) of log likelihoods, flattened until enough of them count."""
    flat = 1.0
    while True:
        weights = np.exp(flat * (logs - logs.max()))
        weights /= weights.sum()
        if 1 / np.sum(weights**2) >= LEFT * logs.size or flat < 1e-3:
            return weights
        flat *= 0.8


def _off(
    found: Mapping[tuple[int, int], IntArray], version: int, order: list[int]
) -> IntArray:
    """How much shares along an order and back differ from the likeliest version's."""
    total = np.zeros((len(order), *found[0, 0].shape), dtype=np.int64)
    for way in (order, order[::-1]):
        for cause, (before, after) in zip(way, pairwise(along(way)), strict=True):
            here = found[after, version] - found[before, version]
            likely = found[after, 0] - found[before, 0]
            total[cause] += here - likely
    return total // 2


class _Game:
    """The event with any set of causes as they really were."""

    def __init__(self, problem: Problem, legs: Sequence[Leg], actual: Actual) -> None:
        self.problem, self.actual = problem, actual
        self.keys = list(problem.stations)
        self.legs = tuple(legs)
        self.sun_w = np.stack(
            [_rows(problem.sun_w, problem), actual.believed.station_sun_w]
        )
        self.source_w = np.stack(
            [_rows(problem.yard_sun_w, problem), actual.believed.source_sun_w]
        )
        self.start = np.array([one.start_soc for one in problem.batteries.values()])
        self.causes = [cause for cause in CAUSES if self._changed(cause)]
        self._made: dict[tuple[str, ...], tuple[Problem, tuple[Leg, ...]]] = {}

    def _changed(self, cause: str) -> bool:
        actual, believed = self.actual, self.actual.believed
        if cause == LOAD:
            return bool((believed.load != 1).any())
        if cause == CAPACITY:
            return bool((believed.capacity != 1).any())
        if cause == START:
            return bool((believed.start_soc != self.start).any())
        if cause == SUN:
            is_lit = bool(self.sun_w[1].any() or self.source_w[1].any())
            is_other = (self.sun_w[0] != self.sun_w[1]).any()
            is_other |= (self.source_w[0] != self.source_w[1]).any()
            return bool(is_other or (is_lit and (believed.light != 1).any()))
        if cause == MOVES:
            return _flowing(actual.legs) != _flowing(self.legs)
        if cause == SOURCE:
            return self._has_other_hours or bool((believed.bay_rate != 1).any())
        if cause == FAULT:
            return any(actual.faults.values())
        return bool(actual.saving)

    @property
    def _has_other_hours(self) -> bool:
        """Whether a source or a bay ran at other hours than planned."""
        return self.actual.sources is not None or any(self.actual.dead.values())

    def structure(self, causes: tuple[str, ...]) -> tuple[Problem, tuple[Leg, ...]]:
        """The event and its legs with some structural causes as they really were."""
        if causes not in self._made:
            problem, actual = self.problem, self.actual
            legs = actual.legs if MOVES in causes else self.legs
            if SOURCE in causes:
                problem = actual.sources or problem
                legs = powerless(legs, CHARGE, actual.dead)
            if FAULT in causes:
                legs = powerless(legs, SERVE, actual.faults)
            self._made[causes] = problem, tuple(legs)
        return self._made[causes]

    def _saving(self, problem: Problem) -> Problem:
        """The same with stations on low power when they really were."""
        steps = (*problem.scenario.steps, *self.actual.saving)
        return problem.with_steps(steps)

    def run(
        self,
        rows: Iterable[tuple[int, int]],
        told: Callable[[float], None] = lambda share: None,
    ) -> dict[tuple[int, int], IntArray]:
        """
        Simulate sets of causes, each in a version of what really was.

        Returns
        -------
        dict of array of int, shape (S, 2)
            Energy not had of what was planned [µWh], and time off the air [ms].
        """
        alike = {row: self.alike(row) for row in rows}
        rows = sorted(
            set(alike.values()), key=lambda row: (self._structural(row[0]), row)
        )
        done = 0
        found: dict[tuple[int, int], IntArray] = {}
        for causes, group in groupby(rows, key=lambda row: self._structural(row[0])):
            own = list(group)
            problem, legs = self.structure(causes)
            others = [self._saving(problem)] if SAVING in self.causes else []
            for first in range(0, len(own), TOGETHER):
                some = own[first : first + TOGETHER]
                runs = simulate(
                    problem, legs, self._futures(some), others, planned=self.problem
                )
                wh = np.rint(runs.missed_wh * 1e6).astype(np.int64)
                ms = np.rint(runs.off_air_min * 60_000).astype(np.int64)
                both = np.stack([wh, ms], axis=2)
                found |= dict(zip(some, both, strict=True))
                done += len(some)
                told(done / len(rows))
        return {row: found[same] for row, same in alike.items()}

    def alike(self, row: tuple[int, int]) -> tuple[int, int]:
        """The first version that a row comes out alike in: what is known varies not."""
        bits, version = row
        varies = any(
            bits >> number & 1 and cause in (LOAD, SUN, CAPACITY, START, SOURCE)
            for number, cause in enumerate(self.causes)
        )
        return bits, version if varies else 0

    def _structural(self, bits: int) -> tuple[str, ...]:
        return tuple(
            cause
            for number, cause in enumerate(self.causes)
            if bits >> number & 1
            and cause in _STRUCTURAL
            and (cause != SOURCE or self._has_other_hours)
        )

    def _futures(self, rows: Sequence[tuple[int, int]]) -> Futures:
        believed = self.actual.believed
        bits = np.array([row[0] for row in rows])
        version = np.array([row[1] for row in rows])

        def has(cause: str) -> np.ndarray:
            if cause not in self.causes:
                return np.zeros(bits.size, dtype=bool)
            return (bits >> self.causes.index(cause) & 1).astype(bool)

        return Futures(
            demand=np.ones((bits.size, len(self.keys))),
            capacity=np.where(has(CAPACITY)[:, None], believed.capacity[version], 1.0),
            start_soc=np.where(
                has(START)[:, None], believed.start_soc[version], self.start
            ),
            sky=has(SUN).astype(int),
            sun=np.where(has(SUN), believed.light[version], 1.0),
            station_sun_w=self.sun_w,
            source_sun_w=self.source_w,
            traced=np.zeros(bits.size, dtype=bool),
            bay_rate=np.where(has(SOURCE)[:, None], believed.bay_rate[version], 1.0),
            variant=has(SAVING).astype(int),
            use_by_hour=np.where(has(LOAD)[:, None, None], believed.load[version], 1.0),
        )


def powerless(
    legs: Sequence[Leg], kind: str, gaps: Mapping[str, Sequence[Window]]
) -> tuple[Leg, ...]:
    """
    Cut gaps out of legs of a kind, by their places.

    Parameters
    ----------
    gaps : mapping of str to sequence of Window
        When a bay or a station's battery gives nothing, by key. [min]

    Returns
    -------
    tuple of Leg
    """
    found: list[Leg] = []
    for leg in legs:
        cut = gaps.get(leg.place, ()) if leg.kind == kind else ()
        if not cut:
            found.append(leg)
            continue
        whole = Window(start_min=leg.start_min, end_min=leg.end_min)
        found += [
            replace(leg, start_min=one.start_min, end_min=one.end_min)
            for one in without((whole,), cut)
        ]
    return tuple(found)


def _flowing(legs: Iterable[Leg]) -> set[tuple[str, str, str, int, int]]:
    """What of legs matters to power: who feeds what and who charges where, when."""
    return {
        (leg.kind, leg.battery, leg.place, leg.start_min, leg.end_min)
        for leg in legs
        if leg.kind in (SERVE, CHARGE)
    }


def _rows(watts: Mapping[str, FloatArray], problem: Problem) -> FloatArray:
    return np.array(list(watts.values())).reshape(len(watts), problem.grid.count)


def _ledgers(
    game: _Game, planned: IntArray, ends: IntArray, drawn: IntArray, futures: int
) -> Attribution:
    """
    The ledgers, out of whole numbers.

    `planned`: shape (S, 2). `ends`: what the simulation ends with, by version, shape
    (M, S, 2). `drawn`: shares by version, the exact ones first, shape (M, n, S, 2).
    """
    actual = np.array(
        [
            [
                round(game.actual.missed_wh.get(key, 0.0) * 1e6),
                round(game.actual.off_min.get(key, 0.0) * 60_000),
            ]
            for key in game.keys
        ],
        dtype=np.int64,
    ).reshape(-1, 2)
    left = actual - ends
    left[0] = actual - planned - drawn[0].sum(axis=0)
    every = np.concatenate([drawn, left[:, None]], axis=1)

    def ledger(key: str, at: slice) -> CauseLedger:
        of = every[:, :, at].sum(axis=2)
        return CauseLedger(
            station=key,
            planned=_pair(planned[at].sum(axis=0)),
            actual=_pair(actual[at].sum(axis=0)),
            parts=tuple(
                Part(
                    cause=cause,
                    energy=_amount(of[:, number, 0]),
                    time=_amount(of[:, number, 1]),
                )
                for number, cause in enumerate([*game.causes, UNEXPLAINED])
            ),
        )

    return Attribution(
        total=ledger("", slice(None)),
        stations=tuple(
            ledger(key, slice(number, number + 1))
            for number, key in enumerate(game.keys)
        ),
        versions=drawn.shape[0] - 1,
        futures=futures,
        **_rests_on(game),
    )


def _pair(numbers: IntArray) -> tuple[int, int]:
    return int(numbers[0]), int(numbers[1])


def _amount(versions: IntArray) -> Amount:
    exact = int(versions[0])
    if versions.size == 1:
        return Amount(exact=exact, low=exact, high=exact)
    low, high = np.percentile(versions[1:], BAND)
    return Amount(exact=exact, low=min(float(low), exact), high=max(float(high), exact))
