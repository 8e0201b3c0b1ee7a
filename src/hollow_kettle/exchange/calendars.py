"""Entries of a calendar as iCalendar (RFC 5545)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from icalendar import Calendar
from icalendar import Event as CalendarEvent

from hollow_kettle.clock import real_now


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One entry; `key` tells it apart from every other, also later on."""

    key: str
    words: str
    starts_at: datetime
    ends_at: datetime
    location: str = ""
    more: str = ""


def as_ical(name: str, entries: Iterable[Entry]) -> bytes:
    """A calendar with these entries."""
    calendar = Calendar()
    calendar.add("prodid", "-//Hollow Kettle//plan//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", name)
    stamp = real_now().astimezone(UTC)
    for one in entries:
        entry = CalendarEvent()
        entry.add("uid", f"{one.key}@hollow-kettle.invalid")
        entry.add("dtstamp", stamp)
        entry.add("dtstart", one.starts_at.astimezone(UTC))
        entry.add("dtend", one.ends_at.astimezone(UTC))
        entry.add("summary", one.words)
        if one.location:
            entry.add("location", one.location)
        if one.more:
            entry.add("description", one.more)
        calendar.add_component(entry)
    return calendar.to_ical()
