"""
What a rotation becomes in many futures, and in named mishaps.

A future draws more than the ledger's: use that wanders from hour to hour, cloud that
comes and goes, walks that are late, a bay or a source that fails, a battery that is
flat when it is needed. Futures in which the same walks are late share their legs, so
they are simulated together; the error of a chance is taken from how much such groups
differ. Nobody reacts in a future: it says how much rests on somebody who does. All
draws come from one seed, and every mishap meets the same ones, so that rows differ by
the mishap alone.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from powercore.belief.slack import MOST_LATE
from powercore.event.joining import left_of_flat
from powercore.event.plans import FORECAST, NO_SUN
from powercore.event.problem import (
    CARRIED,
    CHARGE,
    SERVE,
    WAIT,
    YARD,
    Leg,
    Problem,
    lives_of,
    stops_of,
    visit_of,
)
from powercore.event.scenario import low_power
from powercore.futures.budget import Suns
from powercore.futures.draws import likely, wander
from powercore.futures.simulate import simulate
from powercore.rotation.change import without_rounds
from powercore.values import FloatArray

#: Groups of futures with the same late walks, and futures in each.
GROUPS, EACH = 20, 50
#: The same for one row of mishaps.
ROW_GROUPS, ROW_EACH = 4, 50
#: Use and light from hour to hour: one standard deviation as a share, and for how
#: long they remember. [h] Common practice, no source.
USE_SD, USE_MEMORY_H = 0.15, 2.0
LIGHT_SD, LIGHT_MEMORY_H = 0.35, 3.0
#: Chance that a source, a bay or a battery lets its crew down in an event. (0 to 1)
#: Common practice, no source.
SOURCE_FAILS, BAY_FAILS, BATTERY_FAILS = 0.05, 0.03, 0.02
#: Futures that a plan is looked for against, in groups; and what the worst tenth of
#: them counts beside the average of all.
PLANNED_GROUPS, PLANNED_EACH, TAIL_WEIGHT = 8, 25, 0.5
#: How much more everybody uses in the mishap of that name.
BUSY = 1.2
#: Minutes off the air from which a future counts as one.
NOTICED_MIN = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Weak:
    """A station in many futures. Minutes off the air."""

    station: str
    typical_min: float
    bad_min: float
    #: Chance to be off the air at all, and its Monte-Carlo error. (0 to 1)
    chance: float
    error: float
    #: When it typically begins, where it happens at all. [min]
    begins_min: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """All stations together in many futures of one mishap. Minutes off the air."""

    name: str
    typical_min: float
    bad_min: float
    #: Who is off the air longest in the bad futures; None when nobody is.
    station: str | None
    is_cure: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Stress:
    """What a rotation becomes."""

    futures: int
    #: Chance that any station is off the air at all, and its error. (0 to 1)
    chance: float
    error: float
    stations: tuple[Weak, ...]
    rows: tuple[Row, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Cure:
    """One thing that would help, and how much. Minutes off the air of all stations."""

    words: str
    #: On average over futures with it, and the share of the risk that it removes.
    mean_min: float
    removes: float
    walks: int
    #: Of the station that goes to low power for it, and from when to when. [min]
    station: str | None = None
    start_min: int = 0
    end_min: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Cures:
    """What would help, most first; nothing where there is no risk to speak of."""

    #: Off the air on average over futures, as planned. [min]
    mean_min: float
    cures: tuple[Cure, ...]
    #: Whether planning alone removes so much that no more things were tried.
    is_enough: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """A mishap: what is otherwise in all futures; nothing by default."""

    use: float = 1.0
    flat: str | None = None
    dead_bays: tuple[str, ...] = ()
    dead_from_min: int = 0
    missing_crew: str | None = None


AS_PLANNED = Change()


def stress(
    problem: Problem, legs: Sequence[Leg], suns: Suns, *, seed: int = 1
) -> Stress:
    """
    Run a rotation through many futures and named mishaps.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    suns : Suns
        What panels give under each sky; the forecast is drawn from where it is
        known, else no sun is.

    Returns
    -------
    Stress
        The weakest station first; rows in a fixed order, a cure last.
    """
    own = _expected(suns)
    groups = [
        _off_air(problem, legs, own, _Draw(seed, number, EACH), fails=True)
        for number in range(GROUPS)
    ]
    off = np.stack([group[0] for group in groups])
    first = np.concatenate([group[1] for group in groups])
    weak = [_weak(problem, n, off[:, :, n], first[:, n]) for n in range(off.shape[2])]
    weak.sort(key=lambda one: (-one.bad_min, -one.typical_min, -one.chance))
    # Somebody: the one that is off the longest; never fewer futures than any one's.
    chance, error = _chance(off.max(axis=2))
    return Stress(
        futures=GROUPS * EACH,
        chance=chance,
        error=error,
        stations=tuple(weak),
        rows=tuple(_rows(problem, legs, suns, own, weak, seed)),
    )


def mean_off_air(
    problem: Problem, legs: Sequence[Leg], suns: Suns, *, seed: int = 1
) -> dict[str, float]:
    """Minutes off the air of each station, on average; no gear fails in these."""
    own = _expected(suns)
    off = np.concatenate(
        [
            _off_air(problem, legs, own, _Draw(seed, number, EACH), fails=False)[0]
            for number in range(GROUPS // 2)
        ]
    )
    return dict(zip(problem.stations, off.mean(axis=0).tolist(), strict=True))


def risk(
    problem: Problem, legs: Sequence[Leg], suns: Suns, *, seed: int = 1
) -> dict[str, float]:
    """
    What each station risks: one figure to look for a plan by. [min]

    Minutes off the air on average over futures, and half of what they are on average
    in its worst tenth. The same draws for every rotation of an event; no gear fails in
    them, as no plan can help that.
    """
    off = np.concatenate(
        [
            _off_air(
                problem,
                legs,
                _expected(suns),
                _Draw(seed, number, PLANNED_EACH),
                fails=False,
            )[0]
            for number in range(PLANNED_GROUPS)
        ]
    )
    worst = np.sort(off, axis=0)[-(len(off) // 10) :]
    found = off.mean(axis=0) + TAIL_WEIGHT * worst.mean(axis=0)
    return dict(zip(problem.stations, found.tolist(), strict=True))


def _expected(suns: Suns) -> Suns:
    """The sky that futures are drawn from: the forecast where it is known."""
    sky = FORECAST if FORECAST in suns else NO_SUN
    return {sky: suns[sky]}


# --- draws ------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Draw:
    seed: int
    group: int
    each: int

    def rng(self, what: int) -> np.random.Generator:
        """Draws of one kind, the same whatever else is drawn."""
        return np.random.default_rng([self.seed, self.group, what])


def _off_air(
    problem: Problem,
    legs: Sequence[Leg],
    suns: Suns,
    draw: _Draw,
    *,
    fails: bool,
    change: Change = AS_PLANNED,
) -> tuple[FloatArray, FloatArray]:
    """Minutes off the air, and when it begins, in a group. shapes (each, S)"""
    futures = likely(
        problem, suns, count=draw.each - 1, seed=draw.seed + 7919 * (draw.group + 1)
    )
    rng = draw.rng(0)
    hours = problem.span_min // 60 + 1
    count, stations = futures.demand.shape
    use = 1 + USE_SD * wander(rng, (count, stations), hours, USE_MEMORY_H)
    light = 1 + LIGHT_SD * wander(rng, (count,), hours, LIGHT_MEMORY_H)
    start = futures.start_soc.copy()
    left = np.array([left_of_flat(one) for one in problem.batteries.values()])
    if fails:
        has_failed = draw.rng(1).random(start.shape) < BATTERY_FAILS
        start = np.where(has_failed, start * left, start)
    if change.flat is not None:
        number = list(problem.batteries).index(change.flat)
        start[:, number] *= left[number]
    futures = replace(
        futures,
        demand=futures.demand * change.use,
        start_soc=start,
        use_by_hour=np.clip(use, 0.2, 2.0),
        light_by_hour=np.clip(light, 0.0, 1.5),
        traced=np.zeros(futures.count, dtype=bool),
    )
    legs = late(problem, legs, _delays(problem, legs, draw.rng(2)))
    if fails:
        legs = _failing(problem, legs, draw.rng(3))
    legs = without_bays(legs, change.dead_bays, change.dead_from_min)
    if change.missing_crew is not None:
        crew = change.missing_crew
        missed = {leg.round for leg in legs if leg.kind == CARRIED and leg.crew == crew}
        legs = without_rounds(problem, legs, missed)
    runs = simulate(problem, legs, futures)
    return runs.off_air_min, runs.first_off_min


def _delays(
    problem: Problem, legs: Sequence[Leg], rng: np.random.Generator
) -> dict[tuple[str, int], int]:
    """How late each stop is: the usual lateness on average, sometimes much. [min]"""
    stops = sorted({(stop.station, stop.minute) for stop in stops_of(legs)})
    usual = problem.scenario.lateness_min
    drawn = rng.exponential(max(usual, 1e-9), len(stops))
    most = np.minimum(drawn, MOST_LATE * usual)
    return {stop: int(d) for stop, d in zip(stops, most, strict=True)}


def late(
    problem: Problem, legs: Sequence[Leg], delays: dict[tuple[str, int], int]
) -> list[Leg]:
    """
    A rotation whose stops come late; what follows on a battery's way gives way.

    A stay at a station, a bay or in the yard that would be over before its battery
    comes is left out. Operators who wait for a spare leave the old battery in.
    """
    made, lives = [], lives_of(legs)
    comes: dict[tuple[str, int], int] = {}
    for life in lives.values():
        for before, leg in pairwise(life):
            if leg.kind == SERVE and before.kind == WAIT and before.station:
                came = visit_of(life, leg)[0].start_min
                late_by = delays.get((leg.place, came), 0) if came else 0
                comes[leg.place, leg.start_min] = came + late_by
    for life in lives.values():
        now = 0
        for leg, following in zip(life, [*life[1:], None], strict=True):
            end = leg.end_min
            if leg.station:
                waits_for = comes.get((leg.place, end), 0) if leg.kind == SERVE else 0
                end = max(end + delays.get((leg.place, end), 0), waits_for)
            elif leg.kind == CARRIED:
                if following is not None and following.station:
                    end += delays.get((following.place, end), 0)
                else:
                    end += max(0, now - leg.start_min)
            end = min(end, problem.span_min)
            if end > now:
                made.append(replace(leg, start_min=now, end_min=end))
                now = end
    return made


def without_bays(legs: Iterable[Leg], bays: Iterable[str], minute: int) -> list[Leg]:
    """A rotation in which bays give nothing from a minute on."""
    dead, made = set(bays), []
    for leg in legs:
        if leg.kind != CHARGE or leg.place not in dead or leg.end_min <= minute:
            made.append(leg)
            continue
        if leg.start_min < minute:
            made.append(replace(leg, end_min=minute))
        start = max(leg.start_min, minute)
        made.append(replace(leg, kind=WAIT, place=YARD, start_min=start))
    return made


def _failing(
    problem: Problem, legs: Sequence[Leg], rng: np.random.Generator
) -> list[Leg]:
    """A rotation in which, now and then, a bay or a source gives up."""
    found = list(legs)
    for key in problem.bays:
        fails, minute = rng.random() < BAY_FAILS, rng.random() * problem.span_min
        if fails:
            found = without_bays(found, [key], int(minute))
    for key in problem.sources:
        fails, minute = rng.random() < SOURCE_FAILS, rng.random() * problem.span_min
        if fails:
            on_it = [bay.key for bay in problem.bays.values() if bay.source == key]
            found = without_bays(found, on_it, int(minute))
    return found


# --- what comes out ---------------------------------------------------------------


def _chance(off: FloatArray) -> tuple[float, float]:
    """Chance to notice, and its error from groups. `off` has shape (groups, each)."""
    by_group = (off >= NOTICED_MIN).mean(axis=1)
    error = by_group.std(ddof=1) / np.sqrt(by_group.size) if by_group.size > 1 else 0.0
    # A chance of none out of many is not known to be nothing: the rule of three.
    least = 0.0 if by_group.any() else 3.0 / off.size
    return float(by_group.mean()), float(max(error, least))


def _weak(problem: Problem, number: int, off: FloatArray, first: FloatArray) -> Weak:
    chance, error = _chance(off)
    known = first[~np.isnan(first)]
    return Weak(
        station=list(problem.stations)[number],
        typical_min=float(np.median(off)),
        bad_min=float(np.quantile(off, 0.9)),
        chance=chance,
        error=error,
        begins_min=float(np.median(known)) if known.size else None,
    )


def _rows(
    problem: Problem,
    legs: Sequence[Leg],
    suns: Suns,
    own: Suns,
    weak: Sequence[Weak],
    seed: int,
) -> list[Row]:
    rows = [
        _row(name[0].upper() + name[1:], problem, legs, own, seed, change)
        for name, change in _mishaps(problem, legs)
    ]
    if len(suns) > 1:
        dark = {NO_SUN: suns[NO_SUN]}
        rows.insert(1, _row("No sun at all", problem, legs, dark, seed, AS_PLANNED))
    worst = weak[0] if weak else None
    if worst is not None and worst.bad_min >= NOTICED_MIN:
        lower = low_power(problem.stations[worst.station])
        changed = replace(
            problem.scenario,
            stations=tuple(
                lower if one.key == worst.station else one
                for one in problem.scenario.stations
            ),
        )
        name = f"{lower.name} on low power"
        row = _row(name, Problem(changed), legs, own, seed, AS_PLANNED)
        rows.append(replace(row, is_cure=True))
    return rows


def _row(
    name: str,
    problem: Problem,
    legs: Sequence[Leg],
    suns: Suns,
    seed: int,
    change: Change,
) -> Row:
    groups = [
        _off_air(
            problem, legs, suns, _Draw(seed, n, ROW_EACH), fails=False, change=change
        )[0]
        for n in range(ROW_GROUPS)
    ]
    off = np.concatenate(groups)
    total = off.sum(axis=1)
    bad = float(np.quantile(total, 0.9)) if total.size else 0.0
    worst = off[total >= bad].mean(axis=0) if total.size else np.zeros(0)
    station = None
    if worst.size and worst.max() >= NOTICED_MIN:
        station = list(problem.stations)[int(worst.argmax())]
    return Row(
        name=name,
        typical_min=float(np.median(total)) if total.size else 0.0,
        bad_min=bad,
        station=station,
    )


def _mishaps(problem: Problem, legs: Sequence[Leg]) -> list[tuple[str, Change]]:
    """As planned, and what may happen to this plan: the dearest of each kind."""
    found = [
        ("As planned", AS_PLANNED),
        ("Everybody uses 20 % more", Change(use=BUSY)),
    ]
    charged: Counter[str] = Counter()
    sources: Counter[str] = Counter()
    served: Counter[str] = Counter()
    for leg in legs:
        minutes = leg.end_min - leg.start_min
        if leg.kind == CHARGE:
            charged[leg.place] += minutes
            sources[problem.bays[leg.place].source] += minutes
        elif leg.kind == SERVE:
            served[leg.battery] += minutes
    half = problem.span_min // 2
    for bay, _ in charged.most_common(1):
        name = f"{problem.bays[bay].name} dies halfway"
        found.append((name, Change(dead_bays=(bay,), dead_from_min=half)))
    for source, _ in sources.most_common(1):
        on_it = tuple(b.key for b in problem.bays.values() if b.source == source)
        name = f"{problem.sources[source].name} is out from halfway"
        found.append((name, Change(dead_bays=on_it, dead_from_min=half)))
    for battery, _ in served.most_common(1):
        plan = problem.batteries[battery]
        name = f"{'One of ' * bool(plan.members)}{plan.tag} is flat at the start"
        found.append((name, Change(flat=battery)))
    rounds = {(leg.crew, leg.round) for leg in legs if leg.kind == CARRIED}
    walks = Counter(crew for crew, _ in sorted(rounds, key=lambda one: one[1] or 0))
    for crew, _ in walks.most_common(1):
        found.append((f"{crew} does not come", Change(missing_crew=crew)))
    return found
