"""Events: made, changed, their batteries chosen, their states set."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.clock import from_local, is_known_zone, local, shifted
from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.people.models import Actor, Duty, Role
from hollow_kettle.people.services import give_duty
from hollow_kettle.plan.changelog import edits, note
from hollow_kettle.plan.models import (
    Crew,
    Event,
    OpenHours,
    Pin,
    Site,
    SourceWindow,
    Station,
    StationEquipment,
    StationSupply,
)
from hollow_kettle.plan.rows import give
from hollow_kettle.shelf.models import Asset
from powercore import limits
from powercore.values import as_counted


@transaction.atomic
def save_event(
    event: Event | None,
    *,
    name: str,
    zone: str,
    starts: datetime,
    ends: datetime,
    by: Actor | None = None,
    **policy: Any,
) -> Event:
    """
    Make or change an event; times are wall-clock times of its zone.

    A new event gets a charging yard and all batteries of the shelf. Where it begins
    anew and nothing was logged yet, hours, sources and crews move along. `policy` holds
    what else an event has: usual lateness, purpose, own power, skies counted on,
    reserves.

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
    if ends_at - starts_at > timedelta(minutes=limits.SPAN_MIN.high):
        days = limits.SPAN_MIN.high / limits.DAY_MIN
        raise ValidationError({"ends": f"{days:.0f} days is the longest event."})
    is_new = event is None
    event = event or Event()
    was = None if is_new else (event.starts_at, event.zone)
    event.name, event.zone = name, zone
    event.starts_at, event.ends_at = starts_at, ends_at
    give(event, policy)
    changed = "" if is_new else edits(event, zone)
    event.save()
    if changed:
        note(event, by, changed)
    if was is not None and not event.is_logged:
        _move_along(event, *was)
    if is_new:
        note(event, by, "the event was set up")
        Site.objects.create(event=event, name="Charging yard", is_yard=True)
        Place.objects.create(
            event_key=event.pk, kind=PlaceKind.YARD_RACK, name="yard rack"
        )
        event.batteries.set(Asset.objects.batteries())
    return event


def _move_along(event: Event, began_at: datetime, old_zone: str) -> None:
    """Let hours, supplies, sources, crews and pins keep their hour by the clock."""
    was = local(began_at, old_zone).replace(tzinfo=None)
    now = local(event.starts_at, event.zone).replace(tzinfo=None)
    if now == was:
        return

    def moved(moment: datetime | None) -> datetime | None:
        if moment is None:
            return None
        return shifted(moment, now - was, old_zone, event.zone)

    stretches: list[Any] = [
        *OpenHours.objects.filter(station__event=event),
        *StationSupply.objects.filter(station__event=event),
        *SourceWindow.objects.filter(source__event=event),
        *Crew.objects.filter(event=event),
        *Pin.objects.filter(event=event),
    ]
    # The last first where all move ahead, so that none runs into its neighbour.
    stretches.sort(key=lambda row: row.starts_at, reverse=now > was)
    for row in stretches:
        row.starts_at, row.ends_at = moved(row.starts_at), moved(row.ends_at)
        row.save(update_fields=["starts_at", "ends_at"])
    for item in StationEquipment.objects.filter(station__event=event):
        item.used_from, item.used_until = moved(item.used_from), moved(item.used_until)
        item.save(update_fields=["used_from", "used_until"])


@transaction.atomic
def choose_batteries(
    event: Event, uids: list[UUID], *, by: Actor | None = None
) -> None:
    """Say which batteries take part."""
    before = set(event.batteries.values_list("tag", flat=True))
    event.batteries.set(Asset.objects.batteries().filter(pk__in=uids))
    here = event.batteries.values("pk")
    event.joined.exclude(lead__in=here, battery__in=here).delete()
    after = set(event.batteries.values_list("tag", flat=True))
    changed = [f"{tag} takes part" for tag in sorted(after - before, key=as_counted)]
    changed += [f"{tag} stays out" for tag in sorted(before - after, key=as_counted)]
    if changed:
        note(event, by, "; ".join(changed))


@transaction.atomic
def set_state(event: Event, *, state: str, by: Actor | None = None) -> None:
    """
    Start an event, close it, open it again, or take it back to planning.

    Raises
    ------
    ValidationError
        If no way leads there from its state, or back to planning would leave a log.
    """
    now = Event.objects.select_for_update().values_list("state", flat=True)
    event.state = now.get(pk=event.pk)
    if state == event.state:
        return
    if state not in Event.WAYS[Event.State(event.state)]:
        wanted = Event.State(state).label
        raise ValidationError(
            f"{event} is {event.get_state_display()}; from there it can't be {wanted}."
        )
    if state == Event.State.PLANNED and event.is_logged:
        raise ValidationError(
            f"{event} has a log already, so it can't go back to planning; close it."
        )
    event.state = state
    event.save(update_fields=["state"])
    Place.objects.filter(event_key=event.pk, kind=PlaceKind.STATION).update(
        is_open=state != Event.State.CLOSED
    )
    note(event, by, f"the event is {event.get_state_display()}")


@transaction.atomic
def give_role(
    event: Event, actor: Actor, *, role: str, station: Station | None, by: Actor
) -> Duty:
    """Give somebody a role at an event."""
    key = station.pk if station else None
    duty = give_duty(actor, event_key=event.pk, role=role, station_key=key)
    where = f" of {station}" if station else ""
    note(event, by, f"{actor} is {Role(role).label}{where}")
    return duty


@transaction.atomic
def take_role(event: Event, duty: Duty, *, by: Actor) -> None:
    """Take a role away."""
    note(event, by, f"{duty.actor} is no {duty.get_role_display()} any more")
    duty.delete()
