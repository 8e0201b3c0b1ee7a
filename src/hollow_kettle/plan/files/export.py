"""An event as one open file, its places as GeoJSON, its hours as iCalendar."""

from __future__ import annotations

import json
from typing import Any

from hollow_kettle.exchange.calendars import Entry, as_ical
from hollow_kettle.plan.bridge.rotations import with_pins
from hollow_kettle.plan.bridge.scenario import scenario_of
from hollow_kettle.plan.models import Event
from powercore.event import scenario as core


def export_scenario(event: Event) -> bytes:
    """
    Return the whole event as a scenario file, with its pins as they stand.

    Raises
    ------
    PowercoreError
        If what is noted of it makes no sense together.
    """
    scenario = with_pins(event, scenario_of(event, as_logged=False), from_min=0)
    return json.dumps(
        json.loads(core.encode(scenario)), indent=1, ensure_ascii=False
    ).encode()


def places_geojson(event: Event) -> bytes:
    """Places of an event that are on the map, as GeoJSON (RFC 7946)."""
    stations = {one.site_id: one for one in event.stations.all()}
    features = []
    for site in event.sites.exclude(latitude=None).exclude(longitude=None):
        station = stations.get(site.pk)
        properties: dict[str, Any] = {"name": site.name, "kind": "yard"}
        if station is not None:
            properties |= {
                "kind": "station",
                "tier": station.tier,
                "purpose": station.purpose,
            }
        features.append(
            {
                "type": "Feature",
                "geometry": {
                    "type": "Point",
                    "coordinates": [site.longitude, site.latitude],
                },
                "properties": properties,
            }
        )
    found = {"type": "FeatureCollection", "features": features}
    return json.dumps(found, indent=1, ensure_ascii=False).encode()


def hours_calendar(event: Event) -> bytes:
    """Open hours of stations and duties of crews, as iCalendar (RFC 5545)."""
    entries = []
    for station in event.stations.prefetch_related("hours__pattern"):
        for hours in station.hours.all():
            words = f"{station.name}: {hours.pattern.name}"
            if hours.step != "full":
                words += f", {hours.get_step_display()}"
            entries.append(
                Entry(
                    key=f"hours-{hours.pk}-{event.pk}",
                    words=words,
                    starts_at=hours.starts_at,
                    ends_at=hours.ends_at,
                    location=station.name,
                )
            )
    entries += [
        Entry(
            key=f"crew-{crew.pk}-{event.pk}",
            words=f"{crew.name} {crew.get_does_display()}",
            starts_at=crew.starts_at,
            ends_at=crew.ends_at,
        )
        for crew in event.crews.all()
    ]
    return as_ical(event.name, entries)
