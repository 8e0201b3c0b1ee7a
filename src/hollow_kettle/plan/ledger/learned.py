"""What events taught of an event's stations, as questions beside its plan."""

from __future__ import annotations

from dataclasses import dataclass

from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.shelf.estimates.queries import draws_of
from hollow_kettle.shelf.models import Estimate
from powercore.errors import PowercoreError

#: A draw so near to what is planned with is not asked about.
WORTH = 0.03


@dataclass(frozen=True, slots=True)
class Question:
    """What a station drew elsewhere, and what planning with it would mean."""

    station: Station
    estimate: Estimate
    #: Mean current as planned, and with what was learned. [A]
    planned_a: float
    learned_a: float


def questions(event: Event) -> list[Question]:
    """
    Accepted draws that an event's stations are not planned with.

    None once it has begun: then its own readings say what stations draw.
    """
    if event.state != Event.State.PLANNED:
        return []
    stations = list(event.stations.all())
    known = draws_of([one.name for one in stations])
    asked = [
        (one, known[one.name])
        for one in stations
        if one.name in known and abs(known[one.name].mean - one.draws) > WORTH
    ]
    if not asked:
        return []
    try:
        problem = problem_for(event).problem
    except PowercoreError:
        return []
    found = []
    for station, estimate in asked:
        mean_a = problem.feeding(str(station.pk)).mean_a
        learned_a = mean_a / station.draws * estimate.mean
        found.append(Question(station, estimate, mean_a, learned_a))
    return found
