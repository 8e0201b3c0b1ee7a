"""Listening windows: when a station that is mostly off can be called next."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from hollow_kettle.clock import told
from hollow_kettle.plan.models import Event
from powercore.physics.loads import Opening


def next_call(event: Event, openings: Sequence[Opening], now: datetime) -> str:
    """When a station can be called next, in words; empty where it is not so."""
    minute = event.minute_of(now)
    windows = [
        (start, end)
        for one in openings
        if one.on_for_min
        for start, end in one.stretches
        if end > minute
    ]
    if not windows:
        return ""
    start, end = min(windows)
    begins, until = (told(event.moment_of(at), event.zone) for at in (start, end))
    if start <= minute:
        return f"listens now, until {until}"
    return f"listens {begins}–{until}"
