"""What was removed from an event's set-up is kept for a while, to be brought back."""

from __future__ import annotations

from collections.abc import Iterable

from django.core import serializers
from django.core.exceptions import ValidationError
from django.db import IntegrityError, router, transaction
from django.db.models import Model
from django.db.models.deletion import Collector

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor

from .changelog import note
from .models import ChangeNote, Event
from .models.events import KEPT


def rows_of(root: Model, others: Iterable[Model] = ()) -> str:
    """A row with all that goes when it goes, and some others alone, as text."""
    collector = Collector(using=router.db_for_write(type(root)), origin=root)
    collector.collect([root])
    rows = [row for rows in collector.data.values() for row in rows]
    rows += [row for query in collector.fast_deletes for row in query]
    return serializers.serialize("json", [*others, *rows])


@transaction.atomic
def bring_back(event: Event, number: int, *, by: Actor) -> ChangeNote:
    """
    Bring back what a line of the change log says was removed.

    Raises
    ------
    ValidationError
        If it was brought back already, is too long ago, or its name is in use again.
    """
    line = event.change_notes.select_for_update().filter(pk=number).first()
    if line is None or not line.can_come_back:
        raise ValidationError("That can't be brought back any more.")
    try:
        with transaction.atomic():
            for row in serializers.deserialize("json", line.removed):
                row.save()
    except IntegrityError as error:
        raise ValidationError(
            "Something of the same name stands there again; rename that first."
        ) from error
    line.removed = ""
    line.save(update_fields=["removed"])
    note(event, by, f"brought back: {line.words}")
    return line


def forget_old() -> int:
    """Let go of what can't be brought back any more; how many lines."""
    old = ChangeNote.objects.filter(made_at__lt=real_now() - KEPT).exclude(removed="")
    return old.update(removed="")
