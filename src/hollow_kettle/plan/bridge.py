"""Between the plan's models and the core's scenario; the only place that knows both."""

from __future__ import annotations

import dataclasses
import json
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from datetime import datetime, time, timedelta
from uuid import UUID

from django.db.models import Prefetch

from hollow_kettle.clock import from_local, local
from hollow_kettle.log.models import BatteryNow, PlaceKind
from hollow_kettle.shelf.bridge import draw_of, pack_of
from hollow_kettle.shelf.models import Asset, EquipmentStep
from hollow_kettle.shelf.queries import accepted_ah_by_battery
from powercore.event import scenario as core
from powercore.event.joining import CannotJoin, join
from powercore.event.problem import WAIT, YARD
from powercore.event.problem import Leg as CoreLeg
from powercore.physics.battery import Pack
from powercore.physics.loads import Load, Opening, Pattern
from powercore.physics.places import walking_min
from powercore.physics.wiring import Wire
from powercore.sun.arrays import Array
from powercore.sun.arrays import Site as SkySite
from powercore.sun.sources import Fuel, SourcePlan, Supply
from powercore.values import BUS_V, Window

from .models import (
    Event,
    Leg,
    OpenHours,
    PanelArray,
    Pin,
    Rotation,
    Site,
    Snapshot,
    Source,
    Station,
    StationEquipment,
    Walk,
)
from .policy import reserve_of


def scenario_of(event: Event, at: datetime | None = None) -> core.Scenario:
    """
    Return an event as the core sees it, from its start or from a moment on.

    From the start, batteries leave home full. From a moment on, they are where the
    log has them, with the charge they have in the bad 1-in-10 case, so that a plan
    made in the field has slack; minutes count from that moment.
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
    arrays = _arrays(event, sites)
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
        sky=tuple(_sky(event, from_min)),
        sky_origin=event.sky_origin,
        spots=tuple(_spots(sites, stations)),
        stations=tuple(
            _station(
                event,
                station,
                from_min,
                _from_yard(walks, yard, station),
                arrays[station.pk],
            )
            for station in stations
        ),
        batteries=tuple(
            _placed(event, stations, _batteries(event, is_under_way=from_min > 0))
        ),
        sources=tuple(
            _source(event, source, from_min, arrays[source.pk])
            for source in event.sources.prefetch_related("windows")
        ),
        bays=tuple(
            core.BayPlan(
                key=str(bay.pk),
                name=bay.name,
                source=str(bay.source_id),
                max_w=bay.max_w,
                chemistries=tuple(bay.chemistries.split(",")),
                ends_itself=bay.ends_itself,
                unwatched_why=bay.unwatched_why,
            )
            for bay in event.bays.all()
        ),
        crews=tuple(
            core.CrewPlan(
                name=crew.name,
                does=crew.does,
                start_min=start,
                end_min=end,
                people=crew.people,
            )
            for crew in event.crews.all()
            for start, end in [_clipped(event, crew.starts_at, crew.ends_at, from_min)]
            if end > start
        ),
    )


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


def _spots(sites: list[Site], stations: list[Station]) -> Iterable[core.Spot]:
    keys = {station.site_id: str(station.pk) for station in stations}
    for site in sites:
        if site.latitude is not None and site.longitude is not None:
            yield core.Spot(
                key=YARD if site.is_yard else keys.get(site.pk, site.name),
                latitude=site.latitude,
                longitude=site.longitude,
            )


def _sky(event: Event, from_min: int) -> Iterable[core.SkyHour]:
    """The forecast from a minute on; what held before is its first entry."""
    before = None
    for hour in event.sky.all():
        start = round(event.minute_of(hour.at)) - from_min
        entry = core.SkyHour(
            start_min=max(0, start),
            oktas=hour.oktas,
            air_c=hour.air_c,
            wind_ms=hour.wind_ms,
            global_w=hour.global_w,
            beam_w=hour.beam_w,
            diffuse_w=hour.diffuse_w,
        )
        if start <= 0:
            before = entry
            continue
        if before is not None:
            yield before
            before = None
        if start < event.span_min - from_min:
            yield entry
    if before is not None:
        yield before


def _arrays(event: Event, sites: list[Site]) -> dict[UUID, tuple[Array, ...]]:
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
        lit_from_min=_minute_of_day(row.lit_from, 0),
        lit_until_min=_minute_of_day(row.lit_until, 1440),
        horizon=horizon,
    )


def _minute_of_day(at: time | None, default: int) -> int:
    return default if at is None else at.hour * 60 + at.minute


def _source(
    event: Event, source: Source, from_min: int, arrays: tuple[Array, ...]
) -> SourcePlan:
    fuel = None
    if None not in (source.quarter_l_h, source.full_l_h, source.tank_l):
        fuel = Fuel(
            quarter_l_h=source.quarter_l_h or 0.0,
            full_l_h=source.full_l_h or 0.0,
            tank_l=source.tank_l or 0.0,
            on_hand_l=source.on_hand_l or source.tank_l or 0.0,
            refuel_min=source.refuel_min,
        )
    return SourcePlan(
        key=str(source.pk),
        name=source.name,
        kind=source.kind,
        max_w=source.max_w,
        energy_wh=source.energy_wh,
        capacity_wh=source.capacity_wh,
        max_va=source.max_va,
        other_w=source.other_w,
        windows=_windows(event, source.windows.all(), from_min),
        quiet=quiet_windows(event, source, from_min),
        is_quiet_waived=source.is_quiet_waived,
        fuel=fuel,
        arrays=arrays,
        filled_from=str(source.filled_from_id or ""),
        fill_w=source.fill_w if source.filled_from_id else 0.0,
    )


def quiet_windows(event: Event, source: Source, from_min: int) -> tuple[Window, ...]:
    """Quiet hours of every local day of the event. [min]"""
    if source.quiet_from is None or source.quiet_until is None:
        return ()
    day = local(event.starts_at, event.zone).date() - timedelta(days=1)
    last = local(event.ends_at, event.zone).date()
    found = []
    while day <= last:
        ends_on = day
        if source.quiet_until <= source.quiet_from:
            ends_on += timedelta(days=1)
        start, end = _clipped(
            event,
            from_local(datetime.combine(day, source.quiet_from), event.zone),
            from_local(datetime.combine(ends_on, source.quiet_until), event.zone),
            from_min,
        )
        if end > start:
            found.append(Window(start_min=start, end_min=end))
        day += timedelta(days=1)
    return tuple(found)


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


def _windows(event: Event, windows: Iterable, from_min: int) -> tuple[Window, ...]:
    clipped = [
        _clipped(event, window.starts_at, window.ends_at, from_min)
        for window in windows
    ]
    return tuple(
        Window(start_min=start, end_min=end) for start, end in clipped if end > start
    )


def _station(
    event: Event,
    station: Station,
    from_min: int,
    walk_min: int,
    arrays: tuple[Array, ...],
) -> core.StationPlan:
    equipment = list(station.equipment.all())
    openings = []
    for hours in station.hours.all():
        start, end = _clipped(event, hours.starts_at, hours.ends_at, from_min)
        if end <= start:
            continue
        openings.append(
            Opening(
                start_min=start,
                end_min=end,
                pattern=Pattern(
                    transmit_share=hours.pattern.transmit_share,
                    standby_share=hours.pattern.standby_share,
                    duty=hours.pattern.duty,
                ),
                step=hours.step,
                on_for_min=hours.on_for_min,
                every_min=hours.every_min,
            )
        )
    return core.StationPlan(
        key=str(station.pk),
        name=station.name,
        tier=station.tier,
        walk_min=walk_min,
        changeover_s=station.changeover_s,
        loads=tuple(_load(event, item, from_min) for item in equipment),
        openings=tuple(openings),
        device_min_v=max((item.equipment.min_v for item in equipment), default=0.0),
        device_max_v=min((item.equipment.max_v for item in equipment), default=1000.0),
        disconnect_v=station.disconnect_v,
        reconnect_v=station.reconnect_v,
        rest_min=station.rest_min,
        main_fuse_a=station.main_fuse_a,
        path_ohm=_path_ohm(station),
        feed_carries_a=_feed_carries_a(station),
        spread=station.spread_pct / 100,
        arrays=arrays,
        supplies=tuple(_supplies(event, station, from_min)),
        about=station.purpose,
        low_words=station.low_words,
        watch_words=station.watch_words,
        spares=station.spares,
        weight=station.weight,
        cold_c=station.cold_c,
    )


def _path_ohm(station: Station) -> float:
    """Fuse, connectors and leads; a feed from afar comes on top. [Ω]"""
    ohm = core.USUAL_PATH_OHM
    if station.feed_m and station.feed_awg is not None:
        ohm += Wire(length_m=station.feed_m, awg=station.feed_awg).resistance_ohm
    return ohm


def _feed_carries_a(station: Station) -> float | None:
    """What the wire of a feed from afar carries for long. [A]"""
    if not station.feed_m or station.feed_awg is None:
        return None
    return Wire(length_m=station.feed_m, awg=station.feed_awg).ampacity_a


def _load(event: Event, item: StationEquipment, from_min: int) -> Load:
    steps = {step.step: draw_of(step) for step in item.equipment.steps.all()}
    full = steps[EquipmentStep.FULL]
    low = steps.get(EquipmentStep.LOW)
    windows = None
    if item.used_from is not None or item.used_until is not None:
        start, end = _clipped(
            event,
            item.used_from or event.starts_at,
            item.used_until or event.ends_at,
            from_min,
        )
        windows = (Window(start_min=start, end_min=end),) if end > start else ()
    return Load(
        name=item.equipment.name,
        draw=low if item.step == EquipmentStep.LOW and low is not None else full,
        low=low,
        count=item.count,
        efficiency=item.efficiency_pct / 100,
        idle_a=item.idle_w / BUS_V,
        fills_wh=item.fills_wh,
        windows=windows,
        shed_soc=None if item.shed_pct is None else item.shed_pct / 100,
    )


def _supplies(event: Event, station: Station, from_min: int) -> Iterable[Supply]:
    for row in station.supplies.all():
        start, end = _clipped(event, row.starts_at, row.ends_at, from_min)
        if end > start:
            yield Supply(
                kind=row.kind,
                name=str(row),
                max_w=row.max_w,
                windows=(Window(start_min=start, end_min=end),),
                charges=row.charges,
                transfer_s=row.transfer_s,
            )


def _batteries(event: Event, *, is_under_way: bool) -> list[core.BatteryPlan]:
    assets = list(event.batteries.filter(archived_at=None).select_related("battery"))
    joined = {row.battery_id: row.lead_id for row in event.joined.all()}
    tested = accepted_ah_by_battery([asset.pk for asset in assets])
    nows: dict[UUID, BatteryNow] = {}
    if is_under_way:
        nows = {
            now.battery: now
            for now in BatteryNow.objects.filter(
                battery__in=[asset.pk for asset in assets]
            ).select_related("place")
        }
    plans = {
        asset.pk: _battery(
            event, asset, tested.get(asset.pk), nows.get(asset.pk), is_under_way
        )
        for asset in assets
    }
    # A battery whose lead takes no part is one of its own.
    leads = {key: joined[key] if joined.get(key) in plans else key for key in plans}
    sets: defaultdict[UUID, list[core.BatteryPlan]] = defaultdict(list)
    for key in sorted(plans, key=lambda key: leads[key] != key):
        sets[leads[key]].append(plans[key])
    return [one for found in sets.values() for one in _joined(found)]


def _joined(plans: list[core.BatteryPlan]) -> list[core.BatteryPlan]:
    """Batteries as one; each by itself where their own numbers forbid it by now."""
    if len(plans) < 2:
        return plans
    try:
        return [join(plans)]
    except CannotJoin:
        return plans


def _placed(
    event: Event, stations: list[Station], batteries: list[core.BatteryPlan]
) -> Iterator[core.BatteryPlan]:
    """Batteries where they are; in the yard, where the event has no place for them."""
    room = Counter({str(station.pk): station.spares for station in stations})
    places = {YARD, *room, *(str(bay.pk) for bay in event.bays.all())}
    for battery in batteries:
        place = battery.start_place
        if place not in places or (battery.is_spare and room[place] < 1):
            battery = dataclasses.replace(battery, start_place=YARD, is_spare=False)
        elif battery.is_spare:
            room[place] -= 1
        yield battery


def _battery(
    event: Event,
    asset: Asset,
    tested_ah: float | None,
    now: BatteryNow | None,
    is_under_way: bool,
) -> core.BatteryPlan:
    place, soc, is_spare = YARD, 1.0, False
    if is_under_way:
        # A pack that shows 0 V gives nothing until it is woken.
        soc = now.soc_low if now is not None and not now.is_tripped else 0.0
        if now is not None and now.place is not None:
            if now.place.kind == PlaceKind.POSITION:
                place = str(now.place.station_key)
            elif now.place.kind in (PlaceKind.STATION, PlaceKind.SPARE_RACK):
                place, is_spare = str(now.place.station_key), True
            elif now.place.kind == PlaceKind.BAY:
                place = str(now.place.pk)
    details = asset.battery
    return core.BatteryPlan(
        key=str(asset.pk),
        tag=asset.tag,
        pack=_with_policy(event, pack_of(details, tested_ah)),
        mass_kg=asset.mass_kg,
        start_soc=min(1.0, max(0.0, soc)),
        start_place=place,
        is_spare=is_spare,
        max_charge_a=details.max_charge_a,
        max_discharge_a=details.max_discharge_a,
        is_on_hold=bool(asset.hold),
        is_heated=details.is_heated,
    )


def _with_policy(event: Event, pack: Pack) -> Pack:
    """A pack with the event's reserve, where it has none of its own."""
    reserve = reserve_of(event, pack.chemistry)
    if pack.reserve is not None or reserve is None:
        return pack
    return dataclasses.replace(pack, reserve=reserve)


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


def with_pins(
    event: Event, scenario: core.Scenario, from_min: int, *more: Pin
) -> core.Scenario:
    """
    Return a scenario with the event's pins as they stand, and with more.

    Pins whose time is over or whose battery or place takes no part are left out.
    """
    active = (*event.pins.filter(lifted_at=None), *more)
    pins = (core_pin(event, pin, scenario, from_min) for pin in active)
    return dataclasses.replace(scenario, pins=tuple(pin for pin in pins if pin))


def core_pin(
    event: Event, pin: Pin, scenario: core.Scenario, from_min: int
) -> core.Pin | None:
    """Return a pin as the core sees it; None where it means nothing."""
    start, end = _clipped(event, pin.starts_at, pin.ends_at, from_min)
    batteries = {"", *(battery.key for battery in scenario.batteries)}
    places = {"", *(one.key for one in scenario.stations)}
    places |= {bay.key for bay in scenario.bays}
    battery, place = str(pin.battery_id or ""), str(pin.place or "")
    if end <= start or battery not in batteries or place not in places:
        return None
    return core.Pin(
        kind=pin.kind, battery=battery, place=place, start_min=start, end_min=end
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


def core_legs(rotation: Rotation) -> list[CoreLeg]:
    """Return a rotation's legs in the core's minutes."""
    return [core_leg(leg, rotation.from_min) for leg in rotation.legs.all()]


def core_leg(leg: Leg, from_min: int) -> CoreLeg:
    """Return one leg in the core's minutes."""
    place = YARD if leg.kind == WAIT else ""
    if leg.place is not None:
        place = str(leg.place)
    return CoreLeg(
        kind=leg.kind,
        battery=str(leg.battery),
        place=place,
        crew=leg.crew,
        round=leg.round,
        start_min=leg.start_min - from_min,
        end_min=leg.end_min - from_min,
    )
