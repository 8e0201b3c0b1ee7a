"""Batteries as the core has them, with where they are and what is believed."""

from __future__ import annotations

import dataclasses
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from uuid import UUID

from hollow_kettle.log.models import BatteryNow, PlaceKind
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.plan.policy import reserve_of
from hollow_kettle.shelf.bench.queries import accepted_ah_by_battery
from hollow_kettle.shelf.bridge import pack_of
from hollow_kettle.shelf.fields import ASSET_NAMES
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.event.joining import CannotJoin, join
from powercore.event.plans import BatteryPlan, BayPlan
from powercore.event.problem import YARD
from powercore.physics.battery import Pack
from powercore.values import as_counted

#: What of a battery its plan has in a field of its own.
_IN_PLANS = {
    *("tag", "mass_kg", "chemistry", "series", "parallel", "nameplate_ah"),
    *("reserve_pct", "resistance_mohm", "peukert", "max_charge_a", "max_discharge_a"),
    *("max_charge_v", "charge_v", "float_v", "disconnect_v", "is_heated"),
    *("board_low_v", "board_high_v", "charge_low_c"),
}
#: What of a battery is in no other part of its plan, by the shelf's own names.
NOTED = tuple(
    name
    for name in (*ASSET_NAMES, *KINDS[AssetKind.BATTERY].own_names)
    if name not in _IN_PLANS
)


def batteries_of(event: Event, *, is_under_way: bool) -> list[BatteryPlan]:
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
    sets: defaultdict[UUID, list[BatteryPlan]] = defaultdict(list)
    for key in sorted(plans, key=lambda key: leads[key] != key):
        sets[leads[key]].append(plans[key])
    return [one for found in sets.values() for one in _joined(found)]


def unnoted(event: Event) -> str:
    """
    Name batteries that nobody noted at an event, by what a replan counts them at.

    "K06, K08 at 10 %, K09 as empty"; empty where all were noted. It counts what was
    last seen of them, on the shelf or at another event, in the bad 1-in-10 case.
    """
    held = set(event.batteries.exclude(hold="").values_list("pk", flat=True))
    units = {key: tag for key, tag in event.unit_tags.items() if key not in held}
    counted: defaultdict[int, list[str]] = defaultdict(list)
    rows = {row.battery: row for row in BatteryNow.objects.filter(battery__in=units)}
    for key, tag in units.items():
        row = rows.get(key)
        if row is None or row.event_key != event.pk or row.as_of is None:
            is_seen = row is not None and not row.is_tripped
            counted[round(100 * row.soc_low) if row and is_seen else 0].append(tag)
    return ", ".join(
        f"{', '.join(sorted(tags, key=as_counted))} "
        + (f"at {percent} %" if percent else "as empty")
        for percent, tags in sorted(counted.items(), reverse=True)
    )


def _joined(plans: list[BatteryPlan]) -> list[BatteryPlan]:
    """Batteries as one; each by itself where their own numbers forbid it by now."""
    if len(plans) < 2:
        return plans
    try:
        return [join(plans)]
    except CannotJoin:
        return plans


def placed(
    stations: list[Station], bays: Iterable[BayPlan], batteries: Iterable[BatteryPlan]
) -> Iterator[BatteryPlan]:
    """
    Batteries where they are; in the yard, where the event has no place for them.

    So are those on a bay that must not charge them; see `rotation.making`.
    """
    room = Counter({str(station.pk): station.spares for station in stations})
    bay_of = {bay.key: bay for bay in bays}
    taken: set[str] = set()
    for battery in batteries:
        place = battery.start_place
        bay = bay_of.get(place)
        if (
            place not in {YARD, *room, *bay_of}
            or (place in taken - {YARD} and not battery.is_spare)
            or (bay is not None and not battery.is_on_hold and bay.refusal(battery))
        ):
            battery = battery.in_yard
        elif battery.is_spare:
            battery = battery if room[place] > 0 else battery.in_yard
            room[place] -= 1
        else:
            taken.add(place)
        yield battery


def _battery(
    event: Event,
    asset: Asset,
    tested_ah: float | None,
    now: BatteryNow | None,
    is_under_way: bool,
) -> BatteryPlan:
    place, soc, is_spare = YARD, 1.0, False
    if is_under_way:
        # A pack that shows 0 V gives nothing until it is woken up.
        soc = now.soc_low if now is not None and not now.is_tripped else 0.0
        if now is not None and now.place is not None:
            if now.place.kind == PlaceKind.POSITION:
                place = str(now.place.station_key)
            elif now.place.kind in (PlaceKind.STATION, PlaceKind.SPARE_RACK):
                place, is_spare = str(now.place.station_key), True
            elif now.place.kind == PlaceKind.BAY:
                place = str(now.place.pk)
    details = asset.battery
    return BatteryPlan(
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
        hold=asset.hold,
        noted=tuple(noted_of(asset)),
    )


def noted_of(asset: Asset) -> Iterator[tuple[str, str | float | bool]]:
    """What the shelf notes of a battery and no computation of an event asks for."""
    for name in NOTED:
        value = getattr(asset if name in ASSET_NAMES else asset.battery, name)
        if value not in (None, "", False):
            yield name, value if isinstance(value, str | float | bool) else str(value)


def _with_policy(event: Event, pack: Pack) -> Pack:
    """A pack with the event's reserve, where it has none of its own."""
    reserve = reserve_of(event, pack.chemistry)
    if pack.reserve is not None or reserve is None:
        return pack
    return dataclasses.replace(pack, reserve=reserve)
