"""An event as the core's scenario, and as a snapshot that stays."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import datetime

from django.db.models import Prefetch

from hollow_kettle.plan.models import Event, OpenHours, Site, Snapshot, Station
from powercore.event import scenario as core
from powercore.event.plans import CrewPlan, Spot
from powercore.event.problem import YARD
from powercore.limits import USUAL_LEAD_MIN

from .batteries import batteries_of, placed
from .bays import bays_of
from .moving import arrived, free_from, moves_under_way
from .places import from_yard, walk_minutes
from .sources import faulty_now, outages_of, source_of
from .stations import news_of_draws, station_of
from .sun import arrays_by_place, sky_hours, sky_site
from .windows import clipped


def scenario_of(
    event: Event,
    at: datetime | None = None,
    *,
    as_logged: bool = True,
    lead_min: int = USUAL_LEAD_MIN,
) -> core.Scenario:
    """
    Return an event as the core sees it, from its start or from a moment on.

    What the log says of sources counts over what was planned, unless only the plan is
    asked for: one that was switched off gives nothing until it is on again. From a
    moment on, a station draws what readings say, where they say that its plan is wrong.

    From the start, batteries leave home full. From a moment on, they are where the
    log has them, with the charge they have in the bad 1-in-10 case, so that a plan
    made in the field has slack; minutes count from that moment. Walks under way are
    finished first, and nobody sets off anew within the lead.
    """
    from_min = 0
    if at is not None and at > event.starts_at:
        from_min = int(event.minute_of(at))
    stations = list(
        event.stations.select_related("site").prefetch_related(
            "equipment__equipment__steps",
            Prefetch("hours", OpenHours.objects.select_related("pattern")),
            "supplies",
        )
    )
    sites = list(event.sites.prefetch_related("horizon"))
    walks = walk_minutes(event, sites)
    yard = next((site for site in sites if site.is_yard), None)
    arrays = arrays_by_place(event, sites)
    off = outages_of(event, from_min) if as_logged else {}
    draws = news_of_draws(event) if as_logged and from_min > 0 else {}
    carried = moves_under_way(event, stations) if from_min > 0 else []
    batteries = batteries_of(event, is_under_way=from_min > 0)
    faulty = faulty_now(event) if as_logged and from_min > 0 else set()
    bays = tuple(bay for bay in bays_of(event) if bay.key not in faulty)
    return core.Scenario(
        name=event.name,
        zone=event.zone,
        starts_at=event.moment_of(from_min).isoformat(),
        span_min=event.span_min - from_min,
        lateness_min=event.lateness_min,
        purpose=event.purpose,
        is_own_power=event.is_own_power,
        first_tier_sky=event.first_tier_sky,
        other_sky=event.other_sky,
        yard_sky=event.yard_sky,
        settle_min=event.settle_min,
        yard_cold_c=event.yard_cold_c,
        two_at_night=event.two_at_night,
        site=sky_site(sites),
        sky=tuple(sky_hours(event, from_min, as_logged=as_logged)),
        sky_origin=event.sky_origin,
        spots=tuple(_spots(sites, stations)),
        stations=tuple(
            station_of(
                event,
                station,
                from_min,
                from_yard(walks, yard, station),
                arrays[station.pk],
                station.draws * draws.get(station.pk, 1.0),
            )
            for station in stations
        ),
        batteries=tuple(placed(stations, bays, arrived(batteries, carried))),
        sources=tuple(
            source_of(
                event, source, from_min, arrays[source.pk], off.get(source.pk, ())
            )
            for source in event.sources.prefetch_related("windows")
        ),
        bays=bays,
        crews=tuple(_crews(event, from_min, lead_min, free_from(carried))),
        is_under_way=from_min > 0,
        lithium_reserve=_share(event.lithium_reserve_pct),
        lead_reserve=_share(event.lead_reserve_pct),
    )


def _share(percent: float | None) -> float | None:
    return None if percent is None else percent / 100


def _crews(
    event: Event, from_min: int, lead_min: int, free: Mapping[str, int]
) -> Iterable[CrewPlan]:
    for crew in event.crews.all():
        start, end = clipped(event, crew.starts_at, crew.ends_at, from_min)
        if from_min > 0 and crew.does == "walks":
            back = free.get(crew.name, 0) - from_min
            start = max(start, lead_min, back)
        if end > start:
            yield CrewPlan(
                name=crew.name,
                does=crew.does,
                start_min=start,
                end_min=end,
                people=crew.people,
            )


def _spots(sites: list[Site], stations: list[Station]) -> Iterable[Spot]:
    keys = {station.site_id: str(station.pk) for station in stations}
    for site in sites:
        if site.latitude is not None and site.longitude is not None:
            yield Spot(
                key=YARD if site.is_yard else keys.get(site.pk, site.name),
                latitude=site.latitude,
                longitude=site.longitude,
            )


def snapshot_of(event: Event, scenario: core.Scenario) -> Snapshot:
    """Freeze a scenario; equal scenarios share one snapshot."""
    snapshot, _ = Snapshot.objects.get_or_create(
        event=event,
        sha256=core.sha256_of(scenario),
        defaults={
            "schema_version": core.SCHEMA_VERSION,
            "content": json.loads(core.encode(scenario)),
        },
    )
    return snapshot


def scenario_from(snapshot: Snapshot) -> core.Scenario:
    """Return what a snapshot froze."""
    return core.decode(json.dumps(snapshot.content).encode())
