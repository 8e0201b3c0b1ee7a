"""Who changed who may do what, what counts as the plan, and what counts of the log."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.people.models import Deed
from hollow_kettle.plan.models import ChangeNote, Event

#: Lines of a page.
LINES = 50


@dataclass(frozen=True)
class Line:
    """One thing that somebody did."""

    at: datetime
    who: str
    what: str
    #: The event it was at; empty: the club's people.
    where: str = ""


def lines(before: datetime | None = None) -> list[Line]:
    """
    Return the last things that were done before a moment, by real time.

    Accounts and the club, every change of an event's set-up (roles, passes and what
    was published among them), and entries that were struck. One more than a page
    holds tells that there are older ones.
    """
    found = [*_of_people(before), *_of_events(before), *_of_logs(before)]
    found.sort(key=lambda line: line.at, reverse=True)
    return found[: LINES + 1]


def _of_people(before: datetime | None) -> list[Line]:
    rows = Deed.objects.select_related("by", "about")
    if before is not None:
        rows = rows.filter(at__lt=before)
    return [
        Line(
            row.at,
            str(row.by) if row.by else "the server's command",
            f"{row.get_kind_display()}{f': {row.about}' if row.about else ''}",
        )
        for row in rows[: LINES + 1]
    ]


def _of_events(before: datetime | None) -> list[Line]:
    rows = ChangeNote.objects.select_related("made_by", "event")
    if before is not None:
        rows = rows.filter(made_at__lt=before)
    return [
        Line(row.made_at, str(row.made_by or "somebody"), row.words, row.event.name)
        for row in rows.order_by("-made_at", "-pk")[: LINES + 1]
    ]


def _of_logs(before: datetime | None) -> list[Line]:
    rows = FieldEntry.objects.filter(kind=Kind.STRIKE).select_related("actor")
    if before is not None:
        rows = rows.filter(received_at__lt=before)
    found = list(rows.order_by("-received_at", "-pk")[: LINES + 1])
    struck: dict[UUID | None, FieldEntry] = {
        entry.uid: entry
        for entry in FieldEntry.objects.filter(
            uid__in=[row.strikes for row in found]
        ).select_related("actor")
    }
    names: dict[UUID | None, str] = dict(
        Event.objects.filter(pk__in=[row.event_key for row in found]).values_list(
            "pk", "name"
        )
    )
    return [
        Line(
            row.received_at,
            str(row.actor),
            f"struck {_told(struck.get(row.strikes))}: {row.note or '–'}",
            names.get(row.event_key, ""),
        )
        for row in found
    ]


def _told(entry: FieldEntry | None) -> str:
    if entry is None:
        return "an entry that has not come yet"
    return f"{entry.actor}'s “{entry.get_kind_display()}”"
