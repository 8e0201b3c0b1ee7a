"""A replan against the published rotation: what changed, and what it buys."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress

from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.bridge.problems import problem_of_snapshot
from hollow_kettle.plan.bridge.rotations import core_leg, problem_of
from hollow_kettle.plan.bridge.scenario import scenario_from
from hollow_kettle.plan.models import Event, Rotation
from powercore.event.plans import STAYS, YARD, Pin
from powercore.event.problem import Leg, Problem
from powercore.rotation.admit import CAN, LEAST_MIN, WITH_LOW, Admission, admission
from powercore.rotation.compare import Replayed
from powercore.rotation.pins import PinRefused

from .moves import Move, moves_of
from .queries import tags_of

#: A move that is left as it is leaves its battery there for at least so long. [min]
HELD_MIN = 20


def against_published(event: Event, made: Rotation) -> str:
    """
    Say what a replan changes and buys against the published rotation going on.

    Both are replayed from the replan's moment on, with what is known by then; empty
    where nothing is published.
    """
    before = published(event)
    if before is None:
        return ""
    problem, legs = problem_of(made)
    goes_on = Replayed.of(problem, _left_of(before, made, problem))
    cost = Replayed.of(problem, legs).cost(goes_on)
    parts = [
        _less(cost.off_air_min, "min", "off the air"),
        _less(cost.reserve_min, "min", "into reserve"),
        _less(cost.walks, "", "walks"),
    ]
    buys = ", ".join(filter(None, parts)) or "nothing gained or lost"
    now = event.moment_of(made.from_min)
    old = Counter(m.key for m in _moves(event, before) if m.leave >= now)
    new = Counter(m.key for m in _moves(event, made))
    stay = sum((old & new).values())
    return (
        f"Against rotation {before.number} going on: {buys}. Of its {old.total()} "
        f"moves to come {stay} stay as they were; {new.total() - stay} are new."
    )


def pins_of_coming(
    event: Event, problem: Problem, from_min: int, ahead_min: int
) -> list[Pin]:
    """
    Published moves of the coming minutes, as pins that leave them as they are.

    What is brought is there from its time on, what it relieves until then.
    """
    before = published(event)
    if before is None:
        return []
    since = event.moment_of(from_min)
    until = event.moment_of(from_min + ahead_min)
    found = []
    for move in _moves(event, before):
        battery, station = str(move.battery or ""), str(move.station.pk)
        plan = problem.batteries.get(battery)
        if plan is None or plan.is_on_hold or station not in problem.stations:
            continue
        if since <= move.leave < until:
            start = round(event.minute_of(move.arrive)) - from_min
            end = min(start + HELD_MIN, problem.span_min)
            if start < end:
                found.append(
                    Pin(
                        kind=STAYS,
                        start_min=start,
                        end_min=end,
                        battery=battery,
                        place=station,
                    )
                )
                found += [
                    Pin(
                        kind=STAYS,
                        start_min=0,
                        end_min=start,
                        battery=one.key,
                        place=station,
                    )
                    for one in problem.batteries.values()
                    if one.tag == move.bring_back
                    and one.start_place == station
                    and start > 0
                ]
    return found


def kept_of(coming: list[Pin], legs: Sequence[Leg]) -> int:
    """How many of these moves some legs make in the same minute."""
    made = {(leg.battery, leg.station, leg.start_min) for leg in legs}
    return sum((pin.battery, pin.place, pin.start_min) in made for pin in coming)


def newcomers(event: Event, made: Rotation) -> list[str]:
    """Say of each station that the published plan does not know whether it can be."""
    before = published(event)
    if before is None:
        return []
    known = {one.key for one in scenario_from(before.snapshot).stations}
    problem = problem_of_snapshot(made.snapshot)
    found = []
    for key in problem.stations.keys() - known:
        with suppress(PinRefused):  # the pins ask for more than it has
            found.append(_admitted(problem, admission(problem, key)))
    return sorted(found)


def _admitted(problem: Problem, found: Admission) -> str:
    name = problem.stations[found.station].name
    walks = _less(found.walks, "", "walks")
    if found.verdict == CAN:
        return f"{name} is new: it can be served, nobody loses a minute{_and(walks)}."
    if found.verdict == WITH_LOW:
        return (
            f"{name} is new: it can be served on low power all the time, nobody loses "
            f"a minute{_and(walks)}; at full power not."
        )
    costs = [f"{name} itself is off the air for {found.own_min:.0f} min"] * (
        found.own_min >= LEAST_MIN
    )
    costs += [
        f"{problem.stations[key].name} for {minutes:.0f} min more"
        for key, minutes in found.pays
    ]
    return (
        f"{name} is new, and this plan cannot serve it without loss: "
        f"{', '.join(costs)}{_and(walks)}."
    )


def _and(more: str) -> str:
    return f"; {more}" if more else ""


def _left_of(before: Rotation, made: Rotation, problem: Problem) -> list[Leg]:
    """What is left of a rotation from the moment on that another one begins."""
    places = {"", YARD, *problem.stations, *problem.bays}
    found = []
    for row in before.legs.filter(end_min__gt=made.from_min):
        leg = core_leg(row, made.from_min)
        if leg.battery in problem.batteries and leg.place in places:
            start = max(0, leg.start_min)
            found.append(dataclasses.replace(leg, start_min=start))
    return found


def _moves(event: Event, rotation: Rotation) -> list[Move]:
    return moves_of(event, rotation, tags_of(rotation))


def _less(more: float, unit: str, what: str) -> str:
    if abs(more) < 0.5:
        return ""
    way, is_one = "less" if more < 0 else "more", round(abs(more)) == 1
    if not unit:
        way, what = "fewer" if more < 0 else "more", what.removesuffix("s" * is_one)
    return f"{abs(more):.0f} {unit + ' ' if unit else ''}{way} {what}"
