"""Between the shelf's models and the core's values; the only place that knows both."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, TypeVar, cast

from hollow_kettle.people.club import today
from powercore.gear import things as gear
from powercore.physics.battery import Pack
from powercore.physics.loads import Draw
from powercore.physics.wiring import End

from . import fields
from .kinds import KINDS
from .models import Asset, Battery, EquipmentStep, Lead, Port
from .models.asset import AssetKind

#: Name of each kind's details on an asset.
KIND_TABLES = {kind.key: kind.attribute for kind in KINDS.values()}


@dataclass(frozen=True, slots=True)
class Tested:
    """The accepted capacity of a battery and when it was found."""

    ah: float
    sd_ah: float
    at: datetime


def pack_of(battery: Battery, tested_ah: float | None) -> Pack:
    """Return a battery as the core sees it; its age counts until it is tested."""
    made_on = battery.asset.made_on
    return Pack(
        chemistry=battery.chemistry,
        series=battery.series,
        parallel=battery.parallel,
        nameplate_ah=battery.nameplate_ah,
        tested_ah=tested_ah,
        reserve=None if battery.reserve_pct is None else battery.reserve_pct / 100,
        measured_ohm=(
            None if battery.resistance_mohm is None else battery.resistance_mohm / 1000
        ),
        max_charge_v=battery.max_charge_v,
        charge_v=battery.charge_v,
        float_v=battery.float_v,
        disconnect_v=battery.disconnect_v,
        peukert=battery.peukert,
        board_low_v=battery.board_low_v,
        board_high_v=battery.board_high_v,
        charge_low_c=battery.charge_low_c,
        years=None if made_on is None else max(0, (today() - made_on).days // 365),
    )


def draw_of(step: EquipmentStep) -> Draw:
    """Return the currents of a kind of equipment at a power step."""
    return Draw(
        standby_a=step.standby_a,
        receive_a=step.receive_a,
        transmit_idle_a=step.transmit_idle_a,
        key_down_a=step.key_down_a,
    )


def battery_of(
    asset: Asset, tested: Tested | None, today: date, soc: float | None = None
) -> gear.Battery:
    """Return a battery as something that is joined to others."""
    return _core(
        gear.Battery,
        asset,
        pack=pack_of(asset.battery, tested.ah if tested else None),
        tested_days=(today - tested.at.date()).days if tested else None,
        hold=asset.hold,
        soc=soc,
    )


T = TypeVar("T")


def _core(make: type[T], asset: Asset, **given: Any) -> T:
    """
    Make a core value from an asset's details, by the names they share.

    Percents become shares: `efficiency_pct` is the core's `efficiency`. What differs
    in name or form is given.
    """
    detail = getattr(asset, KIND_TABLES[asset.kind])
    values = {"tag": asset.tag, "mass_kg": asset.mass_kg}
    for name in (one.name for one in dataclasses.fields(cast(Any, make))):
        if hasattr(detail, name):
            values[name] = getattr(detail, name)
        elif hasattr(detail, f"{name}_pct"):
            values[name] = getattr(detail, f"{name}_pct") / 100
    names = {one.name for one in dataclasses.fields(cast(Any, make))}
    return make(**{k: v for k, v in (values | given).items() if k in names})


def _bank(asset: Asset) -> gear.PowerBank:
    bank = asset.bank
    return _core(
        gear.PowerBank,
        asset,
        levels=fields.parse_levels(bank.levels) or ((5.0, 3.0),),
        auto_off_a=bank.auto_off_ma / 1000,
    )


def _panel(asset: Asset) -> gear.Panel:
    panel = asset.panel
    return _core(
        gear.Panel,
        asset,
        voc_per_c=panel.voc_pct_per_c / 100,
        power_per_c=panel.power_pct_per_c / 100,
    )


def _controller(asset: Asset) -> gear.Controller:
    settings = fields.parse_chemistries(asset.controller.settings)
    return _core(gear.Controller, asset, settings=settings)


def charger_of(asset: Asset) -> gear.Charger:
    """Return a charger or supply as the core sees it."""
    charger = asset.charger
    return _core(
        gear.Charger,
        asset,
        settings=fields.parse_chemistries(charger.settings),
        series=fields.parse_cells(charger.series),
    )


def _generator(asset: Asset) -> gear.Generator:
    return _core(gear.Generator, asset)


def _converter(asset: Asset) -> gear.Converter:
    levels = fields.parse_levels(asset.converter.levels)
    return _core(gear.Converter, asset, levels=levels)


def device_of(asset: Asset) -> gear.Device:
    """Return a radio or load; what is not known is filled from what is."""
    device = asset.device
    key_down = device.key_down_a if device.key_down_a is not None else device.receive_a
    idle = device.transmit_idle_a
    if idle is None:
        idle = min(device.receive_a, key_down)

    def draw(amps: float) -> Draw:
        return Draw(
            standby_a=device.standby_a,
            receive_a=device.receive_a,
            transmit_idle_a=min(idle, amps),
            key_down_a=amps,
        )

    low = device.low_key_down_a
    return _core(
        gear.Device,
        asset,
        tag=asset.name or asset.tag,
        draw=draw(key_down),
        low_draw=None if low is None else draw(low),
        transmit_share=(
            device.transmit_pct / 100 if device.key_down_a is not None else 0.0
        ),
    )


def meter_of(asset: Asset, today: date) -> gear.Meter:
    """Return a meter with the age of its comparison."""
    checked = asset.meter.checked_on
    days = (today - checked).days if checked else None
    return _core(gear.Meter, asset, checked_days=days)


def lead_of(asset: Asset) -> gear.Lead:
    """Return a lead with its two ends."""
    lead: Lead = asset.lead

    def end(which: str) -> End:
        return End(
            connector=getattr(lead, f"{which}_connector"),
            gender=getattr(lead, f"{which}_gender"),
            is_reversed=getattr(lead, f"{which}_reversed"),
        )

    return _core(gear.Lead, asset, end_a=end("a"), end_b=end("b"))


def port_of(port: Port) -> gear.Port:
    """Return a port as the core sees it."""
    return gear.Port(
        owner=port.asset.tag,
        name=port.name,
        end=End(
            connector=port.connector, gender=port.gender, is_reversed=port.is_reversed
        ),
        flow=port.flow,
        low_v=port.low_v,
        high_v=port.high_v,
        max_a=port.max_a,
        is_live=port.is_live,
    )


_MAKERS: dict[str, Callable[[Asset], Any]] = {
    AssetKind.BATTERY: lambda asset: pack_of(asset.battery, None),
    AssetKind.BANK: _bank,
    AssetKind.PANEL: _panel,
    AssetKind.CONTROLLER: _controller,
    AssetKind.CHARGER: charger_of,
    AssetKind.GENERATOR: _generator,
    AssetKind.CONVERTER: _converter,
    AssetKind.DEVICE: device_of,
    AssetKind.METER: lambda asset: meter_of(asset, date.max),
    AssetKind.LEAD: lead_of,
    AssetKind.ANTENNA: lambda asset: _core(gear.AntennaPart, asset),
}


def gear_of(asset: Asset) -> Any:
    """
    Return an asset of any kind as its core value; None where it has none.

    Raises
    ------
    powercore.errors.PowercoreError
        If what is noted of it makes no sense together.
    """
    maker = _MAKERS.get(asset.kind)
    return None if maker is None else maker(asset)
