"""
Stock lines, claims and origins: what a coordinator asks of a ledger.

A stock line holds the energy above reserve that is at hand when a dark or quiet
stretch begins against what stations need in it, and says what closes a difference.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from powercore.event.problem import CHARGE, SERVE, YARD, Leg, Problem
from powercore.event.scenario import low_power
from powercore.futures.draws import Runs
from powercore.sun.sources import BUFFER, GENERATOR, NOT_OWN, Running, running
from powercore.values import FloatArray, Window, windows_where

#: A stretch shorter than this is a gap, not a night. [min]
SHORTEST_MIN = 60
#: Where the charge of a battery came from before the event.
HOME = "home"


@dataclass(frozen=True, slots=True, kw_only=True)
class Closer:
    """One way to close a difference: what to do, and what it brings. [Wh]"""

    words: str
    wh: float


@dataclass(frozen=True, slots=True, kw_only=True)
class StockLine:
    """Energy above reserve needed and at hand for a stretch. [Wh]"""

    start_min: int
    end_min: int
    need_wh: float
    #: In batteries and in buffer banks when it begins.
    have_wh: float
    #: Stored by bays while it lasts.
    comes_wh: float
    closers: tuple[Closer, ...] = ()

    @property
    def short_wh(self) -> float:
        """What is missing; 0 when there is enough. [Wh]"""
        return max(0.0, self.need_wh - self.have_wh - self.comes_wh)


def stretches(
    problem: Problem, is_dark: np.ndarray | None, *, shortest_min: int = SHORTEST_MIN
) -> list[Window]:
    """
    Stretches in which it is dark, or in which no source but a bank runs.

    Parameters
    ----------
    is_dark : array of bool, shape (grid.count,), optional
        Steps in which the sun is down; without it only quiet stretches are found.
    """
    grid = problem.grid
    starts = np.arange(grid.count) * grid.step_min
    runs = np.zeros(grid.count, dtype=bool)
    for source in problem.sources.values():
        if source.kind == BUFFER:
            continue
        for window in source.windows:
            runs |= (starts >= window.start_min) & (starts < window.end_min)
    dark = np.zeros(grid.count, dtype=bool) if is_dark is None else is_dark
    # Where nothing is to be charged from at all, only the dark parts a day.
    is_served = any(source.kind != BUFFER for source in problem.sources.values())
    marked = ~runs | dark if is_served else dark
    found = [
        replace(one, end_min=min(one.end_min, problem.span_min))
        for one in windows_where(grid, marked)
    ]
    return [one for one in found if one.end_min - one.start_min >= shortest_min]


def stock_lines(
    problem: Problem,
    legs: Sequence[Leg],
    runs: Runs,
    windows: Sequence[Window],
) -> list[StockLine]:
    """
    Work out the stock line of each stretch from the planned future.

    Parameters
    ----------
    runs : Runs
        Of the sky without sun: the first tier must survive that.
    """
    return [_stock_line(problem, legs, runs, window) for window in windows]


def _stock_line(
    problem: Problem, legs: Sequence[Leg], runs: Runs, window: Window
) -> StockLine:
    grid = problem.grid
    at = int(np.searchsorted(runs.times_min, window.start_min))
    until = int(np.searchsorted(runs.times_min, window.end_min))
    soc = runs.soc[0]
    wh = np.array([_wh(problem, key) for key in problem.batteries])
    reserve = np.array(
        [
            problem.in_cold(key, one.pack.reserve_soc)
            for key, one in problem.batteries.items()
        ]
    )
    usable = np.array([not one.is_on_hold for one in problem.batteries.values()])
    have = float((np.maximum(soc[at] - reserve, 0) * wh * usable).sum())
    banks = [
        number
        for number, source in enumerate(problem.sources.values())
        if source.energy_wh is not None
    ]
    have += float(runs.store_wh[0, at, banks].sum())
    rises = np.maximum(np.diff(soc[at : until + 1], axis=0), 0)
    comes = float((rises * wh).sum()) - max(
        0.0,
        float((runs.store_wh[0, at, banks] - runs.store_wh[0, until, banks]).sum()),
    )
    need = sum(
        float(np.interp(window.end_min, grid.edges_min, drawn))
        - float(np.interp(window.start_min, grid.edges_min, drawn))
        for drawn in problem.drawn_wh.values()
    )
    line = StockLine(
        start_min=window.start_min,
        end_min=window.end_min,
        need_wh=need,
        have_wh=have,
        comes_wh=max(0.0, comes),
    )
    if line.short_wh <= 1:
        return line
    return replace(line, closers=tuple(_closers(problem, legs, soc[at], line)))


def _wh(problem: Problem, battery: str) -> float:
    pack = problem.batteries[battery].pack
    return pack.trusted_ah * pack.mean_v(1.0, pack.reserve_soc, pack.trusted_ah / 20)


def _closers(
    problem: Problem, legs: Sequence[Leg], soc: FloatArray, line: StockLine
) -> list[Closer]:
    window = Window(start_min=line.start_min, end_min=line.end_min)
    found = [
        *_earlier_charging(problem, legs, soc, line),
        *_lower_power(problem, window),
    ]
    sizes = [_wh(problem, key) for key in problem.batteries]
    if sizes:
        pack_wh = 0.8 * float(np.median(sizes))
        count = math.ceil(line.short_wh / pack_wh)
        found.append(
            Closer(
                words=f"{count} more full {'pack' if count == 1 else 'packs'} of "
                "the usual size at its start",
                wh=count * pack_wh,
            )
        )
    return found


def _earlier_charging(
    problem: Problem, legs: Sequence[Leg], soc: FloatArray, line: StockLine
) -> list[Closer]:
    """Batteries that wait half full in the yard while a bay stands empty."""
    found = []
    for number, key in enumerate(problem.batteries):
        waits = [
            leg
            for leg in legs
            if leg.battery == key
            and leg.place == YARD
            and leg.start_min < line.start_min <= leg.end_min
        ]
        if not waits or soc[number] > 0.9 or problem.batteries[key].is_on_hold:
            continue
        for bay in problem.bays:
            if problem.bay_refusal(bay, key):
                continue
            model = problem.charge_model(bay, key)
            hours = model.hours_to(
                float(soc[number]) * model.capacity, 0.9 * model.capacity
            )
            latest = int(line.start_min - 60 * hours)
            free = all(
                leg.place != bay
                or leg.end_min <= latest
                or leg.start_min >= line.start_min
                for leg in legs
                if leg.kind == CHARGE
            )
            runs = problem.source_is_on(problem.bays[bay].source, max(latest, 0))
            if latest >= waits[0].start_min and free and runs:
                tag, name = problem.batteries[key].tag, problem.bays[bay].name
                found.append(
                    Closer(
                        words=f"start {tag} on {name} by {{{latest}}}",
                        wh=(0.9 - float(soc[number])) * _wh(problem, key),
                    )
                )
                break
    return found


def _lower_power(problem: Problem, window: Window) -> list[Closer]:
    """Stations that drop to their low step, the lowest tier first."""
    grid = problem.grid
    found = []
    for key, station in sorted(
        problem.stations.items(), key=lambda item: -item[1].tier
    ):
        low = low_power(station, window).demand_w(grid)
        saved = float((problem.load_w[key] - low).clip(0).sum()) * grid.step_min / 60
        if saved > 1:
            found.append(Closer(words=f"{station.name} on low power", wh=saved))
    return found


# --- claims ---------------------------------------------------------------------


@dataclass(frozen=True, slots=True, kw_only=True)
class Balance:
    """Whether a station would run for ever on its panels. [Wh] a day"""

    station: str
    out_wh: float
    in_wh: float
    #: Days until it goes off the air; None: never. [d]
    lasts_days: float | None


def daily_balance(
    problem: Problem, station: str, in_wh: float, battery: str | None
) -> Balance:
    """
    Test a claim that a station "runs for ever" on its panels.

    Parameters
    ----------
    in_wh : float
        What its panels bring on one day under the sky looked at. [Wh]
    battery : str, optional
        What it begins with, full.
    """
    watts = problem.load_w[station]
    hours = problem.grid.count * problem.grid.step_min / 60
    out = float(watts.sum()) * problem.grid.step_min / 60 * 24 / hours
    gap = out - in_wh
    if gap <= 0:
        return Balance(station=station, out_wh=out, in_wh=in_wh, lasts_days=None)
    held = 0.0
    if battery is not None:
        feed = problem.feed(station, battery)
        held = (1 - feed.floor_soc) * feed.capacity_wh
    return Balance(station=station, out_wh=out, in_wh=in_wh, lasts_days=held / gap)


@dataclass(frozen=True, slots=True, kw_only=True)
class Spoilt:
    """Something that spoils a claim to have run on power of one's own."""

    words: str
    start_min: int
    end_min: int


def spoils_own_power(problem: Problem, legs: Sequence[Leg]) -> list[Spoilt]:
    """Charges and supplies that are planned from what is not one's own."""
    found = []
    for leg in sorted(legs, key=lambda leg: leg.start_min):
        if leg.kind != CHARGE:
            continue
        source = problem.sources[problem.bays[leg.place].source]
        if source.kind in NOT_OWN:
            tag = problem.batteries[leg.battery].tag
            found.append(
                Spoilt(
                    words=f"{tag} on {problem.bays[leg.place].name} from {source.name}",
                    start_min=leg.start_min,
                    end_min=leg.end_min,
                )
            )
    for source in problem.sources.values():
        if source.filled_from and problem.sources[source.filled_from].kind in NOT_OWN:
            feeds = problem.sources[source.filled_from]
            found += [
                Spoilt(
                    words=f"{source.name} filled from {feeds.name}",
                    start_min=window.start_min,
                    end_min=window.end_min,
                )
                for window in feeds.windows
            ]
    for station in problem.stations.values():
        for supply in station.supplies:
            if supply.kind in NOT_OWN:
                found += [
                    Spoilt(
                        words=f"{supply.name or 'mains'} at {station.name}",
                        start_min=window.start_min,
                        end_min=window.end_min,
                    )
                    for window in supply.windows
                ]
    return found


def origins(problem: Problem, legs: Sequence[Leg], runs: Runs) -> dict[str, float]:
    """
    Where the energy that loads used came from, by kind of source. [Wh]

    A battery is a mix: what it gives has the shares of what went in. "home" is what
    it left home with; a buffer bank counts as itself.
    """
    used: dict[str, float] = defaultdict(float)
    mixes = {key: {HOME: 1.0} for key in problem.batteries}
    order = sorted(range(len(legs)), key=lambda i: (legs[i].start_min, i))
    for i in order:
        leg = legs[i]
        mix = mixes[leg.battery]
        start = float(runs.leg_start[0, i])
        if leg.kind == CHARGE:
            kind = problem.sources[problem.bays[leg.place].source].kind
            gained = float(runs.leg_end[0, i]) - start
            mixes[leg.battery] = _mixed(mix, start, {kind: gained})
        elif leg.kind == SERVE:
            feed_wh = problem.feed(leg.place, leg.battery).capacity_wh
            came = {
                "sun": float(runs.leg_sun_wh[0, i]) / feed_wh,
                "mains": float(runs.leg_fed_wh[0, i]) / feed_wh,
            }
            mix = mixes[leg.battery] = _mixed(mix, start, came)
            for kind, share in mix.items():
                used[kind] += share * float(runs.leg_out_wh[0, i])
    used["sun"] += float(runs.sun_wh[0].sum())
    for index, station in enumerate(problem.stations.values()):
        for supply in station.supplies[:1]:
            used[supply.kind] += float(runs.supplied_wh[0, index])
    return {kind: wh for kind, wh in used.items() if wh > 0.5}


def _mixed(
    mix: dict[str, float], held: float, came: dict[str, float]
) -> dict[str, float]:
    total = held + sum(max(0.0, more) for more in came.values())
    if total <= 0:
        return mix
    kinds = set(mix) | set(came)
    return {
        kind: (mix.get(kind, 0.0) * held + max(0.0, came.get(kind, 0.0))) / total
        for kind in kinds
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class FuelLine:
    """A generator's fuel: what the plan burns, and when it runs dry."""

    source: str
    running: Running
    #: Burnt while it runs, at the load of the planned future. [L]
    burns_l: float
    on_hand_l: float

    @property
    def missing_l(self) -> float:
        """What must be brought for all its hours. [L]"""
        return max(0.0, self.running.needs_l - self.on_hand_l)


def fuel_lines(problem: Problem, runs: Runs) -> list[FuelLine]:
    """Fuel of each generator in the planned future."""
    found = []
    for number, source in enumerate(problem.scenario.sources):
        if source.kind != GENERATOR or source.fuel is None:
            continue
        plan = running(source, problem.most_asked_w(source))
        hours = sum(w.end_min - w.start_min for w in plan.windows) / 60
        mean_w = source.other_w
        if hours > 0:
            share = problem.charger_efficiency[source.key]
            mean_w += float(runs.source_wh[0, number]) / share / hours
        rate = float(source.fuel.burns_l_h(mean_w / max(source.max_w, 1.0)))
        found.append(
            FuelLine(
                source=source.key,
                running=plan,
                burns_l=rate * hours,
                on_hand_l=source.fuel.on_hand_l,
            )
        )
    return found
