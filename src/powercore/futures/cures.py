"""
What would help a rotation: each cure planned anew and tried in many futures.

One more battery, bay or crew, somebody who watches the yard all the while, or low
power at the weakest stations. First the things at hand are planned for more use;
where that leaves a risk, each cure goes on from the best of that. Gear that fails is
left out: no spare helps when nobody reacts. For the worker: it loads the compiled
search.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from powercore.event.plans import LOW, BatteryPlan, CrewPlan, Pin
from powercore.event.problem import SERVE, WAIT, YARD, Leg, Problem
from powercore.event.scenario import Scenario
from powercore.futures.budget import Suns
from powercore.futures.stress import NOTICED_MIN, Cure, Cures, mean_off_air
from powercore.rotation.search.improve import Aim, improve
from powercore.rotation.verify import verify
from powercore.sun.sources import BUFFER

#: Passes of the search for the things at hand, and for each cure from there.
PASSES, MORE_PASSES = 4, 2
#: How much use plans should stand, at first and then. More is not always better: it
#: takes more walks, and each may be late.
MARGINS = (1.15, 1.35)
#: Planning alone is enough when no more of the risk is left. (0 to 1)
ENOUGH = 0.1
#: Most stations for which low power is tried.
WEAK = 2


@dataclass(frozen=True, slots=True)
class _Try:
    words: str
    scenario: Scenario
    more: tuple[Leg, ...] = ()
    pin: Pin | None = None


def cures(
    problem: Problem,
    legs: Sequence[Leg],
    suns: Suns,
    *,
    seed: int = 1,
    passes: tuple[int, int] = (PASSES, MORE_PASSES),
) -> Cures:
    """
    Try what would help a rotation.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    suns : Suns
        What panels give under each sky, see `stress`.
    passes : tuple of int
        Of the search, for the things at hand and for each other cure from there.
    """
    first, then = (Aim(seed=seed, passes=count) for count in passes)
    before = mean_off_air(problem, legs, suns, seed=seed)
    total = sum(before.values())
    found: list[Cure] = []
    if total < NOTICED_MIN:
        return Cures(mean_min=total, cures=())
    made, best, best_margin, left = tuple(legs), tuple(legs), 1.0, total
    for margin in MARGINS:
        words = f"The same things, planned for {100 * (margin - 1):.0f} % more use"
        one = _Try(words, problem.scenario)
        made, cure = _tried(one, made, suns, total, margin, first)
        found.append(cure)
        if cure.mean_min < left:
            best, best_margin, left = made, margin, cure.mean_min
    is_enough = left <= max(NOTICED_MIN, ENOUGH * total)
    if not is_enough:
        for one in _tries(problem, best, before):
            _, cure = _tried(one, best, suns, total, best_margin, then)
            found.append(cure)
    found.sort(key=lambda cure: cure.mean_min)
    return Cures(mean_min=total, cures=tuple(found), is_enough=is_enough)


def _tried(
    one: _Try,
    legs: tuple[Leg, ...],
    suns: Suns,
    total: float,
    margin: float,
    aim: Aim,
) -> tuple[tuple[Leg, ...], Cure]:
    """Plan a cure for more use, if that helps, and see what is left of the risk."""
    problem, pin = Problem(one.scenario), one.pin
    more = Problem(one.scenario, use=margin)
    start = (*legs, *one.more)
    replanned = improve(more, start, aim).legs
    # Not always: a bay asks for more when a battery comes fuller.
    is_valid = verify(problem, replanned).is_valid
    plans = (start, replanned) if is_valid else (start,)
    means = [
        sum(mean_off_air(problem, plan, suns, seed=aim.seed).values()) for plan in plans
    ]
    after = min(means)
    best = plans[means.index(after)]
    return best, Cure(
        words=one.words,
        mean_min=after,
        removes=1 - after / total,
        walks=verify(problem, best).outcome.walks,
        station=pin.place if pin else None,
        start_min=pin.start_min if pin else 0,
        end_min=pin.end_min if pin else 0,
    )


def _tries(
    problem: Problem, legs: Sequence[Leg], before: dict[str, float]
) -> Iterator[_Try]:
    scenario, span = problem.scenario, problem.span_min
    for pack in _kinds(scenario):
        key = f"more {pack.key}"
        one = replace(
            pack, key=key, tag="new", start_soc=1.0, start_place=YARD, is_on_hold=False
        )
        waits = Leg(kind=WAIT, battery=key, place=YARD, start_min=0, end_min=span)
        name = f"{pack.pack.nameplate_ah:g} Ah {pack.pack.chem.name}"
        batteries = (*scenario.batteries, one)
        yield _Try(
            f"One more {name} pack", replace(scenario, batteries=batteries), (waits,)
        )
    yield from _more_bays(scenario)
    crew = CrewPlan(name="one more crew", does="walks", start_min=0, end_min=span)
    yield _Try(
        "One more crew to walk", replace(scenario, crews=(*scenario.crews, crew))
    )
    watch = CrewPlan(name="yard watch", does="yard", start_min=0, end_min=span)
    if problem.unwatched:
        crews = (*scenario.crews, watch)
        yield _Try("Somebody at the yard all the while", replace(scenario, crews=crews))
    yield from _lower(problem, legs, before)


def _kinds(scenario: Scenario) -> list[BatteryPlan]:
    """One battery of the commonest kind, and one of the biggest."""
    every = [one for unit in scenario.batteries for one in unit.singles]
    usable = [one for one in every if not one.is_on_hold]
    if not usable:
        return []
    kinds = Counter((x.pack.chemistry, x.pack.nameplate_ah) for x in usable)
    common = max(kinds, key=lambda kind: (kinds[kind], kind))
    biggest = max(usable, key=lambda x: (x.pack.trusted_ah * x.pack.series, x.key))
    first = next(x for x in usable if (x.pack.chemistry, x.pack.nameplate_ah) == common)
    return [first] if first.pack == biggest.pack else [first, biggest]


def _more_bays(scenario: Scenario) -> Iterator[_Try]:
    """One more bay like the best there is, on each source that is no bank."""
    for source in scenario.sources:
        bays = [bay for bay in scenario.bays if bay.source == source.key]
        if not bays or source.kind == BUFFER:
            continue
        best = max(bays, key=lambda bay: (bay.max_w, bay.key))
        more = replace(best, key=f"more {best.key}", name=f"one more {best.name}")
        yield _Try(
            f"One more {best.max_w:.0f} W bay on {source.name}",
            replace(scenario, bays=(*scenario.bays, more)),
        )


def _lower(
    problem: Problem, legs: Sequence[Leg], before: dict[str, float]
) -> Iterator[_Try]:
    """Low power at the weakest stations, while the battery serves that fails most."""
    agreed = {one.key: one for one in problem.scenario.stations}
    weakest = sorted(before, key=lambda key: (-before[key], key))[:WEAK]
    for key in weakest:
        has_low = any(load.low is not None for load in agreed[key].loads)
        stays = [x for x in legs if x.kind == SERVE and x.place == key]
        if before[key] < NOTICED_MIN or not has_low or not stays:
            continue
        longest = max(stays, key=lambda x: (x.end_min - x.start_min, -x.start_min))
        pin = Pin(
            kind=LOW, place=key, start_min=longest.start_min, end_min=longest.end_min
        )
        scenario = problem.scenario
        scenario = replace(scenario, pins=(*scenario.pins, pin))
        yield _Try(f"{agreed[key].name} on low power", scenario, pin=pin)
