"""Corrective actions: what is open, and what keeps coming back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from datetime import date
from uuid import UUID

from django.db.models import Q, QuerySet
from django.db.models.functions import Lower

from hollow_kettle.shelf.models import Action


def actions() -> QuerySet[Action]:
    """All actions, with whom and what they are about."""
    return Action.objects.select_related("owner", "asset", "made_by")


def open_for(stations: Iterable[str], assets: Iterable[UUID]) -> QuerySet[Action]:
    """Open actions about stations of these names, about these things, or about none."""
    names = [name.lower() for name in stations]
    about = Q(name__in=names) | Q(asset__in=list(assets))
    found = actions().annotate(name=Lower("station"))
    return found.filter(about | Q(station="", asset=None), state=Action.State.OPEN)


def themes(found: Iterable[Action]) -> list[tuple[str, int, int]]:
    """What comes back: things and stations with actions of several events; counts."""
    events: dict[str, set[str]] = {}
    counts: Counter[str] = Counter()
    for one in found:
        names = [one.asset.tag] if one.asset else []
        names += [one.station] if one.station else []
        for name in names:
            counts[name] += 1
            events.setdefault(name, set()).add(one.event_name or "")
    back = [
        (name, counts[name], len(events[name]))
        for name in events
        if len(events[name] - {""}) > 1
    ]
    return sorted(back, key=lambda item: (-item[2], -item[1], item[0]))


def is_late(action: Action, today: date) -> bool:
    """Whether its day is past and it is still open."""
    return action.is_open and action.due_on < today
