"""Panels and sky as the core has them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime
from uuid import UUID

from hollow_kettle.log.models import SkySeen
from hollow_kettle.plan.models import Event, PanelArray, Site
from powercore.event.plans import SkyHour
from powercore.event.seen import SeenSky, with_seen
from powercore.physics.wiring import Wire
from powercore.sun.arrays import Array
from powercore.sun.arrays import Site as SkySite

from .windows import minute_of_day


def sky_site(sites: Iterable[Site]) -> SkySite | None:
    """Where the sky is looked at: the yard, else the first place on the map."""
    for site in sorted(sites, key=lambda site: not site.is_yard):
        if site.latitude is not None and site.longitude is not None:
            return SkySite(
                latitude=site.latitude,
                longitude=site.longitude,
                altitude_m=site.altitude_m or 0.0,
            )
    return None


def sky_hours(event: Event, from_min: int, *, as_logged: bool) -> Iterable[SkyHour]:
    """
    The sky from a minute on: as forecast, but as it was seen where somebody noted it.

    What held before is its first entry.
    """

    def minute(at: datetime) -> int:
        return round(event.minute_of(at)) - from_min

    forecast = [
        SkyHour(
            start_min=minute(hour.at),
            oktas=hour.oktas,
            air_c=hour.air_c,
            wind_ms=hour.wind_ms,
            global_w=hour.global_w,
            beam_w=hour.beam_w,
            diffuse_w=hour.diffuse_w,
        )
        for hour in event.sky.all()
    ]
    rows = SkySeen.objects.filter(event_key=event.pk) if as_logged else ()
    seen = (
        SeenSky(
            start_min=minute(row.started_at),
            end_min=minute(row.ended_at),
            oktas=row.oktas,
        )
        for row in rows
    )
    before = None
    for hour in with_seen(forecast, seen):
        if hour.start_min <= 0:
            before = replace(hour, start_min=0)
            continue
        if before is not None:
            yield before
            before = None
        if hour.start_min < event.span_min - from_min:
            yield hour
    if before is not None:
        yield before


def arrays_by_place(event: Event, sites: list[Site]) -> dict[UUID, tuple[Array, ...]]:
    """Panels by the station or the source they feed."""
    horizons = {
        site.pk: tuple((point.azimuth, point.height) for point in site.horizon.all())
        for site in sites
    }
    yard = next((site.pk for site in sites if site.is_yard), None)
    found: dict[UUID, tuple[Array, ...]] = defaultdict(tuple)
    for row in event.arrays.select_related("station"):
        where = row.station.site_id if row.station else yard
        owner = row.station_id or row.source_id
        if owner is not None:
            horizon = horizons.get(where, ()) if where is not None else ()
            found[owner] += (array_of(row, horizon),)
    return found


def array_of(row: PanelArray, horizon: tuple[tuple[float, float], ...] = ()) -> Array:
    """
    Return panels as the core sees them.

    Raises
    ------
    powercore.errors.PowercoreError
        If what is noted of them makes no sense together.
    """
    cable = Wire(length_m=row.cable_m, awg=row.cable_awg)
    return Array(
        name=row.name,
        vmp_v=row.vmp_v,
        imp_a=row.imp_a * row.count,
        voc_v=row.voc_v,
        isc_a=row.isc_a * row.count,
        power_per_c=row.power_pct_per_c / 100,
        tilt=row.tilt,
        azimuth=row.azimuth,
        turns=row.turns,
        is_on_ground=row.is_on_ground,
        method=row.method,
        max_a=row.max_a,
        cable_ohm=cable.resistance_ohm,
        dirt=row.dirt_pct / 100,
        factor=row.factor,
        lit_from_min=minute_of_day(row.lit_from, 0),
        lit_until_min=minute_of_day(row.lit_until, 1440),
        horizon=horizon,
    )
