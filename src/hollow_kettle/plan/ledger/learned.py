"""What events taught of an event's stations and bays, as questions beside its plan."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from uuid import UUID

from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.estimates.queries import of_names
from hollow_kettle.shelf.models import Estimate
from powercore.errors import PowercoreError
from powercore.event.problem import Problem

#: A draw or an output so near to what is planned with is not asked about; a walk. [min]
WORTH, WALK_MIN = 0.03, 1.0


@dataclass(frozen=True, slots=True)
class Question:
    """What was learned elsewhere, and what planning with it would mean."""

    quantity: str
    key: UUID
    name: str
    words: str


def questions(event: Event) -> list[Question]:
    """
    What is accepted and an event is not planned with.

    Nothing once it has begun: then its own log says what stations draw.
    """
    if event.state != Event.State.PLANNED:
        return []
    try:
        problem = problem_for(event).problem
    except PowercoreError:
        return []
    return [*_draws(event, problem), *_walks(event, problem), *_bays(event)]


def _draws(event: Event, problem: Problem) -> Iterator[Question]:
    stations = list(event.stations.all())
    known = of_names(Estimate.DRAW, [one.name for one in stations])
    for one in stations:
        found = known.get(one.name)
        if found is None or abs(found.mean - one.draws) <= WORTH:
            continue
        mean_a = problem.feeding(str(one.pk)).mean_a
        yield Question(
            Estimate.DRAW,
            one.pk,
            one.name,
            f"drew {found.mean:.2f} times its list at {found.origin}: plan with "
            f"{mean_a / one.draws * found.mean:.1f} A instead of {mean_a:.1f}?",
        )


def _walks(event: Event, problem: Problem) -> Iterator[Question]:
    stations = list(event.stations.all())
    known = of_names(Estimate.WALK, [one.name for one in stations])
    for one in stations:
        found, planned = known.get(one.name), problem.stations[str(one.pk)].walk_min
        if found is not None and abs(found.mean - planned) > WALK_MIN:
            yield Question(
                Estimate.WALK,
                one.pk,
                one.name,
                f"was {found.mean:.0f} min from the yard at {found.origin}, over "
                f"{found.n} walks: plan with that instead of {planned} min?",
            )


def _bays(event: Event) -> Iterator[Question]:
    """Bays whose figures are typed; a charger of the shelf has its own."""
    bays = list(event.bays.filter(charger=None))
    known = of_names(Estimate.BAY, [one.name for one in bays])
    for one in bays:
        found = known.get(one.name)
        if found is None or one.max_w is None or one.learned_from == found.origin:
            continue
        if abs(found.mean - 1) > WORTH:
            yield Question(
                Estimate.BAY,
                one.pk,
                one.name,
                f"gave {found.mean:.0%} of what it should at {found.origin}: plan with "
                f"{found.mean * one.max_w:.0f} W instead of {one.max_w:.0f}?",
            )
