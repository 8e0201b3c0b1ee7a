"""The change log of an event's set-up: who changed what, and when."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db.models import Field, ForeignKey, Model, QuerySet

from hollow_kettle.clock import told
from hollow_kettle.people.models import Actor

from .models import ChangeNote, Event

#: Letters of a note; a longer one is cut.
LONGEST = 300


def note(event: Event, by: Actor | None, words: str, *, removed: str = "") -> None:
    """
    Write one change down; with what it removed, as `plan.removed` keeps that.

    Nothing is written without `by`: then it is part of a larger change, as a copy of
    an event is, that is written down once.
    """
    if by is None:
        return
    if len(words) > LONGEST:
        words = f"{words[: LONGEST - 1]}…"
    ChangeNote.objects.create(event=event, made_by=by, words=words, removed=removed)


def notes_of(event: Event) -> QuerySet[ChangeNote]:
    """The change log of an event, the latest first."""
    return event.change_notes.select_related("made_by")


def edits(row: Model, zone: str, **others: Any) -> str:
    """
    What differs between a row and what is saved of it, "cloud: 3 → 6; air: 20 → 4".

    `others` are further rows to look at, by the word to say before theirs. Empty
    where nothing differs.
    """
    saved = type(row)._default_manager.filter(pk=row.pk).first()
    if saved is None:
        return ""
    found = []
    for field in row._meta.concrete_fields:
        old, new = getattr(saved, field.attname), getattr(row, field.attname)
        if old != new:
            name = str(field.verbose_name)
            was, now = (_shown(one, field, zone) for one in (saved, row))
            found.append(f"{name}: {was} → {now}")
    found += [words for one in others.values() if (words := edits(one, zone))]
    return "; ".join(found)


def _shown(row: Model, field: Field[Any, Any], zone: str) -> str:
    value = getattr(row, field.attname)
    if value in (None, ""):
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(field, ForeignKey):
        return str(getattr(row, field.name))
    if isinstance(value, datetime):
        return told(value, zone, "%a %d %b %H:%M")
    if isinstance(value, float):
        return f"{value:g}"
    return str(dict(field.flatchoices).get(value, value))
