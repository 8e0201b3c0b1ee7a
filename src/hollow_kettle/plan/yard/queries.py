"""What is in the yard."""

from __future__ import annotations

from django.db.models import QuerySet

from hollow_kettle.plan.models import Bay, Event


def unwatched_bays(event: Event) -> QuerySet[Bay]:
    """Bays that may charge while nobody watches the yard."""
    return event.bays.exclude(unwatched_why="")
