"""From a kit's rows to the core's kit; with `bridge`, all that knows both."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any
from uuid import UUID

from hollow_kettle.shelf import bridge
from hollow_kettle.shelf.assets.queries import attach_details
from hollow_kettle.shelf.bench.queries import capacities_by_battery
from hollow_kettle.shelf.models import Asset, ChargeWay, KitItem, Lead, PathPart
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.gear import powerpath as core
from powercore.gear.things import (
    AntennaPart,
    Battery,
    Charger,
    Generator,
    Meter,
    Panel,
    PowerBank,
)
from powercore.physics.wiring import End, Wire

#: Kits in kits are followed so deep and no deeper.
_DEEPEST = 4


@dataclass(frozen=True)
class KitRows:
    """A kit with every row that its value is made from."""

    asset: Asset
    path: list[PathPart]
    ways: list[ChargeWay]
    #: Its contents and those of the kits in it: (item, depth).
    items: list[tuple[KitItem, int]]
    #: Batteries that are wired in the kits in it.
    inner: list[UUID]
    assets: dict[UUID, Asset]


def rows_of_kit(asset: Asset) -> KitRows:
    """Read a kit whole, in a fixed number of queries for each level of kits."""
    path = list(asset.path.all())
    ways = list(asset.charge_ways.all())
    items = list(_items([asset.pk], 0, {asset.pk}))
    kits = {
        item.asset_id
        for item, _ in items
        if item.asset is not None and item.asset.kind == AssetKind.KIT
    }
    wired = PathPart.objects.filter(kit__in=kits, what=PathPart.What.BATTERY)
    inner = [uid for uid in wired.values_list("asset_id", flat=True) if uid]
    wanted = set(inner) | {
        uid
        for row in (*path, *ways, *(item for item, _ in items))
        for uid in (
            getattr(row, "asset_id", None),
            getattr(row, "source_id", None),
            getattr(row, "controller_id", None),
        )
        if uid is not None
    }
    found = attach_details(
        Asset.objects.filter(pk__in=wanted).prefetch_related("ports")
    )
    return KitRows(
        asset=asset,
        path=path,
        ways=ways,
        items=items,
        inner=inner,
        assets={one.pk: one for one in found},
    )


def _items(
    kits: Sequence[UUID], depth: int, seen: set[UUID]
) -> Iterable[tuple[KitItem, int]]:
    rows = list(KitItem.objects.filter(kit__in=kits).select_related("asset", "kit"))
    inner = [
        row.asset_id
        for row in rows
        if row.asset is not None
        and row.asset.kind == AssetKind.KIT
        and row.asset_id not in seen
    ]
    yield from ((row, depth) for row in rows)
    fresh = [uid for uid in inner if uid is not None]
    if fresh and depth < _DEEPEST:
        yield from _items(fresh, depth + 1, seen | set(fresh))


def kit_of(rows: KitRows, today: date) -> core.Kit:
    """
    Return a kit as the core sees it.

    Raises
    ------
    powercore.errors.PowercoreError
        If what is noted makes no sense together.
    """
    batteries = [part for part in rows.path if part.what == PathPart.What.BATTERY]
    wired = {part.asset_id for part in batteries}
    packed = {item.asset_id for item, _ in rows.items} | set(rows.inner)
    every = [one for one in rows.assets.values() if one.kind == AssetKind.BATTERY]
    tested = capacities_by_battery([one.pk for one in every])
    members = tuple(
        core.Member(
            battery=_battery(rows, part, tested, today),
            fuse_a=part.amps,
            lead_ohm=(part.lead_mohm or 0) / 1000 + 1e-6,
        )
        for part in batteries
    )
    spares = tuple(
        bridge.battery_of(one, tested.get(one.pk), today)
        for one in every
        if one.pk in packed - wired
    )
    own = {part.pk for part in batteries}
    inside = list(_inside(rows, today))
    return core.Kit(
        members=members,
        parts=tuple(
            _part(rows, part, own)
            for part in rows.path
            if part.what != PathPart.What.BATTERY
        ),
        charges=tuple(_charge(rows, way, own) for way in rows.ways),
        banks=tuple(one for one in inside if isinstance(one, PowerBank)),
        meters=tuple(one for one in inside if isinstance(one, Meter)),
        antennas=tuple(one for one in inside if isinstance(one, AntennaPart)),
        generators=tuple(one for one in inside if isinstance(one, Generator)),
        ports=tuple(
            bridge.port_of(port)
            for one in rows.assets.values()
            for port in one.ports.all()
        ),
        temporary=tuple(
            core.Temporary(name=note.words, overdue_days=(today - note.due_on).days)
            for note in rows.asset.build_notes.filter(what="temporary", done_on=None)
            if note.due_on is not None
        ),
        spares=spares,
        conditions=_conditions(rows.asset),
        other_mass_kg=max(
            0.0, mass_kg(rows) - sum(m.battery.mass_kg or 0.0 for m in members)
        ),
    )


def _conditions(asset: Asset) -> core.Conditions:
    details = asset.kit
    return core.Conditions(
        low_c=details.low_c,
        high_c=details.high_c,
        travels=details.travels,
        lift_kg=details.lift_kg,
        people=details.people,
        feeds_building=details.feeds_building,
        is_fastened=details.is_fastened,
        is_restrained=details.is_restrained,
        hours=details.hours,
        cover=details.cover,
    )


def mass_kg(rows: KitRows) -> float:
    """Mass of all its contents and batteries, each asset once. [kg]"""
    total, seen = 0.0, set()
    for item, _ in rows.items:
        if item.asset_id is None:
            total += (item.mass_kg or 0.0) * item.count
        else:
            seen.add(item.asset_id)
    for part in rows.path:
        if part.asset_id is not None:
            seen.add(part.asset_id)
    seen |= set(rows.inner)
    return total + sum(rows.assets[uid].mass_kg or 0.0 for uid in seen)


def _battery(
    rows: KitRows, part: PathPart, tested: dict[UUID, bridge.Tested], today: date
) -> Battery:
    asset = _asset(rows, part)
    return bridge.battery_of(asset, tested.get(asset.pk), today)


def _asset(rows: KitRows, part: PathPart) -> Asset:
    assert part.asset_id is not None  # noqa: S101 - the database holds it
    return rows.assets[part.asset_id]


def _inside(rows: KitRows, today: date) -> Iterable[Any]:
    for asset in rows.assets.values():
        if asset.kind == AssetKind.METER:
            yield bridge.meter_of(asset, today)
        elif asset.kind in (AssetKind.BANK, AssetKind.ANTENNA, AssetKind.GENERATOR):
            yield bridge.gear_of(asset)


def _after(part: PathPart, own: set[int]) -> str:
    if part.after_id is None or part.after_id in own:
        return ""
    return f"p{part.after_id}"


def _part(rows: KitRows, part: PathPart, own: set[int]) -> core.Part:
    asset = rows.assets.get(part.asset_id) if part.asset_id else None
    common: dict[str, Any] = {
        "key": part.key,
        "after": _after(part, own),
        "name": part.name,
    }
    what = PathPart.What
    amps = part.amps
    if amps is None and asset is not None and asset.kind == AssetKind.GUARD:
        amps = asset.guard.amps
    if part.what == what.FUSE:
        return core.Fuse(
            amps=amps,
            style=part.style,
            from_battery_m=part.from_battery_m or 0.0,
            **common,
        )
    if part.what == what.CABLE:
        return core.Cable(wire=_wire(part, asset), **common)
    if part.what == what.JOINT:
        return core.Joint(
            end=End(
                connector=part.connector,
                gender=part.gender,
                is_reversed=part.is_reversed,
            ),
            mate=_mate(part),
            max_a=part.amps,
            is_live=part.is_live,
            **common,
        )
    if part.what == what.SWITCH:
        return core.Switch(amps=amps or 0.1, is_on=part.is_on, **common)
    if part.what == what.BLOCK:
        return core.Block(main_a=amps or 0.1, **common)
    if part.what == what.CONVERTER:
        return core.Converts(converter=bridge.gear_of(_asset(rows, part)), **common)
    return core.Feeds(device=bridge.device_of(_asset(rows, part)), **common)


def _wire(part: PathPart, asset: Asset | None) -> Wire | None:
    if asset is not None and asset.kind == AssetKind.LEAD:
        own: Lead | PathPart = asset.lead
    else:
        own = part
    if own.length_m is None or (own.awg is None and own.area_mm2 is None):
        return None
    return Wire(
        length_m=own.length_m,
        awg=own.awg,
        area_mm2=None if own.awg is not None else own.area_mm2,
        insulation=own.insulation,
        bundle=own.bundle,
    )


def _mate(part: PathPart) -> End | None:
    if not part.mate_connector:
        return None
    return End(
        connector=part.mate_connector,
        gender=part.mate_gender,
        is_reversed=part.mate_reversed,
    )


def _charge(rows: KitRows, way: ChargeWay, own: set[int]) -> core.Charge:
    asset = rows.assets[way.source_id]
    source = (
        bridge.charger_of(asset)
        if asset.kind == AssetKind.CHARGER
        else bridge.gear_of(asset)
    )
    assert isinstance(source, Charger | Panel)  # noqa: S101 - the form sees to it
    controller = rows.assets.get(way.controller_id) if way.controller_id else None
    enters = way.enters_at_id
    switches: tuple[core.Switch, ...] = ()
    if way.switch_a is not None:
        switches = (
            core.Switch(
                key=f"{way.key}s", name="its switch", amps=way.switch_a, is_on=way.is_on
            ),
        )
    return core.Charge(
        key=way.key,
        source=source,
        controller=bridge.gear_of(controller) if controller else None,
        enters_at="" if enters is None or enters in own else f"p{enters}",
        through=way.through,
        switches=switches,
        shares_with=way.shares_with,
    )


def battery_alone(battery: Battery) -> core.Kit:
    """A battery by itself, for the findings of its own page."""
    return core.Kit(
        members=(core.Member(battery=battery),),
        conditions=core.Conditions(low_c=20, high_c=25),
    )
