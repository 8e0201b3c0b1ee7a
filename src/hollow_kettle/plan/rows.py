"""What services of several subjects do with rows: give, expand, let go, remove."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Field, Model, ProtectedError, QuerySet

from hollow_kettle.clock import from_local
from hollow_kettle.log.models import Place
from hollow_kettle.people.models import Actor

from .changelog import note
from .models import Bay, Event, Source, Station
from .removed import rows_of


def remove(event: Event, row: Model, *, by: Actor | None = None) -> None:
    """
    Remove a row of an event's set-up.

    Raises
    ------
    ValidationError
        If something else depends on it.
    """
    with transaction.atomic():
        if isinstance(row, Source) and row.bays.exists():
            raise ValidationError("Bays are fed from it; remove them first.")
        is_bay = isinstance(row, Bay)
        places = list(Place.objects.filter(pk=row.pk)) if is_bay else []
        kept = rows_of(row, places)
        if isinstance(row, Bay):
            forget(Place.objects.filter(pk=row.pk))
        words = f"{row._meta.verbose_name} {row} removed"
        note(event, by, words, removed=kept)
        row.delete()


def give(row: Event | Station, values: dict[str, Any]) -> None:
    """Set what a form or a file says; what is left empty is as usual."""
    for name, value in values.items():
        field = row._meta.get_field(name)
        if value is None and isinstance(field, Field) and not field.null:
            value = field.get_default()
        choices = dict(field.flatchoices) if isinstance(field, Field) else {}
        if choices and value not in choices:
            known = ", ".join(map(str, choices))
            raise ValidationError(
                f"{name.replace('_', ' ').capitalize()} '{str(value)[:40]}' is "
                f"unknown; choose one of {known}."
            )
        setattr(row, name, value)


def forget(places: QuerySet[Place]) -> None:
    """Delete places; ValidationError where an entry names one, a struck one too."""
    if places.filter(placement__isnull=False).exists():
        raise ValidationError("Batteries were logged there, so it can't be removed.")
    try:
        places.delete()
    except ProtectedError as error:
        raise ValidationError(
            "Log entries name it (struck or waiting ones too), so it can't be removed."
        ) from error


def expanded(
    event: Event, starts: datetime, ends: datetime
) -> tuple[datetime, datetime]:
    """Wall-clock times of an event in UTC; ValidationError where they don't follow."""
    starts_at, ends_at = from_local(starts, event.zone), from_local(ends, event.zone)
    if ends_at <= starts_at:
        raise ValidationError({"ends": "It must end after it starts."})
    return starts_at, ends_at
