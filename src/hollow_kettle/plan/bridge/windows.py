"""Moments of an event as minutes of its scenario."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, time

from hollow_kettle.plan.models import Event
from powercore.values import Window


def minute_of_day(at: time | None, default: int) -> int:
    """A time of day as minutes from midnight."""
    return default if at is None else at.hour * 60 + at.minute


def clipped(
    event: Event, start: datetime, end: datetime, from_min: int
) -> tuple[int, int]:
    """A stretch in whole minutes from `from_min`, inside the event."""
    first = max(0, round(event.minute_of(start)) - from_min)
    last = min(event.span_min, round(event.minute_of(end))) - from_min
    return first, last


def windows_of(event: Event, windows: Iterable, from_min: int) -> tuple[Window, ...]:
    """Stretches of an event that are not over, as windows of its scenario."""
    spans = [
        clipped(event, window.starts_at, window.ends_at, from_min) for window in windows
    ]
    return tuple(
        Window(start_min=start, end_min=end) for start, end in spans if end > start
    )
