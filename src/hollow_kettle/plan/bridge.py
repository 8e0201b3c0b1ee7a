"""Between the plan's models and the core's scenario; the only place that knows both."""

from __future__ import annotations

import json
from collections.abc import Iterable
from datetime import datetime
from uuid import UUID

from django.db.models import Prefetch

from hollow_kettle.log.models import BatteryNow, PlaceKind
from hollow_kettle.shelf.bridge import draw_of, pack_of
from hollow_kettle.shelf.models import Asset, EquipmentStep
from hollow_kettle.shelf.queries import accepted_ah_by_battery
from powercore import scenario as core
from powercore.loads import Opening, Pattern
from powercore.places import walking_min
from powercore.rotation.problem import YARD
from powercore.rotation.problem import Leg as CoreLeg

from .models import Event, Leg, OpenHours, Rotation, Site, Snapshot, Station, Walk


def scenario_of(
    event: Event, at: datetime | None = None, *, is_low_power: bool = False
) -> core.Scenario:
    """
    Return an event as the core sees it, from its start or from a moment on.

    From the start, batteries leave home full. From a moment on, they are where the
    log has them, with the charge they have in the bad 1-in-10 case, so that a plan
    made in the field has slack; minutes count from that moment. With
    `is_low_power`, stations draw what their low step draws.
    """
    from_min = 0
    if at is not None and at > event.starts_at:
        from_min = int(event.minute_of(at))
    stations = list(
        event.stations.select_related("site").prefetch_related(
            "equipment__equipment__steps",
            Prefetch("hours", OpenHours.objects.select_related("pattern")),
        )
    )
    sites = list(event.sites.all())
    walks = walk_minutes(event, sites)
    yard = next((site for site in sites if site.is_yard), None)
    span = event.span_min - from_min
    return core.Scenario(
        name=event.name,
        zone=event.zone,
        starts_at=event.moment_of(from_min).isoformat(),
        span_min=span,
        lateness_min=event.lateness_min,
        stations=tuple(
            _station(
                event,
                station,
                from_min,
                _from_yard(walks, yard, station),
                is_low_power=is_low_power,
            )
            for station in stations
        ),
        batteries=tuple(_batteries(event, is_under_way=from_min > 0)),
        sources=tuple(
            core.SourcePlan(
                key=str(source.pk),
                name=source.name,
                kind=source.kind,
                max_w=source.max_w,
                energy_wh=source.energy_wh,
                windows=_windows(event, source.windows.all(), from_min),
            )
            for source in event.sources.prefetch_related("windows")
        ),
        bays=tuple(
            core.BayPlan(
                key=str(bay.pk),
                name=bay.name,
                source=str(bay.source_id),
                max_w=bay.max_w,
                chemistries=tuple(bay.chemistries.split(",")),
            )
            for bay in event.bays.all()
        ),
        crews=tuple(
            core.CrewPlan(name=crew.name, does=crew.does, start_min=start, end_min=end)
            for crew in event.crews.all()
            for start, end in [_clipped(event, crew.starts_at, crew.ends_at, from_min)]
            if end > start
        ),
    )


def _from_yard(
    walks: dict[tuple[int, int], int], yard: Site | None, station: Station
) -> int:
    if yard is None or yard.pk == station.site_id:
        return 1
    return walks[yard.pk, station.site_id]


def _clipped(
    event: Event, start: datetime, end: datetime, from_min: int
) -> tuple[int, int]:
    """A stretch in whole minutes from `from_min`, inside the event."""
    first = max(0, round(event.minute_of(start)) - from_min)
    last = min(event.span_min, round(event.minute_of(end))) - from_min
    return first, last


def _windows(event: Event, windows: Iterable, from_min: int) -> tuple[core.Window, ...]:
    clipped = [
        _clipped(event, window.starts_at, window.ends_at, from_min)
        for window in windows
    ]
    return tuple(
        core.Window(start_min=start, end_min=end)
        for start, end in clipped
        if end > start
    )


def _station(
    event: Event, station: Station, from_min: int, walk_min: int, *, is_low_power: bool
) -> core.StationPlan:
    loads, lowest, highest = [], 0.0, 1000.0
    for item in station.equipment.all():
        steps = {step.step: step for step in item.equipment.steps.all()}
        wanted = EquipmentStep.LOW if is_low_power else item.step
        step = steps.get(wanted) or steps[EquipmentStep.FULL]
        loads.append(core.Load(draw=draw_of(step), count=item.count))
        lowest = max(lowest, item.equipment.min_v)
        highest = min(highest, item.equipment.max_v)
    openings = []
    for hours in station.hours.all():
        start, end = _clipped(event, hours.starts_at, hours.ends_at, from_min)
        if end > start:
            pattern = Pattern(
                transmit_share=hours.pattern.transmit_share,
                standby_share=hours.pattern.standby_share,
                duty=hours.pattern.duty,
            )
            openings.append(Opening(start_min=start, end_min=end, pattern=pattern))
    return core.StationPlan(
        key=str(station.pk),
        name=station.name,
        tier=station.tier,
        walk_min=walk_min,
        changeover_s=station.changeover_s,
        loads=tuple(loads),
        openings=tuple(openings),
        device_min_v=lowest,
        device_max_v=highest,
        disconnect_v=station.disconnect_v,
    )


def _batteries(event: Event, *, is_under_way: bool) -> list[core.BatteryPlan]:
    assets = list(event.batteries.filter(archived_at=None).select_related("battery"))
    tested = accepted_ah_by_battery([asset.pk for asset in assets])
    nows: dict[UUID, BatteryNow] = {}
    if is_under_way:
        nows = {
            now.battery: now
            for now in BatteryNow.objects.filter(
                battery__in=[asset.pk for asset in assets]
            ).select_related("place")
        }
    return [
        _battery(asset, tested.get(asset.pk), nows.get(asset.pk), is_under_way)
        for asset in assets
    ]


def _battery(
    asset: Asset, tested_ah: float | None, now: BatteryNow | None, is_under_way: bool
) -> core.BatteryPlan:
    place, soc = YARD, 1.0
    if is_under_way:
        soc = now.soc_low if now is not None else 0.0
        if now is not None and now.place is not None:
            if now.place.kind == PlaceKind.POSITION:
                place = str(now.place.station_key)
            elif now.place.kind == PlaceKind.BAY:
                place = str(now.place.pk)
    details = asset.battery
    return core.BatteryPlan(
        key=str(asset.pk),
        tag=asset.tag,
        pack=pack_of(details, tested_ah),
        start_soc=min(1.0, max(0.0, soc)),
        start_place=place,
        max_charge_a=details.max_charge_a,
        max_discharge_a=details.max_discharge_a,
        is_on_hold=bool(asset.hold),
    )


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


def core_legs(rotation: Rotation) -> list[CoreLeg]:
    """Return a rotation's legs in the core's minutes."""
    return [core_leg(leg, rotation.from_min) for leg in rotation.legs.all()]


def core_leg(leg: Leg, from_min: int) -> CoreLeg:
    """Return one leg in the core's minutes."""
    place = {"wait": YARD, "carried": ""}.get(leg.kind, str(leg.place))
    return CoreLeg(
        kind=leg.kind,
        battery=str(leg.battery),
        place=place,
        crew=leg.crew,
        round=leg.round,
        start_min=leg.start_min - from_min,
        end_min=leg.end_min - from_min,
    )
