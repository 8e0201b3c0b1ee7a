"""Sources, supplies and their hours as the core has them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from uuid import UUID

from hollow_kettle.clock import from_local, local
from hollow_kettle.log.models import SourceOff
from hollow_kettle.plan.models import Event, Source, Station
from powercore.sun.arrays import Array
from powercore.sun.sources import Fuel, SourcePlan, Supply
from powercore.values import Window, without

from .windows import clipped, windows_of


def outages_of(event: Event, from_min: int) -> dict[UUID, list[Window]]:
    """When sources gave nothing by the log, and don't yet: by key, in minutes."""
    found: defaultdict[UUID, list[Window]] = defaultdict(list)
    for row in SourceOff.objects.filter(event_key=event.pk):
        ends_at = row.ended_at or event.ends_at
        start, end = clipped(event, row.started_at, ends_at, from_min)
        if end > start:
            found[row.source_key].append(Window(start_min=start, end_min=end))
    return found


def faulty_now(event: Event) -> set[str]:
    """Sources and bays that give nothing by the log until somebody says otherwise."""
    rows = SourceOff.objects.filter(event_key=event.pk, ended_at=None)
    return {str(key) for key in rows.values_list("source_key", flat=True)}


def source_of(
    event: Event,
    source: Source,
    from_min: int,
    arrays: tuple[Array, ...],
    off: Sequence[Window] = (),
) -> SourcePlan:
    """A source as the core has it; what it was `off` is cut out of its hours."""
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
        windows=without(windows_of(event, source.windows.all(), from_min), off),
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
        start, end = clipped(
            event,
            from_local(datetime.combine(day, source.quiet_from), event.zone),
            from_local(datetime.combine(ends_on, source.quiet_until), event.zone),
            from_min,
        )
        if end > start:
            found.append(Window(start_min=start, end_min=end))
        day += timedelta(days=1)
    return tuple(found)


def supplies_of(event: Event, station: Station, from_min: int) -> Iterable[Supply]:
    for row in station.supplies.all():
        start, end = clipped(event, row.starts_at, row.ends_at, from_min)
        if end > start:
            yield Supply(
                kind=row.kind,
                name=str(row),
                max_w=row.max_w,
                windows=(Window(start_min=start, end_min=end),),
                charges=row.charges,
                transfer_s=row.transfer_s,
            )
