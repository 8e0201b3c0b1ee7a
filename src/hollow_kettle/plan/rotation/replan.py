"""A replan against the published rotation: what changed, and what it buys."""

from __future__ import annotations

import dataclasses
from collections import Counter

from hollow_kettle.plan.bridge.rotations import core_leg, problem_of, published
from hollow_kettle.plan.models import Event, Rotation
from powercore.event.plans import YARD
from powercore.event.problem import Leg, Problem
from powercore.rotation.compare import Replayed

from .moves import Move, moves_of
from .queries import tags_of


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
    way = "less" if more < 0 else "more"
    if not unit:
        way = "fewer" if more < 0 else "more"
    return f"{abs(more):.0f} {unit + ' ' if unit else ''}{way} {what}"
