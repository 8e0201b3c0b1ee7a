"""Stations: made, changed, given equipment, hours and supplies."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Q
from django.utils.text import slugify

from hollow_kettle.clock import from_local
from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.changelog import edits, note
from hollow_kettle.plan.models import (
    Event,
    OpenHours,
    OperatingPattern,
    Site,
    Station,
    StationEquipment,
    StationSupply,
)
from hollow_kettle.plan.removed import rows_of
from hollow_kettle.plan.rows import expanded, forget, give
from hollow_kettle.plan.yard.services import state_walk
from hollow_kettle.shelf.models import EquipmentType
from powercore.errors import PowercoreError
from powercore.physics.loads import Pattern

#: What a station is where nothing is said; None: as the model has it.
PLAIN = {"tier": 2, "purpose": "", "changeover_s": None, "disconnect_v": None}


@transaction.atomic
def save_station(
    event: Event,
    station: Station | None = None,
    *,
    name: str,
    walk_min: int | None = None,
    by: Actor | None = None,
    **values: Any,
) -> Station:
    """
    Add a station with its site and its position, or change one.

    `values` hold what else a station has: tier, place on the map, volts, changeover,
    main fuse, feed, words. What is `PLAIN` becomes so where nothing is said of it.

    Raises
    ------
    ValidationError
        If the name is taken at this event.
    """
    here = event.stations.select_for_update()
    if station is not None and not here.filter(pk=station.pk).exists():
        raise ValidationError(
            f"{station.name} was removed from the event meanwhile; nothing was saved. "
            "Add it again if you want it."
        )
    twin = event.stations.filter(name__iexact=name).exclude(
        pk__in=[station.pk] if station else []
    )
    if twin.exists() or name.casefold() == "charging yard":
        raise ValidationError({"name": f"{name} is there already."})
    if is_new := station is None:
        site = Site.objects.create(event=event, name=name)
        station = Station(event=event, site=site)
    site = station.site
    site.latitude = values.pop("latitude", None)
    site.longitude = values.pop("longitude", None)
    station.name = site.name = name
    learned = station.draws
    give(station, PLAIN | values)
    if station.draws != learned:  # by hand
        station.draws_from = values.get("draws_from", "")
    if is_new:
        note(event, by, f"station {name} added")
    elif changed := edits(station, event.zone, site=site):
        note(event, by, f"{name}: {changed}")
    station.save()
    site.save()
    _open_places(station)
    if walk_min is not None:
        state_walk(event.sites.get(is_yard=True), site, minutes=walk_min, by=by)
    return station


def _open_places(station: Station) -> None:
    """Where a station's battery stands, and its other gear."""
    event, name = station.event, station.name
    Place.objects.update_or_create(
        event_key=event.pk,
        station_key=station.pk,
        kind=PlaceKind.POSITION,
        ordinal=1,
        defaults={"name": name},
    )
    # Where gear that is no battery in service stands: kits, chargers, spares.
    Place.objects.update_or_create(
        event_key=event.pk,
        station_key=station.pk,
        kind=PlaceKind.STATION,
        defaults={
            "name": f"{name}, {event.name}"[:80],
            "is_open": event.state != Event.State.CLOSED,
        },
    )


def remove_station(station: Station, *, by: Actor | None = None) -> None:
    """
    Take a station out of an event.

    Raises
    ------
    ValidationError
        If something was logged there; the log keeps its places.
    """
    with transaction.atomic():
        places = Place.objects.filter(station_key=station.pk)
        site = station.site
        kept = rows_of(station, [site, *places])
        forget(places)
        note(station.event, by, f"station {station} removed", removed=kept)
        station.delete()
        site.delete()


@transaction.atomic
def add_equipment(
    station: Station,
    *,
    equipment: EquipmentType,
    used_from: datetime | None = None,
    used_until: datetime | None = None,
    by: Actor | None = None,
    **use: Any,
) -> StationEquipment:
    """
    Give a station some equipment; times are wall-clock times of the event's zone.

    `use` holds how many there are, their power step, how they are fed and when they
    stop: converter, full after, shed at.

    Raises
    ------
    ValidationError
        If it is used until before it is used from.
    """
    zone = station.event.zone
    first = from_local(used_from, zone) if used_from else None
    last = from_local(used_until, zone) if used_until else None
    if first and last and last <= first:
        raise ValidationError({"used_until": "It must end after it starts."})
    row = StationEquipment.objects.create(
        station=station,
        equipment=equipment,
        used_from=first,
        used_until=last,
        **{name: value for name, value in use.items() if value is not None},
    )
    note(station.event, by, f"{station}: {row} added")
    return row


@transaction.atomic
def add_supply(
    station: Station,
    *,
    starts: datetime,
    ends: datetime,
    by: Actor | None = None,
    **values: Any,
) -> StationSupply:
    """
    Give a station mains, a vehicle or a generator of its own for a while.

    Raises
    ------
    ValidationError
        If it ends before it starts.
    """
    starts_at, ends_at = expanded(station.event, starts, ends)
    row = StationSupply.objects.create(
        station=station, starts_at=starts_at, ends_at=ends_at, **values
    )
    note(station.event, by, f"{station}: {row} added, {row.max_w:g} W")
    return row


@transaction.atomic
def add_hours(
    station: Station,
    *,
    starts: datetime,
    ends: datetime,
    pattern: OperatingPattern,
    by: Actor | None = None,
    **how: Any,
) -> OpenHours:
    """
    Open a station for a while; wall-clock times of the event's zone.

    `how` is the power step, and a listening window: on for so many minutes
    (`on_for_min`) in so many (`every_min`).

    Raises
    ------
    ValidationError
        If it ends before it starts, or overlaps other hours of the station.
    """
    starts_at, ends_at = expanded(station.event, starts, ends)
    if station.hours.filter(starts_at__lt=ends_at, ends_at__gt=starts_at).exists():
        raise ValidationError(
            {"starts": f"{station.name} is open then already; hours must not overlap."}
        )
    on_for_min = how.get("on_for_min") or 0
    every_min = how.get("every_min") or 0
    if on_for_min and every_min < on_for_min:
        raise ValidationError(
            {"every_min": "A listening window must end before the next one begins."}
        )
    row = OpenHours.objects.create(
        station=station,
        starts_at=starts_at,
        ends_at=ends_at,
        pattern=pattern,
        step=how.get("step", "full"),
        on_for_min=on_for_min,
        every_min=every_min if on_for_min else 0,
    )
    note(
        station.event,
        by,
        f"{station} open {starts:%a %H:%M} – {ends:%a %H:%M}, {pattern}",
    )
    return row


def add_pattern(
    *, name: str, transmit_pct: float, duty_pct: float, standby_pct: float
) -> OperatingPattern:
    """
    Put a way of operating into the library.

    Raises
    ------
    ValidationError
        If its name is taken, or its shares pass the whole time.
    """
    key = slugify(name)[:40]
    taken = OperatingPattern.objects.filter(Q(pk=key) | Q(name__iexact=name))
    if not key or taken.exists():
        raise ValidationError({"name": f"{name} is in the library already."})
    shares = {
        "transmit_share": transmit_pct / 100,
        "duty": duty_pct / 100,
        "standby_share": standby_pct / 100,
    }
    try:
        Pattern(**shares)
    except PowercoreError as error:
        raise ValidationError({"standby_pct": str(error)}) from error
    return OperatingPattern.objects.create(
        key=key, name=name, origin="typed by the club", **shares
    )
