"""What several pages show of a rotation: its searches, figures, suns and holds."""

from __future__ import annotations

from uuid import UUID

import msgspec

from hollow_kettle.plan.bridge.problems import problem_of_snapshot
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.models import SKY_CHOICES, Event, Rotation, Search, Trial
from powercore.event.problem import Problem
from powercore.futures.stress import Stress
from powercore.rotation.verify import verify


def search_of(event: Event) -> Search | None:
    """The latest search for a better rotation."""
    return event.searches.select_related("rotation", "best").first()


#: From this version of a scenario on, plans charge only what somebody watches.
WATCHED_SINCE = 8
#: Figures that are left out where both have none.
_SELDOM = ("low_min", "night_walks", "engine_h", "fuel_l")
#: What rotations are compared by, most important first.
FIGURES = {
    "off_air_min": "off the air, min",
    "low_min": "on low power, min",
    "unserved_wh": "not served, Wh",
    "reserve_min": "into reserve, min",
    "thin_min": "slack missing, min",
    "walks": "walks",
    "night_walks": "of them in the dark",
    "bay_changes": "bay changes",
    "engine_h": "engine for charging alone, h",
    "fuel_l": "fuel for charging, L",
}


def figures_of(one: Rotation, other: Rotation) -> list[tuple[str, float, float]]:
    """Two rotations figure by figure, most important first; hours and litres to .1."""
    found = []
    for name, words in FIGURES.items():
        digits = 1 if name in ("engine_h", "fuel_l") else 0
        pair = [round(getattr(rotation, name), digits) for rotation in (one, other)]
        if any(pair) or name not in _SELDOM:
            found.append((words, pair[0], pair[1]))
    return found


def figures_when_worse(search: Search) -> list[tuple[str, float, float]]:
    """
    What a search's beginning and its best are off the air when things go otherwise.

    With as much more use as it planned for, and in futures with their mishaps where
    both were tried.
    """
    start, best = search.rotation, search.best
    if best is None:
        return []
    pair: tuple[Rotation, ...] = (start, best)
    found: list[tuple[str, float, float]] = []
    if search.margin_pct:
        use = 1 + search.margin_pct / 100
        words = f"off the air at {search.margin_pct} % more use, min"
        found.append((words, _off_air_min(start, use), _off_air_min(best, use)))
    trials = [
        Trial.objects.filter(rotation=rotation).exclude(content=None).first()
        for rotation in pair
    ]
    results = [msgspec.convert(one.content, Stress) for one in trials if one]
    if len(results) == len(pair):
        one, other = results
        shares = round(100 * one.chance), round(100 * other.chance)
        found.append(("futures with somebody off the air, %", *shares))
        for row in one.rows:
            before, after = _bad_min(one, row.name), _bad_min(other, row.name)
            if before is not None and after is not None and before != after:
                found.append((f"{row.name}, bad 1 in 10, min", before, after))
    return [(words, one, other) for words, one, other in found if one or other]


def _off_air_min(rotation: Rotation, use: float) -> float:
    problem, legs = problem_of(rotation)
    outcome = verify(Problem(problem.scenario, use=use), legs).outcome
    return float(round(outcome.total_min("off_air")))


def _bad_min(result: Stress, name: str) -> float | None:
    found = (row.bad_min for row in result.rows if row.name == name)
    bad = next(found, None)
    return None if bad is None else float(round(bad))


def bettered(rotation: Rotation) -> list[tuple[str, float, float]]:
    """What the worker changed of a plan that was made at once, before and after."""
    if rotation.was is None:
        return []
    before = Rotation(**rotation.was)
    return [
        (words, one, other)
        for words, one, other in figures_of(before, rotation)
        if one != other
    ]


def holds_of(event: Event) -> dict[UUID, str]:
    """Batteries of an event on hold, as plans move them, and why."""
    held = dict(event.batteries.exclude(hold="").values_list("pk", "hold"))
    if held:
        leads = dict(event.joined.values_list("battery_id", "lead_id"))
        held |= {leads[key]: why for key, why in held.items() if key in leads}
    return held


def draw_lines(rotation: Rotation) -> list[str]:
    """What it counts for stations whose readings say that their plan is wrong."""
    stations = problem_of_snapshot(rotation.snapshot).scenario.stations
    return [
        f"{station.name} counts at {station.draws:.2f} × its plan, by readings."
        for station in stations
        if station.draws != 1
    ]


def suns_of(rotation: Rotation) -> list[tuple[str, str]]:
    """Stations and sources whose panels a rotation counts on, and under which sky."""
    problem = problem_of_snapshot(rotation.snapshot)
    skies = dict(SKY_CHOICES)
    return [
        (problem.stations[key].name, skies[problem.sky_of(key)])
        for key, watts in problem.sun_w.items()
        if watts.any()
    ] + [
        (f"the {problem.sources[key].name}", skies[problem.scenario.yard_sky])
        for key, watts in problem.yard_sun_w.items()
        if watts.any()
    ]


def tags_of(rotation: Rotation) -> dict[UUID, str]:
    """Tags of a rotation's batteries by uid; a joined set has those of its members."""
    tags = dict(rotation.event.batteries.values_list("pk", "tag"))
    for plan in problem_of_snapshot(rotation.snapshot).batteries.values():
        if plan.members:
            tags[UUID(plan.key)] = plan.tag
    return tags
