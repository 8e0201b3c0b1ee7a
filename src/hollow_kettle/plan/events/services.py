"""Events: made, changed, their batteries chosen, their states set."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.clock import from_local, is_known_zone
from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.plan.models import Event, Site
from hollow_kettle.plan.rows import give
from hollow_kettle.shelf.models import Asset

LONGEST_DAYS = 14


@transaction.atomic
def save_event(
    event: Event | None,
    *,
    name: str,
    zone: str,
    starts: datetime,
    ends: datetime,
    lateness_min: int = 10,
    **policy: Any,
) -> Event:
    """
    Make or change an event; times are wall-clock times of its zone.

    A new event gets a charging yard and all batteries of the shelf. `policy` holds
    what else an event has: purpose, own power, skies counted on, reserves.

    Raises
    ------
    ValidationError
        If the zone is unknown, or it ends before it starts or lasts too long.
    """
    if not is_known_zone(zone):
        raise ValidationError(
            {
                "zone": f"There is no time zone '{zone}'; use an IANA name such as "
                "America/Chicago."
            }
        )
    starts_at, ends_at = from_local(starts, zone), from_local(ends, zone)
    if ends_at <= starts_at:
        raise ValidationError({"ends": "The event must end after it starts."})
    if (ends_at - starts_at).days >= LONGEST_DAYS:
        raise ValidationError({"ends": f"{LONGEST_DAYS} days is the longest event."})
    is_new = event is None
    event = event or Event()
    event.name, event.zone, event.lateness_min = name, zone, lateness_min
    event.starts_at, event.ends_at = starts_at, ends_at
    give(event, policy)
    event.save()
    if is_new:
        Site.objects.create(event=event, name="Charging yard", is_yard=True)
        Place.objects.create(
            event_key=event.pk, kind=PlaceKind.YARD_RACK, name="yard rack"
        )
        event.batteries.set(Asset.objects.batteries())
    return event


def choose_batteries(event: Event, uids: list[UUID]) -> None:
    """Say which batteries take part."""
    event.batteries.set(Asset.objects.batteries().filter(pk__in=uids))
    here = event.batteries.values("pk")
    event.joined.exclude(lead__in=here, battery__in=here).delete()


def set_state(event: Event, *, state: str) -> None:
    """Start an event, close it, or take it back to planning."""
    event.state = state
    event.save(update_fields=["state"])
    Place.objects.filter(event_key=event.pk, kind=PlaceKind.STATION).update(
        is_open=state != Event.State.CLOSED
    )
