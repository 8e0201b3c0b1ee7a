"""An event made of a scenario file."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from typing import Any
from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import DatabaseError, transaction
from django.utils.text import slugify

from hollow_kettle.clock import local
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.sources import quiet_windows
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.events.services import save_event
from hollow_kettle.plan.models import (
    Crew,
    Event,
    OperatingPattern,
    PanelArray,
    Pin,
    SkyHour,
    Source,
    SourceWindow,
    Station,
    StationEquipment,
    StationSupply,
)
from hollow_kettle.plan.stations.services import save_station
from hollow_kettle.plan.sun import services as sun
from hollow_kettle.plan.yard.services import add_bay
from hollow_kettle.shelf.bridge import draw_of
from hollow_kettle.shelf.models import Asset, EquipmentStep, EquipmentType
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.errors import PowercoreError
from powercore.event import scenario as core
from powercore.event.plans import (
    USUAL_PATH_OHM,
    YARD,
    BayPlan,
    Spot,
    StationPlan,
)
from powercore.physics.loads import Draw, Load, Pattern
from powercore.physics.wiring import Wire
from powercore.sun.arrays import Site as SkySite
from powercore.sun.sources import SourcePlan
from powercore.values import STATED_V, Window, without

from .batteries import ORIGIN, bring_batteries, percent_of
from .preview import preview_scenario, singles_of

#: The wire in which a resistance of a file is expressed.
_AWG = 12


def import_scenario(content: bytes, *, by: Actor, is_template: bool = False) -> Event:
    """
    Make an event of a scenario file: all of it or nothing.

    Batteries are taken from the shelf by their tags; what is not there comes onto
    it. Equipment and patterns that the library lacks come into it. As a template,
    the file's batteries are left out and the shelf's take part.

    Raises
    ------
    ValidationError
        If the file can't be read, or a battery of that tag is another one here.
    """
    try:
        preview = preview_scenario(content)
    except PowercoreError as error:
        raise ValidationError(str(error)) from error
    if preview.differ and not is_template:
        raise ValidationError(
            f"Here {', '.join(preview.differ)} are other batteries than in the file; "
            "change the tags in one of them."
        )
    if preview.taken and not is_template:
        raise ValidationError(
            f"These would be mistaken for what has that tag already: "
            f"{', '.join(preview.taken)}; change the tags in the file."
        )
    try:
        with transaction.atomic():
            return _made(preview.scenario, by, is_template)
    except DatabaseError as error:
        first = str(error).splitlines()[0]
        raise ValidationError(
            f"Something in the file can't be saved: {first}"
        ) from error


def _made(scenario: core.Scenario, by: Actor, is_template: bool) -> Event:
    starts = datetime.fromisoformat(scenario.starts_at)
    wall = local(starts, scenario.zone).replace(tzinfo=None)
    ends = local(starts + timedelta(minutes=scenario.span_min), scenario.zone)
    event = save_event(
        None,
        name=scenario.name,
        zone=scenario.zone,
        starts=wall,
        ends=ends.replace(tzinfo=None),
        lateness_min=scenario.lateness_min,
        purpose=scenario.purpose,
        is_own_power=scenario.is_own_power,
        first_tier_sky=scenario.first_tier_sky,
        other_sky=scenario.other_sky,
        yard_sky=scenario.yard_sky,
        settle_min=scenario.settle_min,
        yard_cold_c=scenario.yard_cold_c,
        two_at_night=scenario.two_at_night,
        lithium_reserve_pct=percent_of(scenario.lithium_reserve),
        lead_reserve_pct=percent_of(scenario.lead_reserve),
    )
    note(event, by, "imported from a file")
    if not is_template:
        bring_batteries(event, scenario, by)
    spots = {spot.key: spot for spot in scenario.spots}
    _place_yard(event, scenario, spots.get(YARD) or scenario.site)
    places = {
        plan.key: _station(event, plan, spots.get(plan.key)).pk
        for plan in scenario.stations
    }
    places |= _yard(event, scenario)
    Crew.objects.bulk_create(
        Crew(
            event=event,
            name=crew.name,
            does=crew.does,
            people=crew.people,
            starts_at=event.moment_of(crew.start_min),
            ends_at=event.moment_of(crew.end_min),
        )
        for crew in scenario.crews
    )
    _sky(event, scenario)
    _pins(event, scenario, places, by)
    return event


def _place_yard(
    event: Event, scenario: core.Scenario, place: Spot | SkySite | None
) -> None:
    if place is not None:
        yard = event.sites.get(is_yard=True)
        yard.latitude, yard.longitude = place.latitude, place.longitude
        yard.altitude_m = scenario.site.altitude_m if scenario.site else None
        yard.save()


def _yard(event: Event, scenario: core.Scenario) -> dict[str, UUID]:
    """Make sources and bays; the bays' new keys by those of the file."""
    sources = {plan.key: _source(event, plan) for plan in scenario.sources}
    for feed in scenario.sources:
        if feed.filled_from:
            bank = sources[feed.key]
            bank.filled_from = sources[feed.filled_from]
            bank.save(update_fields=["filled_from"])
    return {
        bay.key: add_bay(
            event,
            name=bay.name,
            source=sources[bay.source],
            unwatched_why=bay.unwatched_why,
            **_charger(bay),
        ).pk
        for bay in scenario.bays
    }


def _charger(bay: BayPlan) -> dict[str, Any]:
    """The charger of the shelf that a bay names, else what the file says of it."""
    found = Asset.objects.here().filter(kind=AssetKind.CHARGER, tag=bay.charger)
    if bay.charger and (charger := found.first()):
        return {"charger": charger, "chemistries": []}
    return {
        "max_w": bay.max_w,
        "chemistries": list(bay.chemistries),
        "ends_itself": bay.ends_itself,
    }


def _pins(
    event: Event, scenario: core.Scenario, places: dict[str, UUID], by: Actor
) -> None:
    """Pins of a file; one whose battery takes no part here is left out."""
    tags = {plan.key: plan.tag.casefold() for plan in singles_of(scenario)}
    own = {one.tag.casefold(): one.pk for one in event.batteries.all()}
    Pin.objects.bulk_create(
        Pin(
            event=event,
            kind=pin.kind,
            battery_id=own[tags[pin.battery]] if pin.battery else None,
            place=places[pin.place] if pin.place else None,
            starts_at=event.moment_of(pin.start_min),
            ends_at=event.moment_of(pin.end_min),
            made_by=by,
        )
        for pin in scenario.pins
        if not pin.battery or tags[pin.battery] in own
    )


def _station(event: Event, plan: StationPlan, spot: Spot | None) -> Station:
    station = save_station(
        event,
        name=plan.name,
        tier=plan.tier,
        purpose=plan.about,
        changeover_s=plan.changeover_s,
        disconnect_v=plan.disconnect_v,
        latitude=spot.latitude if spot else None,
        longitude=spot.longitude if spot else None,
        walk_min=plan.walk_min,
        reconnect_v=plan.reconnect_v,
        rest_min=plan.rest_min,
        main_fuse_a=plan.main_fuse_a,
        **_feed(plan),
        hazards=plan.hazards,
        is_unattended=plan.is_unattended,
        operators=plan.operators,
        spread_pct=plan.spread * 100,
        low_words=plan.low_words,
        watch_words=plan.watch_words,
        spares=plan.spares,
        weight=plan.weight,
        cold_c=plan.cold_c,
        draws=plan.draws,
    )
    for load in plan.loads:
        _equipment(event, station, plan, load)
    for opening in plan.openings:
        station.hours.create(
            starts_at=event.moment_of(opening.start_min),
            ends_at=event.moment_of(opening.end_min),
            pattern=_pattern(opening.pattern),
            step=opening.step,
            on_for_min=opening.on_for_min,
            every_min=opening.every_min,
        )
    StationSupply.objects.bulk_create(
        StationSupply(
            station=station,
            kind=supply.kind,
            name=supply.name,
            max_w=supply.max_w,
            charges=supply.charges,
            transfer_s=supply.transfer_s,
            starts_at=event.moment_of(window.start_min),
            ends_at=event.moment_of(window.end_min),
        )
        for supply in plan.supplies
        for window in supply.windows
    )
    _arrays(event, plan.arrays, station=station)
    return station


def _feed(plan: StationPlan) -> dict[str, Any]:
    """
    The feed from afar: as the file has it, else as so much of one wire.

    Older files have its resistance only.
    """
    extra_ohm = plan.path_ohm - USUAL_PATH_OHM
    if plan.feed_m is not None or extra_ohm <= 1e-9:
        return {"feed_m": plan.feed_m, "feed_awg": plan.feed_awg}
    return {"feed_m": _length_m(extra_ohm), "feed_awg": _AWG}


def _length_m(ohm: float) -> float:
    """Length of the usual wire that has a resistance there and back. [m]"""
    return round(ohm / Wire(length_m=1, awg=_AWG).resistance_ohm, 3)


def _equipment(event: Event, station: Station, plan: StationPlan, load: Load) -> None:
    windows = load.windows if load.windows is not None else (None,)
    for window in windows:
        kind, step = _kind_of(load, plan)
        StationEquipment.objects.create(
            station=station,
            equipment=kind,
            step=step,
            count=load.count,
            efficiency_pct=load.efficiency * 100,
            idle_w=load.idle_a * STATED_V,
            fills_wh=load.fills_wh,
            shed_pct=None if load.shed_soc is None else load.shed_soc * 100,
            used_from=event.moment_of(window.start_min) if window else None,
            used_until=event.moment_of(window.end_min) if window else None,
        )


def _kind_of(load: Load, plan: StationPlan) -> tuple[EquipmentType, str]:
    """Equipment of the library with these currents, or a new kind; and its step."""
    name = (load.name or "load")[:80]
    for kind in EquipmentType.objects.filter(name=name).prefetch_related("steps"):
        steps = {one.step: draw_of(one) for one in kind.steps.all()}
        is_same = steps.get("low") == load.low
        step = "full" if steps.get("full") == load.draw else "low"
        if step == "low":  # it is run on low power there all the time
            is_same = is_same and load.low == load.draw
        # A station's window is where those of all its devices overlap.
        if (
            is_same
            and kind.min_v <= plan.device_min_v
            and kind.max_v >= plan.device_max_v
        ):
            return kind, step
    base = slugify(name)[:30] or "load"
    key, number = base, 1
    while EquipmentType.objects.filter(pk=key).exists():
        number += 1
        key = f"{base}-{number}"
    kind = EquipmentType.objects.create(
        key=key,
        name=name,
        origin=ORIGIN,
        min_v=plan.device_min_v,
        max_v=plan.device_max_v,
    )
    for step, draw in (("full", load.draw), ("low", load.low)):
        if draw is not None:
            _step(kind, step, draw)
    return kind, "full"


def _step(kind: EquipmentType, step: str, draw: Draw) -> None:
    EquipmentStep.objects.create(
        equipment=kind,
        step=step,
        standby_a=draw.standby_a,
        receive_a=draw.receive_a,
        transmit_idle_a=draw.transmit_idle_a,
        key_down_a=draw.key_down_a,
    )


def _pattern(pattern: Pattern) -> OperatingPattern:
    found = OperatingPattern.objects.filter(
        transmit_share=pattern.transmit_share,
        standby_share=pattern.standby_share,
        duty=pattern.duty,
    ).first()
    if found is not None:
        return found
    share, duty = pattern.transmit_share, pattern.duty
    name = f"transmits {share:.0%}, duty {duty:.0%}"
    key = slugify(f"file {share:.4f} {pattern.standby_share:.4f} {duty:.4f}")[:40]
    found, _ = OperatingPattern.objects.get_or_create(
        key=key,
        defaults={
            "name": name,
            "transmit_share": share,
            "standby_share": pattern.standby_share,
            "duty": duty,
            "origin": ORIGIN,
        },
    )
    return found


def _source(event: Event, plan: SourcePlan) -> Source:
    fuel = plan.fuel
    quiet = _daily(event, plan.quiet)
    windows = plan.windows
    if plan.quiet and quiet is None:
        windows = without(windows, plan.quiet)
    source = Source.objects.create(
        event=event,
        name=plan.name,
        kind=plan.kind,
        max_w=max(plan.max_w, 1.0),
        energy_wh=plan.energy_wh,
        capacity_wh=plan.capacity_wh,
        max_va=plan.max_va,
        other_w=plan.other_w,
        quiet_from=quiet[0] if quiet else None,
        quiet_until=quiet[1] if quiet else None,
        is_quiet_waived=plan.is_quiet_waived,
        quarter_l_h=fuel.quarter_l_h if fuel else None,
        full_l_h=fuel.full_l_h if fuel else None,
        tank_l=fuel.tank_l if fuel else None,
        on_hand_l=fuel.on_hand_l if fuel else None,
        refuel_min=fuel.refuel_min if fuel else 25,
        fill_w=plan.fill_w,
    )
    SourceWindow.objects.bulk_create(
        SourceWindow(
            source=source,
            starts_at=event.moment_of(window.start_min),
            ends_at=event.moment_of(window.end_min),
        )
        for window in windows
    )
    _arrays(event, plan.arrays, source=source)
    return source


def _daily(event: Event, quiet: tuple[Window, ...]) -> Any:
    """Quiet hours as times of day, when every window is those; else None."""
    inside = [
        one for one in quiet if one.start_min > 0 and one.end_min < event.span_min
    ]
    for one in inside or quiet:
        first, last = (
            local(event.moment_of(minute), event.zone).time()
            for minute in (one.start_min, one.end_min)
        )
        trial = Source(quiet_from=first, quiet_until=last)
        if quiet_windows(event, trial, 0) == quiet:
            return first, last
    return None


def _arrays(
    event: Event,
    arrays: tuple[Any, ...],
    *,
    station: Station | None = None,
    source: Source | None = None,
) -> None:
    site = station.site if station else event.sites.get(is_yard=True)
    for array in arrays:
        row = PanelArray(
            event=event,
            station=station,
            source=source,
            name=array.name[:60] or "panels",
            vmp_v=array.vmp_v,
            imp_a=array.imp_a,
            voc_v=array.voc_v,
            isc_a=array.isc_a,
            power_pct_per_c=array.power_per_c * 100,
            tilt=array.tilt,
            azimuth=array.azimuth,
            turns=array.turns,
            is_on_ground=array.is_on_ground,
            method=array.method,
            max_a=array.max_a,
            # The file has the cable's resistance: the same as so much of one wire.
            cable_m=_length_m(array.cable_ohm),
            cable_awg=_AWG,
            dirt_pct=array.dirt * 100,
            factor=array.factor,
            lit_from=_time_of(array.lit_from_min) if array.lit_from_min else None,
            lit_until=(
                _time_of(array.lit_until_min) if array.lit_until_min < 1440 else None
            ),
        )
        row.save()
        if array.horizon:
            sun.set_horizon(site, list(array.horizon))


def _time_of(minute: int) -> time:
    return time(minute // 60, minute % 60)


def _sky(event: Event, scenario: core.Scenario) -> None:
    names = ("oktas", "air_c", "wind_ms", "global_w", "beam_w", "diffuse_w")
    rows = [
        SkyHour(
            event=event,
            at=event.moment_of(hour.start_min),
            **{name: getattr(hour, name) for name in names},
        )
        for hour in scenario.sky
    ]
    if rows:
        sun.set_sky(event, rows, origin=scenario.sky_origin or ORIGIN)
