"""Listening windows: when a station that is mostly off can be called next."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from hollow_kettle.clock import local
from hollow_kettle.plan.models import Event, OpenHours


@dataclass(frozen=True, slots=True)
class Listening:
    """Hours in which a station is on for some minutes, every so many."""

    starts_at: datetime
    ends_at: datetime
    on_for: timedelta
    every: timedelta

    def window(self, now: datetime) -> tuple[datetime, datetime] | None:
        """The window that is open, else the next; None when there is none any more."""
        at = max(now, self.starts_at)
        start = self.starts_at + (at - self.starts_at) // self.every * self.every
        if start + self.on_for <= at:
            start += self.every
        end = min(start + self.on_for, self.ends_at)
        return (start, end) if start < self.ends_at else None


def listening_of(event: Event) -> dict[UUID, list[Listening]]:
    """Listening hours of an event's stations, in order; one query."""
    found: dict[UUID, list[Listening]] = {}
    hours = OpenHours.objects.filter(
        station__event=event, on_for_min__gt=0, every_min__gt=0
    )
    for row in hours.order_by("starts_at"):
        found.setdefault(row.station_id, []).append(
            Listening(
                row.starts_at,
                row.ends_at,
                timedelta(minutes=row.on_for_min),
                timedelta(minutes=row.every_min),
            )
        )
    return found


def next_call(hours: list[Listening], now: datetime, zone: str) -> str:
    """When a station can be called next, in words; empty where it is not so."""
    windows = [
        found
        for one in hours
        if one.ends_at > now and (found := one.window(now)) is not None
    ]
    if not windows:
        return ""
    start, end = min(windows)
    until = f"{local(end, zone):%H:%M}"
    if start <= now:
        return f"listens now, until {until}"
    return f"listens {local(start, zone):%H:%M}–{until}"
