"""An event copied to another date: everything but its log and its rotations."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime, timedelta
from typing import Any, TypeVar
from uuid import UUID

from django.db import transaction
from django.db.models import Model

from hollow_kettle.clock import local, shifted
from hollow_kettle.people.models import Actor, Duty
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.events.services import save_event
from hollow_kettle.plan.models import Event, Source, Station, Walk
from hollow_kettle.plan.stations.services import save_station
from hollow_kettle.plan.yard.services import add_bay, state_walk

Row = TypeVar("Row", bound=Model)
#: Says what a moment of the old event is in the new one.
Moved = Callable[[datetime], datetime]

_OWN = (
    "purpose",
    "is_own_power",
    "first_tier_sky",
    "other_sky",
    "yard_sky",
    "settle_min",
    "yard_cold_c",
    "two_at_night",
)
_RESERVES = ("lithium_reserve_pct", "lead_reserve_pct")


@transaction.atomic
def copy_event(
    event: Event,
    *,
    name: str,
    starts: datetime,
    with_people: bool = False,
    by: Actor | None = None,
) -> Event:
    """
    Copy an event; `starts` is wall-clock time of its zone.

    Every time of day stays what it was by the clock, also where the clocks change in
    between. Batteries, yard, bays, crews, stations, panels, horizons and policy
    come along; forecast, log and rotations don't.

    Raises
    ------
    ValidationError
        If the new span is not possible.
    """
    zone = event.zone
    was = local(event.starts_at, zone).replace(tzinfo=None)
    later = starts - was

    def moved(moment: datetime) -> datetime:
        return shifted(moment, later, zone)

    new = save_event(
        None,
        name=name,
        zone=zone,
        starts=starts,
        ends=local(event.ends_at, zone).replace(tzinfo=None) + later,
        lateness_min=event.lateness_min,
        copied_from=event,
        **{field: getattr(event, field) for field in (*_OWN, *_RESERVES)},
    )
    new.batteries.set(event.batteries.filter(archived_at=None))
    for row in event.joined.filter(lead__archived_at=None, battery__archived_at=None):
        _again(row, event=new)
    sites = _copy_sites(event, new)
    stations = {}
    for station in event.stations.select_related("site"):
        stations[station.pk] = _copy_station(station, new, moved)
        site = stations[station.pk].site
        sites[station.site_id] = site
        _copy_horizon(station.site, site)
    for walk in _walks(event):
        state_walk(sites[walk.a_id], sites[walk.b_id], minutes=walk.minutes)
    sources = _copy_yard(event, new, moved)
    for crew in event.crews.all():
        _again(crew, event=new, **_times(crew, moved))
    for array in event.arrays.all():
        _again(
            array,
            event=new,
            station=stations[array.station_id] if array.station_id else None,
            source=sources[array.source_id] if array.source_id else None,
        )
    if with_people:
        for duty in Duty.objects.filter(event_key=event.pk, station_key=None):
            _again(duty, event_key=new.pk)
    note(new, by, f"copied from {event}")
    return new


def _copy_yard(event: Event, new: Event, moved: Moved) -> dict[UUID, Source]:
    """Copy sources, and the bays on them; the new sources by the keys of the old."""
    every = event.sources.prefetch_related("windows")
    sources = {source.pk: _copy_source(source, new, moved) for source in every}
    for source in sources.values():
        if source.filled_from_id is not None:
            source.filled_from = sources[source.filled_from_id]
            source.save(update_fields=["filled_from"])
    for bay in event.bays.select_related("charger"):
        add_bay(
            new,
            name=bay.name,
            source=sources[bay.source_id],
            charger=bay.charger,
            max_w=bay.max_w,
            learned_from=bay.learned_from,
            chemistries=bay.chemistries.split(","),
            ends_itself=bay.ends_itself,
            unwatched_why=bay.unwatched_why,
        )
    return sources


def _walks(event: Event) -> Iterable[Any]:
    return Walk.objects.filter(a__event=event)


def _again(row: Row, **changes: Any) -> Row:
    """Save a row once more under a new key."""
    values = {
        field.attname: getattr(row, field.attname)
        for field in row._meta.concrete_fields
        if not field.primary_key
    }
    for name, value in changes.items():
        values.pop(f"{name}_id", None)
        values[name] = value
    return type(row)._default_manager.create(**values)


def _times(row: Any, moved: Moved) -> dict[str, datetime]:
    return {"starts_at": moved(row.starts_at), "ends_at": moved(row.ends_at)}


def _copy_sites(event: Event, new: Event) -> dict[int, Any]:
    old = event.sites.get(is_yard=True)
    yard = new.sites.get(is_yard=True)
    yard.latitude, yard.longitude = old.latitude, old.longitude
    yard.altitude_m = old.altitude_m
    yard.save()
    _copy_horizon(old, yard)
    return {old.pk: yard}


def _copy_horizon(old: Any, new: Any) -> None:
    for point in old.horizon.all():
        _again(point, site=new)


def _copy_station(station: Station, new: Event, moved: Moved) -> Station:
    copy = save_station(
        new,
        name=station.name,
        tier=station.tier,
        purpose=station.purpose,
        changeover_s=station.changeover_s,
        disconnect_v=station.disconnect_v,
        latitude=station.site.latitude,
        longitude=station.site.longitude,
        reconnect_v=station.reconnect_v,
        rest_min=station.rest_min,
        main_fuse_a=station.main_fuse_a,
        feed_m=station.feed_m,
        feed_awg=station.feed_awg,
        spread_pct=station.spread_pct,
        operators=station.operators,
        low_words=station.low_words,
        watch_words=station.watch_words,
        spares=station.spares,
        hazards=station.hazards,
        is_unattended=station.is_unattended,
        weight=station.weight,
        cold_c=station.cold_c,
        draws=station.draws,
        draws_from=station.draws_from,
    )
    for item in station.equipment.all():
        _again(
            item,
            station=copy,
            used_from=moved(item.used_from) if item.used_from else None,
            used_until=moved(item.used_until) if item.used_until else None,
        )
    for row in (*station.hours.all(), *station.supplies.all()):
        _again(row, station=copy, **_times(row, moved))
    return copy


def _copy_source(source: Source, new: Event, moved: Moved) -> Source:
    copy = _again(source, event=new)
    for window in source.windows.all():
        _again(window, source=copy, **_times(window, moved))
    return copy


def next_year(event: Event) -> datetime:
    """The same weekend a year later: 52 weeks on, by the clock."""
    was = local(event.starts_at, event.zone).replace(tzinfo=None)
    return was + timedelta(weeks=52)
