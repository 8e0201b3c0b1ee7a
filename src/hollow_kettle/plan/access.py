"""Which events somebody may know of."""

from __future__ import annotations

from uuid import UUID

from django.core.exceptions import PermissionDenied
from django.db.models import QuerySet
from django.http import Http404, HttpRequest
from django.shortcuts import get_object_or_404

from hollow_kettle.people.access import Access, access_of

from .models import Event, Station


def events_visible_to(access: Access) -> QuerySet[Event]:
    """Events a person coordinates or has a duty at."""
    events = Event.objects.all()
    return events if access.is_coordinator else events.filter(pk__in=access.event_keys)


def event_or_404(request: HttpRequest, uid: UUID) -> Event:
    """Return an event, or 404 when the person may not know of it."""
    event = events_visible_to(access_of(request)).filter(pk=uid).first()
    if event is None:
        raise Http404
    return event


def event_to_log(request: HttpRequest, uid: UUID) -> Event:
    """Return an event in which the person logs something; else 404 or 403."""
    event = event_or_404(request, uid)
    if not access_of(request).may_log_something(event.pk):
        raise PermissionDenied
    return event


def station_or_404(event: Event, uid: UUID) -> Station:
    """Return a station of an event, or 404."""
    stations = event.stations.select_related("site", "event")
    return get_object_or_404(stations, pk=uid)
