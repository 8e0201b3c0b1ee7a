"""What drawings over an event's time share."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from hollow_kettle.clock import local
from hollow_kettle.ui.drawing import Scale

from .models import Event


def hour_ticks(event: Event, x: Scale) -> list[tuple[float, str]]:
    """Hours across a drawing, in local time."""
    step_h = 1 if event.span_min <= 14 * 60 else 2 if event.span_min <= 40 * 60 else 6
    moment = local(event.starts_at, event.zone).replace(minute=0, second=0)
    found = []
    while event.minute_of(moment) <= event.span_min:
        if event.minute_of(moment) >= 0 and moment.hour % step_h == 0:
            found.append((x(event.minute_of(moment)), f"{moment:%H}"))
        moment += timedelta(hours=1)
    return found


def span_of(event: Event) -> dict[str, Any]:
    """An event's start and end by the clock there, as forms begin with them."""
    return {
        "starts": local(event.starts_at, event.zone).replace(tzinfo=None),
        "ends": local(event.ends_at, event.zone).replace(tzinfo=None),
    }
