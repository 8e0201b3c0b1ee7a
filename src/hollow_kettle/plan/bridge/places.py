"""Minutes of walking between an event's places."""

from __future__ import annotations

from hollow_kettle.plan.models import Event, Site, Station, Walk
from powercore.physics.places import walking_min


def walk_minutes(
    event: Event, sites: list[Site] | None = None
) -> dict[tuple[int, int], int]:
    """Walking minutes between every pair of sites, both ways."""
    sites = list(event.sites.all()) if sites is None else sites
    stated = {
        (walk.a_id, walk.b_id): walk.minutes
        for walk in Walk.objects.filter(a__event=event)
    }
    minutes = {}
    for a in sites:
        for b in sites:
            if a.pk == b.pk:
                continue
            known = stated.get((a.pk, b.pk), stated.get((b.pk, a.pk)))
            minutes[a.pk, b.pk] = known if known is not None else _from_map(a, b)
    return minutes


def _from_map(a: Site, b: Site) -> int:
    places = (a.latitude, a.longitude, b.latitude, b.longitude)
    if any(value is None for value in places):
        return 10  # nobody said: a plain default, shown as "not known" on the page
    return walking_min(*places)  # type: ignore[arg-type]


def from_yard(
    walks: dict[tuple[int, int], int], yard: Site | None, station: Station
) -> int:
    if yard is None or yard.pk == station.site_id:
        return 1
    return walks[yard.pk, station.site_id]
