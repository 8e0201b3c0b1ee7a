"""Changes to events and rotations: check, write in one transaction."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Field, Model, ProtectedError, Q, QuerySet
from django.utils.text import slugify

from hollow_kettle.clock import from_local, is_known_zone
from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.shelf.models import Asset, EquipmentType
from powercore.errors import PowercoreError
from powercore.event.scenario import USUAL_PEOPLE
from powercore.physics.loads import Pattern

from .models import (
    Bay,
    Crew,
    Event,
    OpenHours,
    OperatingPattern,
    Site,
    Source,
    SourceWindow,
    Station,
    StationEquipment,
    StationSupply,
    Walk,
)

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
    _give(event, policy)
    event.save()
    if is_new:
        Site.objects.create(event=event, name="Charging yard", is_yard=True)
        Place.objects.create(
            event_key=event.pk, kind=PlaceKind.YARD_RACK, name="yard rack"
        )
        event.batteries.set(Asset.objects.batteries())
    return event


def _give(row: Event | Station, values: dict[str, Any]) -> None:
    """Set what a form or a file says; what is left empty is as usual."""
    for name, value in values.items():
        field = row._meta.get_field(name)
        if value is None and isinstance(field, Field) and not field.null:
            value = field.get_default()
        choices = dict(field.flatchoices) if isinstance(field, Field) else {}
        if choices and value not in choices:
            known = ", ".join(map(str, choices))
            raise ValidationError(
                f"{name.replace('_', ' ').capitalize()} '{str(value)[:40]}' is unknown "
                f"here; it is one of {known}."
            )
        setattr(row, name, value)


@transaction.atomic
def save_station(
    event: Event,
    station: Station | None = None,
    *,
    name: str,
    tier: int = 2,
    purpose: str = "",
    changeover_s: int | None = None,
    disconnect_v: float | None = None,
    latitude: float | None = None,
    longitude: float | None = None,
    walk_min: int | None = None,
    **power: Any,
) -> Station:
    """
    Add a station with its site and its position, or change one.

    `power` holds what else a station has: reconnect, rest, main fuse, feed, words.

    Raises
    ------
    ValidationError
        If the name is taken at this event.
    """
    here = event.stations.select_for_update()
    if station is not None and not here.filter(pk=station.pk).exists():
        raise ValidationError(
            f"{station.name} was taken out of the event meanwhile; nothing was kept. "
            "Add it again if it is wanted."
        )
    twin = event.stations.filter(name__iexact=name).exclude(
        pk__in=[station.pk] if station else []
    )
    if twin.exists() or name.casefold() == "charging yard":
        raise ValidationError({"name": f"{name} is there already."})
    if station is None:
        site = Site.objects.create(event=event, name=name)
        station = Station(event=event, site=site)
    station.name, station.tier, station.purpose = name, tier, purpose
    station.changeover_s = 120 if changeover_s is None else changeover_s
    station.disconnect_v = disconnect_v
    _give(station, power)
    station.save()
    site = station.site
    site.name, site.latitude, site.longitude = name, latitude, longitude
    site.save()
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
    if walk_min is not None:
        yard = event.sites.get(is_yard=True)
        state_walk(yard, site, minutes=walk_min)
    return station


def _forget(places: QuerySet[Place]) -> None:
    """Delete places; ValidationError where an entry names one, a struck one too."""
    if places.filter(placement__isnull=False).exists():
        raise ValidationError("Batteries were logged there, so it has to stay.")
    try:
        places.delete()
    except ProtectedError as error:
        raise ValidationError(
            "Entries of the log name it (also struck or waiting ones), so it has to "
            "stay."
        ) from error


def remove_station(station: Station) -> None:
    """
    Take a station out of an event.

    Raises
    ------
    ValidationError
        If something was logged there; the log keeps its places.
    """
    with transaction.atomic():
        _forget(Place.objects.filter(station_key=station.pk))
        site = station.site
        station.delete()
        site.delete()


@transaction.atomic
def state_walk(a: Site, b: Site, *, minutes: int | None) -> None:
    """State the walking minutes between two sites; None goes back to the map."""
    Walk.objects.filter(a__in=(a, b), b__in=(a, b)).delete()
    if minutes is not None:
        Walk.objects.create(a=a, b=b, minutes=minutes)


def place_site(
    site: Site,
    *,
    latitude: float | None,
    longitude: float | None,
    altitude_m: float | None = None,
) -> None:
    """Put a site on the map."""
    site.latitude, site.longitude, site.altitude_m = latitude, longitude, altitude_m
    site.save(update_fields=["latitude", "longitude", "altitude_m"])


def add_equipment(
    station: Station,
    *,
    equipment: EquipmentType,
    count: int = 1,
    step: str = "full",
    used_from: datetime | None = None,
    used_until: datetime | None = None,
    **use: Any,
) -> StationEquipment:
    """
    Give a station some equipment; times are wall-clock times of the event's zone.

    `use` holds how it is fed and when it stops: converter, full after, shed at.

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
    return StationEquipment.objects.create(
        station=station,
        equipment=equipment,
        count=count,
        step=step,
        used_from=first,
        used_until=last,
        **{name: value for name, value in use.items() if value is not None},
    )


def add_supply(
    station: Station, *, starts: datetime, ends: datetime, **values: Any
) -> StationSupply:
    """
    Give a station mains, a vehicle or a generator of its own for a while.

    Raises
    ------
    ValidationError
        If it ends before it starts.
    """
    starts_at, ends_at = _expanded(station.event, starts, ends)
    return StationSupply.objects.create(
        station=station, starts_at=starts_at, ends_at=ends_at, **values
    )


def _expanded(
    event: Event, starts: datetime, ends: datetime
) -> tuple[datetime, datetime]:
    starts_at, ends_at = from_local(starts, event.zone), from_local(ends, event.zone)
    if ends_at <= starts_at:
        raise ValidationError({"ends": "It must end after it starts."})
    return starts_at, ends_at


def add_hours(
    station: Station,
    *,
    starts: datetime,
    ends: datetime,
    pattern: OperatingPattern,
    step: str = "full",
    on_for_min: int | None = None,
    every_min: int | None = None,
) -> OpenHours:
    """
    Open a station for a while; wall-clock times of the event's zone.

    Raises
    ------
    ValidationError
        If it ends before it starts, or overlaps other hours of the station.
    """
    starts_at, ends_at = _expanded(station.event, starts, ends)
    if station.hours.filter(starts_at__lt=ends_at, ends_at__gt=starts_at).exists():
        raise ValidationError(
            {"starts": f"{station.name} is open then already; hours must not overlap."}
        )
    if on_for_min and (every_min or 0) < on_for_min:
        raise ValidationError(
            {"every_min": "A listening window must end before the next one begins."}
        )
    return OpenHours.objects.create(
        station=station,
        starts_at=starts_at,
        ends_at=ends_at,
        pattern=pattern,
        step=step,
        on_for_min=on_for_min or 0,
        every_min=(every_min or 0) if on_for_min else 0,
    )


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


@transaction.atomic
def add_source(
    event: Event,
    *,
    name: str,
    kind: str,
    max_w: float,
    energy_wh: float | None,
    starts: datetime,
    ends: datetime,
    **limits: Any,
) -> Source:
    """
    Add a source with the first stretch in which it may run.

    `limits` holds what else a source has: apparent power, other things on it, quiet
    hours, fuel.

    Raises
    ------
    ValidationError
        If a buffer bank holds nothing known, quiet hours have one end only, or the
        fuel is half stated.
    """
    if kind == Source.Kind.BUFFER and energy_wh is None:
        raise ValidationError(
            {"energy_wh": "A buffer bank runs dry: say what it holds."}
        )
    check_source(energy_wh=energy_wh, **limits)
    starts_at, ends_at = _expanded(event, starts, ends)
    given = {key: value for key, value in limits.items() if value is not None}
    source = Source.objects.create(
        event=event, name=name, kind=kind, max_w=max_w, energy_wh=energy_wh, **given
    )
    SourceWindow.objects.create(source=source, starts_at=starts_at, ends_at=ends_at)
    return source


def check_source(
    *,
    energy_wh: float | None = None,
    capacity_wh: float | None = None,
    quiet_from: Any = None,
    quiet_until: Any = None,
    quarter_l_h: float | None = None,
    full_l_h: float | None = None,
    tank_l: float | None = None,
    **_: Any,
) -> None:
    """
    Check what of a source must fit together.

    Raises
    ------
    ValidationError
        Naming the field that doesn't.
    """
    if (quiet_from is None) != (quiet_until is None):
        raise ValidationError({"quiet_until": "Quiet hours need both their ends."})
    if energy_wh is not None and capacity_wh is not None and capacity_wh < energy_wh:
        raise ValidationError(
            {"capacity_wh": f"It holds {energy_wh:g} Wh, so it can hold at least that."}
        )
    fuel = (quarter_l_h, full_l_h, tank_l)
    if any(value is not None for value in fuel) and None in fuel:
        raise ValidationError(
            {"tank_l": "For its fuel state the tank and both consumptions."}
        )
    if quarter_l_h and full_l_h and full_l_h < quarter_l_h:
        raise ValidationError(
            {"full_l_h": "At full power it burns no less than at a quarter."}
        )


def change_source(source: Source, **values: Any) -> Source:
    """
    Change a source's limits.

    Raises
    ------
    ValidationError
        If what is stated does not fit together.
    """
    check_source(**values)
    if source.kind == Source.Kind.BUFFER and values.get("energy_wh") is None:
        raise ValidationError(
            {"energy_wh": "A buffer bank runs dry: say what it holds."}
        )
    if (values.get("filled_from") is None) != (not values.get("fill_w")):
        raise ValidationError(
            {"fill_w": "Say both what fills it and with how many watts."}
        )
    for name, value in values.items():
        setattr(source, name, 0.0 if name == "fill_w" and value is None else value)
    source.save()
    return source


def add_window(source: Source, *, starts: datetime, ends: datetime) -> SourceWindow:
    """Let a source run for another stretch."""
    starts_at, ends_at = _expanded(source.event, starts, ends)
    return SourceWindow.objects.create(
        source=source, starts_at=starts_at, ends_at=ends_at
    )


@transaction.atomic
def add_bay(
    event: Event,
    *,
    name: str,
    source: Source,
    max_w: float,
    chemistries: list[str],
    ends_itself: bool = False,
    unwatched_why: str = "",
) -> Bay:
    """Add a bay to the yard; it is a place where one battery can be."""
    bay = Bay.objects.create(
        event=event,
        name=name,
        source=source,
        max_w=max_w,
        chemistries=",".join(chemistries),
        ends_itself=ends_itself,
        unwatched_why=unwatched_why,
    )
    Place.objects.create(uid=bay.pk, event_key=event.pk, kind=PlaceKind.BAY, name=name)
    return bay


@transaction.atomic
def change_bay(bay: Bay, *, chemistries: list[str], **values: Any) -> Bay:
    """Change a bay; rotations made before stay as they are."""
    bay.chemistries = ",".join(chemistries)
    for name, value in values.items():
        setattr(bay, name, value)
    bay.save()
    Place.objects.filter(pk=bay.pk).update(name=bay.name)
    return bay


def add_crew(
    event: Event,
    *,
    name: str,
    does: str,
    starts: datetime,
    ends: datetime,
    people: int = USUAL_PEOPLE,
) -> Crew:
    """Put people on duty."""
    starts_at, ends_at = _expanded(event, starts, ends)
    return Crew.objects.create(
        event=event,
        name=name,
        does=does,
        people=people,
        starts_at=starts_at,
        ends_at=ends_at,
    )


def remove(row: Model) -> None:
    """
    Remove a row of an event's set-up.

    Raises
    ------
    ValidationError
        If something else depends on it.
    """
    with transaction.atomic():
        if isinstance(row, Bay):
            _forget(Place.objects.filter(pk=row.pk))
        if isinstance(row, Source) and row.bays.exists():
            raise ValidationError("Bays are fed from it; remove them first.")
        row.delete()


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
