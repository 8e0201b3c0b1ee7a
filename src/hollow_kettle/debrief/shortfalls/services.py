"""What people make of shortfalls: entered, corrected, joined, cut in two, dropped."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction

from hollow_kettle.clock import real_now
from hollow_kettle.debrief.models import Photo, Shortfall
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.assets.attachments import MAX_PHOTO_BYTES, photo_of

from .queries import Fall

#: Photos of one shortfall.
MOST_PHOTOS = 6


def save(event: Event, fall: Fall | None, *, by: Actor, **values: Any) -> Shortfall:
    """
    Keep a shortfall as somebody says it was.

    What was found stays in the log; the row stands for it from now on. Without a
    fall it is entered by hand.
    """
    row = fall.row if fall else None
    row = row or Shortfall(event=event, covers=list(fall.keys) if fall else [])
    row.station, row.what = values["station"], values["what"]
    row.starts_at, row.ends_at = values["starts"], values["ends"]
    row.why, row.people = values.get("why", ""), values.get("people")
    row.done, row.note = values.get("done", ""), values.get("note", "")
    row.is_dropped, row.made_by, row.made_at = False, by, real_now()
    row.save()
    return row


def drop(event: Event, fall: Fall, *, by: Actor) -> None:
    """Say that a shortfall did not happen; one entered by hand is gone."""
    if fall.row is not None and not fall.row.covers:
        fall.row.delete()
        return
    row = fall.row or _row_of(event, fall)
    row.is_dropped, row.made_by, row.made_at = True, by, real_now()
    row.save()


def bring_back(row: Shortfall) -> None:
    """Count what was found again, as it was found."""
    row.delete()


@transaction.atomic
def merge(event: Event, falls: Sequence[Fall], *, by: Actor) -> Shortfall:
    """
    Make one shortfall of several, from the first start to the last end.

    Raises
    ------
    ValidationError
        If they are fewer than two, of several stations or of several kinds.
    """
    if len(falls) < 2:
        raise ValidationError("Choose at least two to make one of.", code="few")
    if len({(one.station.pk, one.what) for one in falls}) > 1:
        raise ValidationError(
            "Only shortfalls of one station and of one kind can become one.",
            code="differ",
        )
    row = _row_of(event, min(falls, key=lambda one: one.start))
    row.ends_at = max(one.end for one in falls)
    row.covers = list(dict.fromkeys(key for one in falls for key in one.keys))
    row.note = "; ".join(dict.fromkeys(one.note for one in falls if one.note))[:500]
    row.done = "; ".join(
        dict.fromkeys(one.row.done for one in falls if one.row and one.row.done)
    )[:300]
    row.why = next((one.why for one in falls if one.why), "")
    row.made_by, row.made_at = by, real_now()
    before = [one.row.pk for one in falls if one.row]
    row.pk = Shortfall().pk
    row.save(force_insert=True)
    Photo.objects.filter(shortfall__in=before).update(shortfall=row)
    Shortfall.objects.filter(pk__in=before).delete()
    return row


@transaction.atomic
def split(event: Event, fall: Fall, *, at: datetime, by: Actor) -> None:
    """
    Cut a shortfall in two.

    Raises
    ------
    ValidationError
        If the moment is not inside it.
    """
    if not fall.start < at < fall.end:
        raise ValidationError("Cut it between its start and its end.", code="outside")
    first = fall.row or _row_of(event, fall)
    first.made_by, first.made_at = by, real_now()
    later = Shortfall(
        event=event,
        station=first.station,
        what=first.what,
        starts_at=at,
        ends_at=fall.end,
        covers=list(first.covers),
        why=first.why,
        people=first.people,
        done=first.done,
        note=first.note,
        made_by=by,
    )
    first.ends_at = at
    first.save()
    later.save()


@transaction.atomic
def add_photo(
    event: Event, fall: Fall, *, file: UploadedFile, words: str, by: Actor
) -> Photo:
    """
    Keep a photo with a shortfall; one that was only found becomes a row for it.

    Raises
    ------
    ValidationError
        If it is no photo, too large, or there are `MOST_PHOTOS` already.
    """
    try:
        content = photo_of(file.read(MAX_PHOTO_BYTES + 1))
    except ValidationError as error:
        if error.code != "type":
            raise
        raise ValidationError("It must be a JPEG, PNG or WebP photo.") from error
    row = fall.row
    if row is None:
        row = _row_of(event, fall)
        row.made_by = by
        row.save()
    if row.photos.count() >= MOST_PHOTOS:
        raise ValidationError(f"It has {MOST_PHOTOS} already; remove one first.")
    return Photo.objects.create(
        shortfall=row, content=content, words=words, added_by=by
    )


def _row_of(event: Event, fall: Fall) -> Shortfall:
    return Shortfall(
        event=event,
        station=fall.station,
        what=fall.what,
        starts_at=fall.start,
        ends_at=fall.end,
        covers=list(fall.keys),
        why=fall.why,
        people=fall.row.people if fall.row else None,
        done=fall.row.done if fall.row else "",
        note=fall.note,
    )
