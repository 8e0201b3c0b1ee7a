"""
The energy ledger: what each station needs against what reaches it, under each sky.

"In the kit" is what a station's first battery gives; "carried" is what later
batteries bring; panels count with what loads used of them, straight or through the
battery; mains, vehicle or generator at the station stand apart; the rest is not
covered. Hours come as a pair: the planned future, and one that only 1 in 10 is worse
than.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from powercore.belief.runtime import hours_at
from powercore.event.plans import NO_SUN
from powercore.event.problem import SERVE, Leg, Problem
from powercore.futures.draws import Runs, joined, likely
from powercore.futures.simulate import simulate
from powercore.physics.loads import bad_day_w
from powercore.values import FloatArray

#: Futures beside the planned one: with 60, one in ten is known to about 4 %.
FUTURES = 60

#: Power offered by stations' and by sources' panels, in the problem's order. [W]
Suns = Mapping[str, tuple[Sequence[FloatArray], Sequence[FloatArray]]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Endurance:
    """How long one full battery alone would keep a station on the air."""

    battery: str
    #: Hours to the reserve (the promise) and to the disconnect. [h]
    to_reserve_h: float
    to_disconnect_h: float
    #: Which limit ends the power, in words.
    ends_by: str
    #: Why it can't feed the station; None when it can.
    refusal: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class StationBudget:
    """One station's line in the ledger, under one sky."""

    station: str
    need_wh: float
    mean_a: float
    #: Mean that only 1 day in 10 goes above. [A]
    bad_a: float
    peak_a: float
    open_h: float
    #: What reached it: by the first battery, later ones, panels, other power there.
    #: [Wh]
    kit_wh: float
    carried_wh: float
    sun_wh: float
    supplied_wh: float
    uncovered_wh: float
    #: Offered by its panels, and not taken by a full battery. [Wh]
    spilled_wh: float
    #: Hours on the air: as planned, and 1 time in 10 fewer. [h]
    on_air_h: float
    on_air_bad_h: float
    reserve_min: float
    reserve_bad_min: float
    #: When it first runs short: as planned, and 1 time in 10 earlier. [min]
    first_off_min: float | None
    first_off_bad_min: float | None
    first_battery: str | None
    #: All that is carried there. [kg]; None where a mass is not known.
    mass_kg: float | None

    @property
    def off_air_min(self) -> float:
        """Minutes off the air as planned."""
        return (self.open_h - self.on_air_h) * 60


@dataclass(frozen=True, slots=True, kw_only=True)
class Ledger:
    """The event's ledger under one sky, and what it was worked out from."""

    sky: str
    stations: tuple[StationBudget, ...]
    need_wh: float
    #: What all batteries together hold above their reserves at the start. [Wh]
    stock_wh: float
    #: The planned future (row 0) and the likely ones.
    runs: Runs

    def line(self, station: str) -> StationBudget:
        """One station's line."""
        return next(line for line in self.stations if line.station == station)


def no_sun(problem: Problem) -> Suns:
    """The sky that gives nothing."""
    zero = np.zeros(problem.grid.count)
    return {
        NO_SUN: ([zero] * len(problem.stations), [zero] * len(problem.sources)),
    }


def ledgers(
    problem: Problem,
    legs: Sequence[Leg],
    suns: Suns | None = None,
    *,
    count: int = FUTURES,
) -> dict[str, Ledger]:
    """
    Work out the ledger of a rotation (without walks: of the set-up alone).

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    suns : mapping, optional
        The skies to count with; none gives only the one without sun.
    count : int
        Likely futures of each sky beside the planned one.

    Returns
    -------
    dict
        A ledger for each sky.
    """
    return ledgers_of([problem], legs, [suns or no_sun(problem)], count=count)[0]


def ledgers_of(
    problems: Sequence[Problem],
    legs: Sequence[Leg],
    suns: Sequence[Suns],
    *,
    count: int = FUTURES,
) -> list[dict[str, Ledger]]:
    """
    Ledgers of one event with several numbers, worked out together.

    Parameters
    ----------
    problems, suns : sequence
        The same event with other numbers, and the skies of each: same keys, as many
        skies, the same legs.
    """
    parts = [
        likely(problem, sky, count=count)
        for problem, sky in zip(problems, suns, strict=True)
    ]
    runs = simulate(problems[0], legs, joined(parts), problems[1:])
    found, first = [], 0
    for problem, skies in zip(problems, suns, strict=True):
        each = {}
        for sky in skies:
            each[sky] = _ledger(problem, legs, _rows(runs, first, 1 + count), sky)
            first += 1 + count
        found.append(each)
    return found


def _ledger(problem: Problem, legs: Sequence[Leg], runs: Runs, sky: str) -> Ledger:
    lines = tuple(
        _line(problem, legs, runs, index, key)
        for index, key in enumerate(problem.stations)
    )
    return Ledger(
        sky=sky,
        stations=lines,
        need_wh=sum(line.need_wh for line in lines),
        stock_wh=stock_wh(problem),
        runs=runs,
    )


def ledger(problem: Problem, legs: Sequence[Leg]) -> Ledger:
    """The ledger without sun."""
    return ledgers(problem, legs)[NO_SUN]


def _rows(runs: Runs, first: int, count: int) -> Runs:
    """The runs of one sky; its planned future alone is traced."""
    traced = slice(first // count, first // count + 1)
    parts = {"times_min": slice(None), "soc": traced, "store_wh": traced}
    whole = slice(first, first + count)
    return Runs(
        **{
            name: getattr(runs, name)[parts.get(name, whole)]
            for name in Runs.__dataclass_fields__
        }
    )


def _line(
    problem: Problem, legs: Sequence[Leg], runs: Runs, index: int, key: str
) -> StationBudget:
    station = problem.stations[key]
    watts = problem.load_w[key]
    is_open = watts > 0
    mean_w = float(watts[is_open].mean()) if is_open.any() else 0.0
    mean_a = mean_w / problem.station_v(key)
    open_h = float(is_open.sum()) * problem.grid.step_min / 60
    serving = sorted(
        (i for i, leg in enumerate(legs) if leg.kind == SERVE and leg.place == key),
        key=lambda i: legs[i].start_min,
    )
    out, by_sun, fed = (
        values[0, serving]
        for values in (runs.leg_out_wh, runs.leg_sun_wh, runs.leg_fed_wh)
    )
    # What panels and other power put into a battery and the load took out again.
    sun_share = np.minimum(by_sun, out)
    fed_share = np.minimum(fed, out - sun_share)
    given = out - sun_share - fed_share
    off = runs.off_air_min[:, index] / 60
    first = runs.first_off_min[:, index]
    masses = {legs[i].battery: problem.batteries[legs[i].battery] for i in serving}
    known = [one.mass_kg for one in masses.values() if one.mass_kg is not None]
    return StationBudget(
        station=key,
        need_wh=float(watts.sum()) * problem.grid.step_min / 60,
        mean_a=mean_a,
        bad_a=bad_day_w(mean_a, station.spread),
        peak_a=problem.feeding(key).peak_a,
        open_h=open_h,
        kit_wh=float(given[0]) if serving else 0.0,
        carried_wh=float(given[1:].sum()),
        sun_wh=float(runs.sun_wh[0, index] + sun_share.sum()),
        supplied_wh=float(runs.supplied_wh[0, index] + fed_share.sum()),
        uncovered_wh=float(runs.unserved_wh[0, index]),
        spilled_wh=float(runs.spilled_wh[0, index]),
        on_air_h=open_h - float(off[0]),
        on_air_bad_h=open_h - float(np.quantile(off, 0.9)),
        reserve_min=float(runs.reserve_min[0, index]),
        reserve_bad_min=float(np.quantile(runs.reserve_min[:, index], 0.9)),
        first_off_min=None if np.isnan(first[0]) else float(first[0]),
        first_off_bad_min=_early(first),
        first_battery=legs[serving[0]].battery if serving else None,
        mass_kg=sum(known) if len(known) == len(masses) else None,
    )


def _early(first: FloatArray) -> float | None:
    """The moment before which 1 future in 10 runs short; None when fewer do."""
    known = np.where(np.isnan(first), np.inf, first)
    at = float(np.quantile(known, 0.1, method="inverted_cdf"))
    return at if np.isfinite(at) else None


def stock_wh(problem: Problem) -> float:
    """What the batteries that may be used hold above their reserves. [Wh]"""
    return sum(
        battery.pack.usable_wh(
            battery.start_soc,
            problem.in_cold(key, battery.pack.reserve_soc),
            battery.pack.trusted_ah / 20,
        )
        for key, battery in problem.batteries.items()
        if not battery.is_on_hold
    )


def endurance(problem: Problem, station: str) -> list[Endurance]:
    """
    How long each battery, full, would last at a station, longest first.

    In hours on the clock while it is open: one that listens in windows rests between.
    """
    mean_w = problem.feeding(station).mean_a * problem.station_v(station)
    mean_w *= problem.stations[station].on_share
    found = []
    for key, battery in problem.batteries.items():
        if battery.is_on_hold:
            continue
        feed = problem.feed(station, key)
        found.append(
            Endurance(
                battery=key,
                to_reserve_h=hours_at(
                    (1 - feed.reserve_soc) * feed.capacity_wh, mean_w
                ),
                to_disconnect_h=hours_at(
                    (1 - feed.floor_soc) * feed.capacity_wh, mean_w
                ),
                ends_by=feed.floor_cause,
                refusal=feed.refusal,
            )
        )
    return sorted(found, key=lambda e: (e.refusal is not None, -e.to_reserve_h))
