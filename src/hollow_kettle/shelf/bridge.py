"""Between the shelf's models and the core's values; the only place that knows both."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from powercore import gear
from powercore.battery import Pack
from powercore.loads import Draw
from powercore.wiring import End

from . import fields
from .models import Asset, Battery, EquipmentStep, Lead, Port
from .models.asset import AssetKind


@dataclass(frozen=True, slots=True)
class Tested:
    """The accepted capacity of a battery and when it was found."""

    ah: float
    sd_ah: float
    at: datetime


def pack_of(battery: Battery, tested_ah: float | None) -> Pack:
    """Return a battery as the core sees it."""
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
    battery = asset.battery
    return gear.Battery(
        tag=asset.tag,
        pack=pack_of(battery, tested.ah if tested else None),
        max_charge_a=battery.max_charge_a,
        max_discharge_a=battery.max_discharge_a,
        protection=battery.protection,
        is_heated=battery.is_heated,
        mass_kg=asset.mass_kg,
        tested_days=(today - tested.at.date()).days if tested else None,
        tested_sd_ah=tested.sd_ah if tested else 0.0,
        printed_wh=battery.printed_wh,
        was_deep_discharged=battery.was_deep_discharged,
        was_left_on=battery.was_left_on,
        hold=asset.hold,
        soc=soc,
    )


def _bank(asset: Asset) -> gear.PowerBank:
    bank = asset.bank
    return gear.PowerBank(
        tag=asset.tag,
        cell_mah=bank.cell_mah,
        cell_v=bank.cell_v,
        efficiency=bank.efficiency_pct / 100,
        levels=fields.parse_levels(bank.levels) or ((5.0, 3.0),),
        auto_off_a=bank.auto_off_ma / 1000,
        claimed_ah=bank.claimed_ah,
        claimed_v=bank.claimed_v,
    )


def _panel(asset: Asset) -> gear.Panel:
    panel = asset.panel
    return gear.Panel(
        tag=asset.tag,
        voc_v=panel.voc_v,
        isc_a=panel.isc_a,
        vmp_v=panel.vmp_v,
        imp_a=panel.imp_a,
        voc_per_c=panel.voc_pct_per_c / 100,
        power_per_c=panel.power_pct_per_c / 100,
        in_series=panel.in_series,
        mass_kg=asset.mass_kg,
    )


def _controller(asset: Asset) -> gear.Controller:
    controller = asset.controller
    return gear.Controller(
        tag=asset.tag,
        method=controller.method,
        max_a=controller.max_a,
        max_v=controller.max_v,
        setting=controller.setting,
        settings=fields.parse_chemistries(controller.settings),
        absorb_v=controller.absorb_v,
        float_v=controller.float_v,
        is_compensated=controller.is_compensated,
    )


def charger_of(asset: Asset) -> gear.Charger:
    """Return a charger or supply as the core sees it."""
    charger = asset.charger
    return gear.Charger(
        tag=asset.tag,
        role=charger.role,
        max_a=charger.max_a,
        absorb_v=charger.absorb_v,
        float_v=charger.float_v,
        low_v=charger.low_v,
        high_v=charger.high_v,
        setting=charger.setting,
        settings=fields.parse_chemistries(charger.settings),
        how_set=charger.how_set,
        series=fields.parse_cells(charger.series),
        balances=charger.balances,
        wakes_tripped=charger.wakes_tripped,
        is_compensated=charger.is_compensated,
        resumes=charger.resumes,
        efficiency=charger.efficiency_pct / 100,
        power_factor=charger.power_factor,
        is_isolated=charger.is_isolated,
    )


def _generator(asset: Asset) -> gear.Generator:
    generator = asset.generator
    return gear.Generator(
        tag=asset.tag,
        rated_w=generator.rated_w,
        rated_va=generator.rated_va,
        quarter_l_h=generator.quarter_l_h,
        full_l_h=generator.full_l_h,
        tank_l=generator.tank_l,
        other_w=generator.other_w,
    )


def _converter(asset: Asset) -> gear.Converter:
    converter = asset.converter
    return gear.Converter(
        tag=asset.tag,
        method=converter.method,
        in_min_v=converter.in_min_v,
        in_max_v=converter.in_max_v,
        out_v=converter.out_v,
        max_w=converter.max_w,
        efficiency_low=converter.efficiency_low_pct / 100,
        efficiency_full=converter.efficiency_full_pct / 100,
        idle_w=converter.idle_w,
        min_load_w=converter.min_load_w,
        headroom_v=converter.headroom_v,
        levels=fields.parse_levels(converter.levels),
        ports=converter.ports,
        shared_w=converter.shared_w,
    )


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
    return gear.Device(
        tag=asset.name or asset.tag,
        draw=draw(key_down),
        low_draw=None if low is None else draw(low),
        min_v=device.min_v,
        max_v=device.max_v,
        nominal_v=device.nominal_v,
        maker_fuse_a=device.maker_fuse_a,
        tx_w=device.tx_w,
        low_tx_w=device.low_tx_w,
        rises_with_volts=device.rises_with_volts,
        pd_v=device.pd_v,
        pd_w=device.pd_w,
        duty=device.duty_pct / 100,
        transmit_share=(
            device.transmit_pct / 100 if device.key_down_a is not None else 0.0
        ),
    )


def meter_of(asset: Asset, today: date) -> gear.Meter:
    """Return a meter with the age of its comparison."""
    meter = asset.meter
    checked = meter.checked_on
    return gear.Meter(
        tag=asset.tag,
        zero_a=meter.zero_a,
        gain=meter.gain,
        checked_days=(today - checked).days if checked else None,
    )


def lead_of(asset: Asset) -> gear.Lead:
    """Return a lead with its two ends."""
    lead: Lead = asset.lead
    return gear.Lead(
        tag=asset.tag,
        end_a=End(
            connector=lead.a_connector,
            gender=lead.a_gender,
            is_reversed=lead.a_reversed,
        ),
        end_b=End(
            connector=lead.b_connector,
            gender=lead.b_gender,
            is_reversed=lead.b_reversed,
        ),
        length_m=lead.length_m,
        awg=lead.awg,
        area_mm2=lead.area_mm2,
        fuse_a=lead.fuse_a,
    )


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


def _antenna(asset: Asset) -> gear.AntennaPart:
    return gear.AntennaPart(tag=asset.tag, max_w=asset.antennapart.max_w)


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
    AssetKind.ANTENNA: _antenna,
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


def printable(value: object) -> object:
    """A value as tables print it: no binary tails, no decimals beyond need."""
    if isinstance(value, Decimal):
        return float(value)
    return value
