"""Stations and their loads as the core has them."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from hollow_kettle.log.models import StationDraw
from hollow_kettle.plan.models import (
    AS_NOTED,
    Event,
    OperatingPattern,
    Station,
    StationEquipment,
)
from hollow_kettle.shelf.bridge import draw_of
from hollow_kettle.shelf.models import EquipmentStep
from powercore.event.plans import USUAL_PATH_OHM, StationPlan
from powercore.physics.loads import Load, Opening, Pattern
from powercore.physics.wiring import Wire
from powercore.sun.arrays import Array
from powercore.values import STATED_V, Window

from .sources import supplies_of
from .windows import clipped


def news_of_draws(event: Event) -> dict[UUID, float]:
    """Real draw over planned, of stations whose readings say that the plan is wrong."""
    rows = StationDraw.objects.filter(event_key=event.pk)
    return {row.station_key: row.factor for row in rows if row.believed.is_news}


def station_of(
    event: Event,
    station: Station,
    from_min: int,
    walk_min: int,
    arrays: tuple[Array, ...],
    draws: float,
) -> StationPlan:
    equipment = list(station.equipment.all())
    openings = []
    for hours in station.hours.all():
        start, end = clipped(event, hours.starts_at, hours.ends_at, from_min)
        if end <= start:
            continue
        openings.append(
            Opening(
                start_min=start,
                end_min=end,
                pattern=_pattern(hours.pattern, equipment),
                step=hours.step,
                on_for_min=hours.on_for_min,
                every_min=hours.every_min,
            )
        )
    return StationPlan(
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
        supplies=tuple(supplies_of(event, station, from_min)),
        about=station.purpose,
        low_words=station.low_words,
        watch_words=station.watch_words,
        spares=station.spares,
        weight=station.weight,
        cold_c=station.cold_c,
        draws=draws,
        hazards=station.hazards,
        is_unattended=station.is_unattended,
        operators=station.operators,
        feed_m=station.feed_m,
        feed_awg=station.feed_awg,
    )


def _pattern(row: OperatingPattern, items: Iterable[StationEquipment]) -> Pattern:
    """A pattern; the one "as noted" has the numbers of the station's own radio."""
    share, duty = row.transmit_share, row.duty
    if row.pk == AS_NOTED:
        for item in items:
            own = item.equipment
            if own.transmit_share and own.duty is not None:
                share, duty = own.transmit_share, own.duty
                break
    return Pattern(transmit_share=share, standby_share=row.standby_share, duty=duty)


def _path_ohm(station: Station) -> float:
    """Fuse, connectors and leads; a feed from afar comes on top. [Ω]"""
    ohm = USUAL_PATH_OHM
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
        start, end = clipped(
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
        idle_a=item.idle_w / STATED_V,
        fills_wh=item.fills_wh,
        windows=windows,
        shed_soc=None if item.shed_pct is None else item.shed_pct / 100,
    )
