"""What an empty club still lacks for its first event, in the order that works."""

from __future__ import annotations

from dataclasses import dataclass

from hollow_kettle.people.models import Actor, Club
from hollow_kettle.plan.models import (
    Bay,
    Crew,
    Event,
    OpenHours,
    Rotation,
    Source,
    StationEquipment,
)
from hollow_kettle.shelf.models import Battery


@dataclass(frozen=True, slots=True)
class Step:
    """One step, where the guide tells of it, and whether it is done."""

    words: str
    anchor: str
    is_done: bool


def first_steps() -> list[Step]:
    """Return the steps to a first event; none once one has begun."""
    if Event.objects.exclude(state=Event.State.PLANNED).exists():
        return []
    has_yard = all(kind.objects.exists() for kind in (Source, Bay, Crew))
    has_station = StationEquipment.objects.exists() and OpenHours.objects.exists()
    published = Rotation.objects.filter(state=Rotation.State.PUBLISHED)
    return [
        Step(words, anchor, is_done)
        for words, anchor, is_done in (
            ("the club's name and time zone", "your-account", Club.objects.exists()),
            ("batteries on the shelf", "your-batteries", Battery.objects.exists()),
            ("an event, with its hours", "the-event", Event.objects.exists()),
            ("a station: what runs there, and when", "the-stations", has_station),
            ("the yard: power, a bay, who walks", "the-yard", has_yard),
            ("a plan that is published", "the-plan", published.exists()),
            (
                "somebody else who logs",
                "who-else",
                Actor.objects.filter(is_script=False).count() > 1,
            ),
        )
    ]


def is_empty() -> bool:
    """Whether nobody has set up an event here yet."""
    return not Event.objects.exists()
