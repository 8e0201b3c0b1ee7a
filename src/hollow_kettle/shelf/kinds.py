"""The kinds of asset: one table from which forms, imports, exports and facts come."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from django.core.exceptions import ValidationError
from django.db.models import FloatField

from powercore.limits import Limit
from powercore.physics.chemistry import CHEMISTRIES, chemistry_of
from powercore.physics.wiring import BUNDLES, CONNECTORS, INSULATIONS

from .fields import (
    CELLS,
    CHEMISTRY_LIST,
    CHEMISTRY_WORDS,
    CHOICE,
    DATE,
    LEVELS,
    LONG,
    NUMBER,
    TIME,
    WHOLE,
    YES,
    Kind,
    Spec,
)
from .models import details
from .models.asset import AssetKind
from .models.details import Detail
from .models.kits import Kit

#: How far a stated nominal voltage may lie from cells × the chemistry's. [share]
NOMINAL_TOLERANCE = 0.06


def _chemistries(blank: bool = False) -> tuple[tuple[str, str], ...]:
    named = tuple((key, chem.name) for key, chem in CHEMISTRIES.items())
    return (("", "not noted"), *named) if blank else named


def _for(model: type[Detail]) -> Callable[..., Spec]:
    """Return a maker of number fields whose range is the model's."""

    def make(name: str, label: str, **options: Any) -> Spec:
        whole = not isinstance(model._meta.get_field(name), FloatField)
        return Spec(
            name=name,
            label=label,
            how=WHOLE if whole else NUMBER,
            limit=model.LIMITS[name],
            **options,
        )

    return make


def _yes(name: str, label: str, **options: Any) -> Spec:
    return Spec(name=name, label=label, how=YES, **options)


def _choice(
    name: str, label: str, choices: Iterable[tuple[str, str]], **options: Any
) -> Spec:
    return Spec(name=name, label=label, how=CHOICE, choices=tuple(choices), **options)


CONNECTOR_CHOICES = tuple((key, one.name) for key, one in CONNECTORS.items())
_SETTINGS = Spec(
    name="settings",
    label="Can be set for",
    how=CHEMISTRY_LIST,
    help="Chemistries, separated by commas: lifepo4, agm.",
)
_LEVELS = Spec(
    name="levels",
    label="USB-C levels",
    how=LEVELS,
    help="Volts × amps, separated by commas: 5x3, 9x3, 20x3.",
)


def series_from_nominal(chemistry: str, nominal_v: float) -> int:
    """
    Return the number of cells whose nominal voltage is the one stated.

    Raises
    ------
    ValidationError
        If no whole number of cells comes near it.
    """
    series = max(1, round(nominal_v / chemistry_of(chemistry).cell_nominal_v))
    check_nominal(chemistry, series, nominal_v)
    return series


def check_nominal(chemistry: str, series: int, nominal_v: float) -> None:
    """
    Check a stated nominal voltage against cells in series.

    Raises
    ------
    ValidationError
        If they don't belong together.
    """
    chem = chemistry_of(chemistry)
    expected_v = series * chem.cell_nominal_v
    if abs(nominal_v - expected_v) > NOMINAL_TOLERANCE * expected_v:
        raise ValidationError(
            f"{series} {chem.name} cells in series make {expected_v:.1f} V nominal, "
            f"not {nominal_v:g} V.",
            code="nominal_voltage",
        )


def _complete_battery(values: dict[str, Any]) -> dict[str, Any]:
    """Find the cells from the nominal voltage, or check one against the other."""
    values = dict(values)
    nominal_v = values.pop("nominal_v", None)
    if values.get("chemistry") and "series" in values:
        chemistry = values["chemistry"]
        try:
            if values["series"] is None:
                if nominal_v is None:
                    raise ValidationError(
                        "Give the cells in series, or the nominal voltage."
                    )
                values["series"] = series_from_nominal(chemistry, nominal_v)
            elif nominal_v is not None:
                check_nominal(chemistry, values["series"], nominal_v)
        except ValidationError as error:
            where = "series" if nominal_v is None else "nominal_v"
            raise ValidationError({where: error.messages}) from error
    if "parallel" in values:
        values["parallel"] = values["parallel"] or 1
    return values


def _battery_about(battery: details.Battery) -> str:
    chem = chemistry_of(battery.chemistry)
    return f"{battery.nameplate_ah:g} Ah {chem.name}"


def _bank_about(bank: details.Bank) -> str:
    wh = bank.cell_mah * bank.cell_v / 1000
    return f"{bank.cell_mah:g} mAh, {wh:.0f} Wh in its cells"


def _panel_about(panel: details.Panel) -> str:
    watts = panel.vmp_v * panel.imp_a * panel.in_series
    return f"{watts:.0f} W, {panel.voc_v * panel.in_series:g} V open"


def _set_for(setting: str) -> str:
    return f"set for {setting}" if setting else "no setting noted"


def _controller_about(one: details.Controller) -> str:
    method = one.get_method_display()
    return f"{one.max_a:g} A {method}, {_set_for(one.setting)}"


def _charger_about(one: details.Charger) -> str:
    return f"{one.max_a:g} A {one.role}, {_set_for(one.setting)}"


def _device_about(device: details.Device) -> str:
    power = f"{device.tx_w:g} W, " if device.tx_w else ""
    keyed = f" to {device.key_down_a:g} A" if device.key_down_a else ""
    return f"{power}{device.receive_a:g} A{keyed}"


def _lead_about(lead: details.Lead) -> str:
    ends = (
        f"{lead.get_a_connector_display()} {lead.a_gender}".strip(),
        f"{lead.get_b_connector_display()} {lead.b_gender}".strip(),
    )
    return " to ".join(ends)


_battery, _bank, _panel = _for(details.Battery), _for(details.Bank), _for(details.Panel)
_controller, _charger = _for(details.Controller), _for(details.Charger)
_generator, _converter = _for(details.Generator), _for(details.Converter)
_device, _meter, _lead = _for(details.Device), _for(details.Meter), _for(details.Lead)
_guard, _antenna, _kit = _for(details.Guard), _for(details.AntennaPart), _for(Kit)

KINDS: dict[str, Kind] = {
    kind.key: kind
    for kind in (
        Kind(
            key=AssetKind.BATTERY,
            name="battery",
            plural="batteries",
            model=details.Battery,
            complete=_complete_battery,
            about=_battery_about,
            specs=(
                _choice(
                    "chemistry",
                    "Chemistry",
                    _chemistries(),
                    is_needed=True,
                    aliases=("type",),
                    spellings=CHEMISTRY_WORDS,
                ),
                _battery(
                    "series",
                    "Cells in series",
                    aliases=("cells", "cells in series", "s"),
                    help="4 for the usual 12.8 V LiFePO4, 6 for 12 V lead-acid.",
                ),
                Spec(
                    name="nominal_v",
                    label="Nominal voltage",
                    how=NUMBER,
                    limit=Limit(1.2, 500, "V", "a pack has at least one cell"),
                    aliases=("voltage", "nominal voltage", "volts", "v"),
                    help="Checked against the cells, or used to find them.",
                ),
                _battery(
                    "parallel",
                    "Cells in parallel",
                    aliases=("p", "cells in parallel"),
                    is_fine=True,
                ),
                _battery(
                    "nameplate_ah",
                    "Nameplate capacity",
                    is_needed=True,
                    aliases=("ah", "capacity", "capacity_ah", "nameplate"),
                    help="Printed on it.",
                ),
                _battery(
                    "printed_wh",
                    "Printed energy",
                    is_fine=True,
                    help="Watt-hours, if printed too; checked against amp-hours.",
                ),
                Spec(
                    name="tested_ah",
                    label="Tested capacity",
                    how=NUMBER,
                    limit=Limit(0.01, 5000, "Ah"),
                    asked="table",
                    aliases=("tested",),
                    help="Of an accepted test; empty when never tested.",
                ),
                _battery(
                    "reserve_pct",
                    "Reserve",
                    aliases=("reserve",),
                    help="Empty means the chemistry's usual: 20 % lithium, 50 % lead.",
                ),
                _battery(
                    "max_discharge_a",
                    "Maximum discharge current",
                    help="The maker's; empty means the chemistry's practice.",
                ),
                _battery("max_charge_a", "Maximum charge current", help="The maker's."),
                _choice(
                    "protection",
                    "Protection",
                    details.Battery.PROTECTION,
                    help="With a charging port of its own it is protected only there. "
                    "Leave it as not noted until somebody looked.",
                ),
                _battery(
                    "resistance_mohm",
                    "Resistance",
                    is_fine=True,
                    help="Measured with its leads; empty means typical.",
                ),
                _battery(
                    "peukert",
                    "Peukert's exponent",
                    is_fine=True,
                    help="Of lead-acid; found in two tests at different currents. "
                    "Empty means typical.",
                ),
                _battery(
                    "max_charge_v",
                    "Maker's charging limit",
                    is_fine=True,
                    help="Of the whole pack; the three below stay within it.",
                ),
                _battery(
                    "charge_v",
                    "Charging voltage",
                    is_fine=True,
                    help="Empty means its chemistry's usual one.",
                ),
                _battery(
                    "float_v",
                    "Float voltage",
                    is_fine=True,
                    help="Empty means its chemistry's usual one.",
                ),
                _battery(
                    "disconnect_v",
                    "Disconnect voltage",
                    is_fine=True,
                    help="Empty means its chemistry's usual one.",
                ),
                _battery(
                    "board_low_v",
                    "Board cuts off below",
                    is_fine=True,
                    help="Of the whole pack; empty means its chemistry's usual one.",
                ),
                _battery(
                    "board_high_v",
                    "Board cuts off above",
                    is_fine=True,
                    help="Of the whole pack; empty: not known.",
                ),
                _choice(
                    "balancing",
                    "Balancing",
                    details.Battery.BALANCING,
                    is_fine=True,
                ),
                _battery(
                    "charge_low_c",
                    "Coldest to charge at",
                    is_fine=True,
                    help="The maker's; empty means its chemistry's usual one.",
                ),
                _yes("is_heated", "Heats itself", is_fine=True),
                _yes("was_deep_discharged", "Was once run flat", is_fine=True),
                _yes("was_left_on", "Was once left on", is_fine=True),
            ),
        ),
        Kind(
            key=AssetKind.BANK,
            name="power bank",
            plural="power banks",
            model=details.Bank,
            about=_bank_about,
            specs=(
                _bank(
                    "cell_mah",
                    "Cell capacity",
                    is_needed=True,
                    aliases=("mah",),
                    help="As printed.",
                ),
                _bank("cell_v", "Cell voltage", help="3.7 V when nothing is said."),
                _bank("efficiency_pct", "Share of it that comes out", is_fine=True),
                _LEVELS,
                _bank(
                    "auto_off_ma", "Switches off below", help="50 to 100 mA is usual."
                ),
                _bank("claimed_ah", "Amp-hours claimed", is_fine=True),
                _bank(
                    "claimed_v",
                    "at",
                    is_fine=True,
                    help="Volts for which they are claimed.",
                ),
            ),
        ),
        Kind(
            key=AssetKind.PANEL,
            name="solar panel",
            plural="solar panels",
            model=details.Panel,
            about=_panel_about,
            specs=(
                _panel(
                    "voc_v", "Open-circuit voltage", is_needed=True, aliases=("voc",)
                ),
                _panel(
                    "isc_a", "Short-circuit current", is_needed=True, aliases=("isc",)
                ),
                _panel("vmp_v", "Max-power voltage", is_needed=True, aliases=("vmp",)),
                _panel("imp_a", "Max-power current", is_needed=True, aliases=("imp",)),
                _panel(
                    "measured_a",
                    "Measured short-circuit current",
                    help="In full sun near noon; its plug stands with its ports.",
                    is_fine=True,
                ),
                _panel("in_series", "Panels in series", help="1 for one panel."),
                _panel("voc_pct_per_c", "Open-circuit volts for each °C", is_fine=True),
                _panel("power_pct_per_c", "Power for each °C", is_fine=True),
                _panel("width_m", "Width", is_fine=True),
                _panel("height_m", "Height", is_fine=True),
            ),
        ),
        Kind(
            key=AssetKind.CONTROLLER,
            name="charge controller",
            plural="charge controllers",
            model=details.Controller,
            about=_controller_about,
            specs=(
                _choice("method", "Method", details.Controller.METHODS),
                _controller("max_a", "Highest current", is_needed=True),
                _controller("max_v", "Highest panel voltage", is_needed=True),
                _choice(
                    "setting",
                    "Set for",
                    _chemistries(blank=True),
                    spellings=CHEMISTRY_WORDS,
                ),
                _SETTINGS,
                _controller("absorb_v", "Charges to"),
                _controller(
                    "float_v", "Floats at", help="Empty when it doesn't float."
                ),
                _yes("is_compensated", "Corrects for temperature"),
            ),
        ),
        Kind(
            key=AssetKind.CHARGER,
            name="charger or supply",
            plural="chargers and supplies",
            model=details.Charger,
            about=_charger_about,
            specs=(
                _choice("role", "Role", details.Charger.ROLES),
                _charger("max_a", "Highest current", is_needed=True, aliases=("amps",)),
                _charger(
                    "absorb_v",
                    "Charges to",
                    help="What it holds before the tail.",
                    aliases=("volts",),
                ),
                _charger("float_v", "Floats at", help="Empty when it ends instead."),
                _charger(
                    "low_v", "Can be set from", help="For a supply that can be set."
                ),
                _charger("high_v", "Can be set up to"),
                _choice(
                    "setting",
                    "Set for",
                    _chemistries(blank=True),
                    spellings=CHEMISTRY_WORDS,
                ),
                _SETTINGS,
                Spec(
                    name="how_set",
                    label="How it is set",
                    most=80,
                    help="Jumper, switch, menu.",
                ),
                Spec(
                    name="series",
                    label="Cells in series",
                    how=CELLS,
                    most=40,
                    help="Counts separated by commas; empty when the volts decide.",
                    is_fine=True,
                ),
                _yes("balances", "Balances the cells", is_fine=True),
                _yes("wakes_tripped", "Wakes a tripped pack", is_fine=True),
                _yes("is_compensated", "Corrects for temperature", is_fine=True),
                _yes("resumes", "Restarts by itself after a power cut"),
                _yes(
                    "is_isolated",
                    "Isolated: a battery can't feed back into it",
                    is_fine=True,
                ),
                _charger("efficiency_pct", "Efficiency", is_fine=True),
                _charger(
                    "power_factor",
                    "Power factor",
                    is_fine=True,
                    help="0.65 is usual for a small one.",
                ),
            ),
        ),
        Kind(
            key=AssetKind.GENERATOR,
            name="generator",
            plural="generators",
            model=details.Generator,
            about=lambda g: f"{g.rated_w:g} W, {g.fuel}",
            specs=(
                _generator("rated_w", "Power", is_needed=True, aliases=("watts", "w")),
                _generator("rated_va", "Apparent power", help="Empty means the same."),
                _choice("fuel", "Fuel", details.Generator.FUELS),
                _generator("quarter_l_h", "Uses at a quarter load"),
                _generator("full_l_h", "Uses at full load"),
                _generator("tank_l", "Tank"),
                _generator("other_w", "Other loads on it", is_fine=True),
                Spec(
                    name="quiet_from",
                    label="Quiet from",
                    how=TIME,
                    help="Like 22:00.",
                    is_fine=True,
                ),
                Spec(
                    name="quiet_to",
                    label="Quiet until",
                    how=TIME,
                    help="Like 06:00.",
                    is_fine=True,
                ),
            ),
        ),
        Kind(
            key=AssetKind.CONVERTER,
            name="converter",
            plural="converters",
            model=details.Converter,
            about=lambda c: f"{c.get_method_display()}, {c.out_v:g} V {c.max_w:g} W",
            specs=(
                _choice("method", "Method", details.Converter.METHODS),
                _converter("out_v", "Gives", is_needed=True),
                _converter("max_w", "Up to", is_needed=True),
                _converter("in_min_v", "Lowest input voltage"),
                _converter("in_max_v", "Highest input voltage"),
                _LEVELS,
                _converter("ports", "Ports"),
                _converter(
                    "shared_w",
                    "Each port, all in use",
                    help="Empty when ports don't share.",
                ),
                _converter("efficiency_low_pct", "Efficiency at a fifth", is_fine=True),
                _converter("efficiency_full_pct", "Efficiency at full", is_fine=True),
                _converter("idle_w", "Idle draw", is_fine=True),
                _converter("min_load_w", "Switches off below", is_fine=True),
                _converter(
                    "headroom_v",
                    "Input above output",
                    is_fine=True,
                    help="What a step-down needs.",
                ),
            ),
        ),
        Kind(
            key=AssetKind.DEVICE,
            name="radio or load",
            plural="radios and loads",
            model=details.Device,
            about=_device_about,
            specs=(
                _device("receive_a", "Receives, or runs, at", is_needed=True),
                _device(
                    "transmit_idle_a", "Transmits idle at", help="Between syllables."
                ),
                _device(
                    "key_down_a",
                    "Key down",
                    help="At full power; empty when it doesn't transmit.",
                ),
                _device("low_key_down_a", "Key down at low power"),
                _device("standby_a", "Standby", is_fine=True),
                _choice("origin", "These currents are", details.Device.ORIGINS),
                _device("min_v", "Works from"),
                _device("max_v", "Works up to"),
                _device(
                    "nominal_v",
                    "Made for",
                    help="The volts at which it draws these amps.",
                ),
                _device("maker_fuse_a", "The maker's fuse"),
                _device("tx_w", "Transmit power"),
                _device("low_tx_w", "Transmit power, low"),
                _yes("rises_with_volts", "Gives more power at more volts"),
                _device("pd_v", "USB-C level it needs"),
                _device("pd_w", "USB-C power it needs"),
                _device("transmit_pct", "Share of time transmitting", is_fine=True),
                _device("duty_pct", "Duty of its mode", is_fine=True),
            ),
        ),
        Kind(
            key=AssetKind.METER,
            name="meter",
            plural="meters",
            model=details.Meter,
            about=lambda m: (
                f"shows {m.zero_a:+.2f} A at rest, {m.gain:.0%} of what flows"
            ),
            specs=(
                _meter("zero_a", "Shows at rest", help="With nothing flowing."),
                _meter(
                    "gain",
                    "Reads, over true",
                    help="1 when it is right; 1.02 shows 2 % too much.",
                ),
                Spec(
                    name="checked_on",
                    label="Compared on",
                    how=DATE,
                    help="Like 2026-04-11.",
                ),
            ),
        ),
        Kind(
            key=AssetKind.LEAD,
            name="lead or adapter",
            plural="leads and adapters",
            model=details.Lead,
            about=_lead_about,
            specs=(
                _choice("a_connector", "One end", CONNECTOR_CHOICES, is_needed=True),
                _choice("a_gender", "is a", details.GENDER_CHOICES),
                _yes("a_reversed", "its polarity is reversed", is_fine=True),
                _choice("b_connector", "Other end", CONNECTOR_CHOICES, is_needed=True),
                _choice("b_gender", "is a", details.GENDER_CHOICES),
                _yes("b_reversed", "its polarity is reversed", is_fine=True),
                _lead("length_m", "Length", help="One way."),
                _lead("awg", "Gauge", help="AWG, or give mm²."),
                _lead("area_mm2", "Cross-section"),
                _choice(
                    "insulation",
                    "Insulation",
                    INSULATIONS.items(),
                    help="Ordinary when nothing is printed on it.",
                ),
                _choice("bundle", "Lies", BUNDLES.items()),
                _lead("fuse_a", "Fuse in it"),
            ),
        ),
        Kind(
            key=AssetKind.GUARD,
            name="fuse, breaker or block",
            plural="fuses, breakers and blocks",
            model=details.Guard,
            about=lambda guard: f"{guard.amps:g} A {guard.get_role_display()}",
            specs=(
                _choice("role", "What it is", details.Guard.ROLES),
                _guard("amps", "Rating", is_needed=True),
            ),
        ),
        Kind(
            key=AssetKind.ANTENNA,
            name="antenna part",
            plural="antenna parts",
            model=details.AntennaPart,
            about=lambda part: f"up to {part.max_w:g} W",
            specs=(
                _antenna("max_w", "Stands", is_needed=True, help="Continuous carrier."),
            ),
        ),
        Kind(
            key=AssetKind.KIT,
            name="kit",
            plural="kits",
            model=Kit,
            about=lambda kit: kit.purpose,
            specs=(
                Spec(name="purpose", label="Purpose", most=200),
                _choice("travels", "Travels", Kit.WAYS),
                _kit("low_c", "Coldest where it is used"),
                _kit("high_c", "Warmest where it is used"),
                _kit("hours", "Used for", help="Hours at a stretch."),
                _kit("lift_kg", "One person lifts"),
                _kit(
                    "people", "How many carry it", help="By air each may have so much."
                ),
                _yes("is_fastened", "Everything in it is fastened"),
                _yes("is_restrained", "It is strapped on the road"),
                _yes("feeds_building", "It feeds a building's wiring"),
                _choice("cover", "Cover against rain", Kit.COVERS),
                Spec(
                    name="boxes",
                    label="Its boxes hold",
                    most=200,
                    help="Each with its litres: lid 12, bag 25.",
                ),
                Spec(
                    name="steps",
                    label="Card: steps",
                    how=LONG,
                    most=2000,
                    help="One per line, for a stranger: what to do, in order.",
                ),
                Spec(
                    name="listening", label="Card: when to listen", how=LONG, most=500
                ),
                Spec(
                    name="channels",
                    label="Card: channels",
                    how=LONG,
                    most=1000,
                    help="One per line.",
                ),
            ),
        ),
    )
}


def kind_of(key: str) -> Kind:
    """Return a kind by its key; KeyError when there is none."""
    return KINDS[key]
