"""
Placements and beliefs follow the log.

Who notes something only appends it. What follows from it is worked out by one at a
time, for all that came meanwhile: by the one who noted it if nobody else is at it, by
the worker where many note at once, by the board when it is opened.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime
from uuid import UUID

from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from hollow_kettle.log import services as log
from hollow_kettle.log.models import FieldEntry, Kind, Waiting
from hollow_kettle.plan.models import Event

from . import beliefs

#: More readings than this at once are worked out with everything else.
FEW = 12


def follow(event: Event, *, passes: int = 1) -> None:
    """
    Work out what follows from entries that came, unless somebody else is at it.

    What came while this ran is left to the worker after so many passes.
    """
    for _ in range(passes):
        if not _one_pass(event):
            return
        if not is_behind(event.pk):
            return
    with suppress(AlreadyEnqueued), transaction.atomic():
        app.configure_task(
            "hollow_kettle.field.tasks.follow_event",
            queueing_lock=f"follow {event.pk}",
        ).defer(event=str(event.pk))


def is_behind(event_key: UUID) -> bool:
    """Whether entries wait to be counted."""
    return Waiting.objects.filter(event_key=event_key).exists()


@transaction.atomic
def _one_pass(event: Event) -> bool:
    """Count all that waits; False: somebody else does, and looks again after."""
    if not log.take(event.pk):
        return False
    entries = log.waiting(event.pk)
    _count(event, entries)
    log.counted(entries)
    return True


def _count(event: Event, entries: Sequence[FieldEntry]) -> None:
    readings = [entry for entry in entries if entry.kind == Kind.READING]
    if len(readings) < len(entries):
        since = log.first_change(entries)
        if since is not None:
            log.rebuild(event.pk, since)
    first: dict[UUID, datetime] = {}
    for entry in readings:
        if entry.battery is not None:
            at = first.get(entry.battery, entry.effective_at)
            first[entry.battery] = min(at, entry.effective_at)
    if not entries:
        return
    physics = beliefs.EventPhysics(event)
    is_small = len(readings) == len(entries) and len(first) <= FEW
    if not is_small or not all(
        beliefs.reading_came(physics, battery, at) for battery, at in first.items()
    ):
        beliefs.work_out(event)
