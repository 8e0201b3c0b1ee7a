"""What may charge what, and by which way."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.fits import FLOAT_FILLS_TO
from powercore.gear.powerpath import Charge, Kit, Switch
from powercore.gear.things import MPPT, SUPPLY, Battery, Charger, Panel
from powercore.physics.battery import SAME_V

CAUSE = "charging"
#: Lost in controller and leads between a panel and a battery. [V]
_HEADROOM_V = 0.5


def _pairs(kit: Kit) -> Iterator[tuple[Charge, Battery]]:
    for charge in kit.charges:
        for battery in kit.batteries:
            yield charge, battery


def absorb_v(charge: Charge) -> float | None:
    """Voltage a charge path drives a battery to; None where nobody knows. [V]"""
    if charge.controller is not None:
        return charge.controller.absorb_v
    if isinstance(charge.source, Charger):
        return charge.source.absorb_v
    return None


def charge_a(charge: Charge) -> float:
    """Highest current a charge path gives. [A]"""
    if isinstance(charge.source, Charger):
        return charge.source.max_a
    panel_a = charge.source.isc_a
    if charge.controller is None:
        return panel_a
    if charge.controller.method == MPPT:
        panel_a = charge.source.watts * 0.95 / 12.8
    return min(panel_a, charge.controller.max_a)


@rule(
    "charge-chemistry",
    STOP,
    CAUSE,
    "charger or controller set for another chemistry",
    why="Each chemistry is full at another voltage and ends in another way; the wrong "
    "setting overcharges a pack or never fills it.",
    remedy="Set it for the battery's chemistry by its maker's instructions, or use "
    "another.",
)
def charge_chemistry(kit: Kit) -> Iterator[Hit]:
    """A setting that is known and is not the battery's."""
    for charge, battery in _pairs(kit):
        device = charge.controller or charge.source
        if isinstance(device, Panel) or not device.setting:
            continue
        chem = battery.pack.chem
        if device.setting != chem.key and chem.is_rechargeable:
            can = chem.key in device.settings
            how = getattr(device, "how_set", "") or "its setting"
            yield Hit(
                where=charge.key,
                words=f"{device.tag} is set for {device.setting}; {battery.tag} is "
                f"{chem.name}.",
                remedy=f"Set it for {chem.name} ({how})." if can else "",
            )


@rule(
    "charge-setting-unknown",
    CAUTION,
    CAUSE,
    "nobody knows what the charger is set for",
    why="An unknown setting is found out by a damaged or an empty battery.",
    remedy="Look at its jumper or menu and write the setting down.",
)
def charge_setting_unknown(kit: Kit) -> Iterator[Hit]:
    """A charger or controller without a setting."""
    for charge in kit.charges:
        device = charge.controller or charge.source
        if isinstance(device, Panel):
            continue
        is_supply = isinstance(device, Charger) and device.role == SUPPLY
        if not device.setting and not is_supply:
            yield Hit(
                where=charge.key, words=f"Nobody noted what {device.tag} is set for."
            )


@rule(
    "charge-volts-high",
    STOP,
    CAUSE,
    "charged above the pack's limit",
    why="Above its limit a lithium pack's protection opens or the cells are harmed; "
    "lead-acid gases.",
    remedy="Lower the charging voltage to the maker's figure.",
)
def charge_volts_high(kit: Kit) -> Iterator[Hit]:
    """Absorption voltage above the maker's limit, else the chemistry's highest."""
    for charge, battery in _pairs(kit):
        volts = absorb_v(charge)
        limit_v = battery.pack.highest_charge_v
        if volts and battery.pack.chem.is_rechargeable and volts > limit_v + SAME_V:
            yield Hit(
                where=charge.key,
                words=f"It goes to {volts:.1f} V; {battery.tag} may have "
                f"{limit_v:.1f} V at most.",
            )


@rule(
    "charge-volts-low",
    CAUTION,
    CAUSE,
    "never charged full",
    why="Lead-acid that never reaches its absorption voltage sulphates; a lithium pack "
    "never balances and its gauge never starts from full.",
    remedy="Use a charger that reaches the absorption voltage.",
)
def charge_volts_low(kit: Kit) -> Iterator[Hit]:
    """Absorption below the range that fills the chemistry."""
    for charge, battery in _pairs(kit):
        volts, pack = absorb_v(charge), battery.pack
        low_v = pack.chem.charge_range_v[0] * pack.series
        if not volts or not pack.chem.is_rechargeable or volts >= low_v - SAME_V:
            continue
        words = (
            f"It stops at {volts:.1f} V; {battery.tag} is full from {low_v:.1f} V on."
        )
        if pack.fills_slowly_at(volts):
            words = (
                f"At {volts:.1f} V {battery.tag} fills slowly to about "
                f"{FLOAT_FILLS_TO:.0%} and is never balanced; it is full from "
                f"{low_v:.1f} V on."
            )
        yield Hit(where=charge.key, words=words)


@rule(
    "float-above-limit",
    CAUTION,
    CAUSE,
    "float voltage above what the pack may keep",
    why="A supply that holds 13.8 V keeps a lithium pack at full charge for days, "
    "which ages it; some makers forbid any float.",
    remedy="Unplug when full, or set a float within the maker's limit.",
)
def float_above_limit(kit: Kit) -> Iterator[Hit]:
    """A float above the pack's own or its chemistry's."""
    for charge, battery in _pairs(kit):
        device = charge.controller or charge.source
        float_v = None if isinstance(device, Panel) else device.float_v
        pack = battery.pack
        limit_v = pack.most_float_v
        if float_v is None or not pack.chem.is_rechargeable:
            continue
        if limit_v is None:
            yield Hit(
                where=charge.key,
                words=f"It floats at {float_v:.1f} V; {pack.chem.name} is not floated.",
            )
        elif float_v > limit_v + SAME_V:
            yield Hit(
                where=charge.key,
                words=f"It floats at {float_v:.1f} V; {battery.tag} may be kept at "
                f"{limit_v:.1f} V.",
            )


@rule(
    "primary-cell",
    STOP,
    CAUSE,
    "a battery that must not be charged",
    why="Primary cells leak or burst when charged.",
    remedy="Take the charger out of this kit, or the battery.",
)
def primary_cell(kit: Kit) -> Iterator[Hit]:
    """Any way into a primary battery."""
    for charge, battery in _pairs(kit):
        if not battery.pack.chem.is_rechargeable:
            yield Hit(
                where=charge.key,
                words=f"{battery.tag} is {battery.pack.chem.name}; never charge it.",
            )


@rule(
    "charge-current",
    CAUTION,
    CAUSE,
    "charging current too high for the pack",
    why="A high charging current heats the cells and trips protection.",
    remedy="Set a lower current or use a smaller charger.",
)
def charge_current(kit: Kit) -> Iterator[Hit]:
    """A stop above the maker's limit, a caution above practice."""
    for charge, battery in _pairs(kit):
        amps, limit_a = charge_a(charge), battery.charge_limit_a
        share_a = amps / max(1, len(kit.members))
        if battery.pack.chem.is_rechargeable and share_a > limit_a * 1.001:
            known = battery.max_charge_a is not None
            rate = share_a / battery.pack.nameplate_ah
            yield Hit(
                where=charge.key,
                words=f"{share_a:.1f} A into {battery.tag} is {rate:.2f} C; "
                f"{'its maker allows' if known else 'practice is up to'} "
                f"{limit_a:.1f} A.",
                severity=STOP if known else CAUTION,
            )


@rule(
    "cold-charge",
    STOP,
    CAUSE,
    "charging where it can freeze",
    why="Charging lithium cells at or below 0 °C plates metal inside them and makes "
    "them unsafe later; the cells count, not the air.",
    remedy="Warm the pack first, or charge elsewhere; a pack that heats itself may.",
    source="cell makers' sheets, from memory",
)
def cold_charge(kit: Kit) -> Iterator[Hit]:
    """The lowest temperature of the place at or below the chemistry's limit."""
    for charge, battery in _pairs(kit):
        chem, low_c = battery.pack.chem, kit.conditions.low_c
        if (
            chem.is_rechargeable
            and low_c <= chem.cold_charge_c
            and not battery.is_heated
        ):
            yield Hit(
                where=charge.key,
                words=f"It may be {low_c:g} °C there; {battery.tag} must not be "
                f"charged at or below {chem.cold_charge_c:g} °C.",
            )


@rule(
    "heat",
    CAUTION,
    CAUSE,
    "too hot for the battery",
    why="A dark box in the sun goes beyond battery limits; heat ages every chemistry "
    "and is dangerous for lithium.",
    remedy="Shade and air; keep the box out of the sun and of closed cars.",
)
def heat(kit: Kit) -> Iterator[Hit]:
    """The highest temperature above the chemistry's."""
    for battery in kit.batteries:
        chem, high_c = battery.pack.chem, kit.conditions.high_c
        if high_c > chem.hot_c:
            yield Hit(
                where=battery.tag,
                words=f"It may be {high_c:g} °C there; {chem.name} suffers above "
                f"{chem.hot_c:g} °C.",
            )


@rule(
    "panel-no-controller",
    STOP,
    CAUSE,
    "panel straight onto a battery",
    why="Nothing ends the charge; and when the pack's protection opens, all that hangs "
    "on it sees the panel's open-circuit voltage.",
    remedy="Put a charge controller set for the battery between them.",
)
def panel_no_controller(kit: Kit) -> Iterator[Hit]:
    """A panel without controller, with the volts the loads may see."""
    for charge in kit.charges:
        if isinstance(charge.source, Panel) and charge.controller is None:
            voc_v = charge.source.cold_voc_v(kit.conditions.low_c)
            exposed = [
                part.called
                for part in kit.devices
                if part.device.stands_v < voc_v and not kit.converter_before(part.key)
            ]
            then = (
                f" Then {', '.join(exposed)} would get {voc_v:.1f} V."
                if exposed
                else f" Then the loads would get {voc_v:.1f} V."
            )
            yield Hit(
                where=charge.key,
                words=f"{charge.source.tag} charges with no controller.{then}",
            )


@rule(
    "controller-voc",
    STOP,
    CAUSE,
    "panel volts above the controller's limit in the cold",
    why="Open-circuit voltage rises as panels get colder; above its limit a controller "
    "is destroyed in the first cold morning.",
    remedy="Fewer panels in series, or a controller for more volts.",
)
def controller_voc(kit: Kit) -> Iterator[Hit]:
    """A stop above the limit, a caution with less than 5 % to it."""
    for charge in kit.charges:
        if not isinstance(charge.source, Panel) or charge.controller is None:
            continue
        voc_v = charge.source.cold_voc_v(kit.conditions.low_c)
        limit_v = charge.controller.max_v
        if voc_v > limit_v * 0.95:
            over = voc_v > limit_v
            yield Hit(
                where=charge.key,
                words=f"At {kit.conditions.low_c:g} °C {charge.source.tag} gives "
                f"{voc_v:.1f} V open; {charge.controller.tag} stands {limit_v:g} V"
                f"{'.' if over else ', with less than 5 % between.'}",
                severity=STOP if over else CAUTION,
            )


@rule(
    "controller-amps",
    CAUTION,
    CAUSE,
    "panel current above the controller's rating",
    why="Bright clouds and cold give more than the print; a PWM controller passes it "
    "all.",
    remedy="A larger controller, or fewer panels in parallel.",
    source="1.25 × short-circuit current: NEC 690.8, from memory",
)
def controller_amps(kit: Kit) -> Iterator[Hit]:
    """1.25 times the short-circuit current of the panel."""
    for charge in kit.charges:
        if not isinstance(charge.source, Panel) or charge.controller is None:
            continue
        if charge.controller.method == MPPT:
            continue
        design_a = 1.25 * charge.source.isc_a
        if design_a > charge.controller.max_a:
            yield Hit(
                where=charge.key,
                words=f"{charge.source.tag} can give {design_a:.1f} A; "
                f"{charge.controller.tag} is for {charge.controller.max_a:g} A.",
            )


@rule(
    "panel-too-low",
    CAUTION,
    CAUSE,
    "panel volts too low to fill the battery",
    why="A panel that is warm gives less than its print; without headroom the last "
    "part of the charge never comes.",
    remedy="A panel or string of more volts, or a boosting controller.",
)
def panel_too_low(kit: Kit) -> Iterator[Hit]:
    """Maximum-power volts of a hot panel against the charging voltage."""
    for charge, battery in _pairs(kit):
        panel = charge.source
        if not isinstance(panel, Panel) or not battery.pack.chem.is_rechargeable:
            continue
        # A panel in the sun is about 25 °C warmer than the air, so this many
        # degrees above the 25 °C of its print.
        above_c = max(0.0, kit.conditions.high_c)
        hot_v = panel.vmp_v * panel.in_series * (1 + panel.voc_per_c * above_c)
        if hot_v < battery.pack.absorb_v + _HEADROOM_V:
            yield Hit(
                where=charge.key,
                words=f"Hot, {panel.tag} gives its power at about {hot_v:.1f} V; "
                f"{battery.tag} is filled at {battery.pack.absorb_v:.1f} V.",
            )


@rule(
    "pwm-loss",
    NOTE,
    CAUSE,
    "a PWM controller wastes panel volts",
    why="PWM gives panel amps at battery volts: the rest of the panel's voltage is "
    "not turned into charge.",
    remedy="A tracking (MPPT) controller, or count on the lower figure.",
)
def pwm_loss(kit: Kit) -> Iterator[Hit]:
    """Watts given against watts printed, where a quarter is lost."""
    for charge in kit.charges:
        panel, controller = charge.source, charge.controller
        if not isinstance(panel, Panel) or controller is None or not kit.members:
            continue
        volts = kit.set_v(0.6)
        given_w = panel.imp_a * volts
        if controller.method != MPPT and given_w < 0.75 * panel.watts:
            yield Hit(
                where=charge.key,
                words=f"{panel.tag} is printed {panel.watts:.0f} W; through "
                f"{controller.tag} it gives about {given_w:.0f} W at {volts:.1f} V.",
            )


@rule(
    "charge-through-outlet",
    CAUTION,
    CAUSE,
    "charging through an outlet made for a load",
    why="The way back passes fuses and switches meant for the load, and works only "
    "with the main switch on.",
    remedy="Charge at the battery's own terminals or a port made for it.",
)
def charge_through_outlet(kit: Kit) -> Iterator[Hit]:
    """A charge that enters through a load's outlet."""
    for charge in kit.charges:
        if charge.through == "load":
            at = kit.by_key.get(charge.enters_at)
            place = at.called if at else "a load outlet"
            yield Hit(
                where=charge.key,
                words=f"{charge.source.tag} charges through {place}.",
            )


@rule(
    "charge-behind-switch",
    CAUTION,
    CAUSE,
    "charging depends on a switch",
    why="With the switch off nothing charges, and nobody sees it until morning.",
    remedy="Wire the charge ahead of the switch, or put the switch on the card.",
)
def charge_behind_switch(kit: Kit) -> Iterator[Hit]:
    """A switch on the way in, on or off."""
    for charge in kit.charges:
        switches = [
            part for part in kit.way_to(charge.enters_at) if isinstance(part, Switch)
        ] + list(charge.switches)
        for switch in switches:
            off = not switch.is_on
            yield Hit(
                where=charge.key,
                words=f"{charge.source.tag} charges through {switch.name or 'a switch'}"
                f"{', which is off: it charges nothing.' if off else '.'}",
            )


@rule(
    "charge-shared-switch",
    NOTE,
    CAUSE,
    "one switch sends the sun elsewhere",
    why="While the switch feeds the other thing, the battery gets less or nothing.",
    remedy="Write on the card which way the switch must stand.",
)
def charge_shared_switch(kit: Kit) -> Iterator[Hit]:
    """A source that a switch shares with something else."""
    for charge in kit.charges:
        if charge.shares_with:
            yield Hit(
                where=charge.key,
                words=f"{charge.source.tag} also feeds {charge.shares_with}.",
            )


@rule(
    "separate-port-bypassed",
    STOP,
    CAUSE,
    "protection bypassed while charging",
    why="A pack with a port of its own for charging is protected against overcharge "
    "only there; charged through its output, nothing stops it.",
    remedy="Charge through the charging port of each pack.",
)
def separate_port_bypassed(kit: Kit) -> Iterator[Hit]:
    """A separate-port pack charged through its discharge side."""
    for charge, battery in _pairs(kit):
        if battery.protection == "separate" and charge.through in ("load", "discharge"):
            yield Hit(
                where=charge.key,
                words=f"{battery.tag} has a separate charging port, and "
                f"{charge.source.tag} goes in through the other one.",
            )


@rule(
    "no-compensation",
    NOTE,
    CAUSE,
    "lead-acid charged without temperature compensation",
    why="Cold lead-acid needs more volts to be full, warm lead-acid less: 3 to 5 mV "
    "a cell for each degree.",
    remedy="Use a compensated charger, or expect less in the cold and gas in the heat.",
)
def no_compensation(kit: Kit) -> Iterator[Hit]:
    """More than 10 °C from 25 °C without compensation."""
    for charge, battery in _pairs(kit):
        device = charge.controller or charge.source
        pack = battery.pack
        if isinstance(device, Panel) or device.is_compensated or not pack.chem.is_lead:
            continue
        far_c = max(
            (kit.conditions.low_c, kit.conditions.high_c), key=lambda c: abs(c - 25)
        )
        if abs(far_c - 25) > 10:
            wants_v = pack.chem.charge_v_at(far_c) * pack.series
            yield Hit(
                where=charge.key,
                words=f"At {far_c:g} °C {battery.tag} wants {wants_v:.2f} V instead of "
                f"{pack.absorb_v:.2f} V; {device.tag} doesn't correct it.",
            )


@rule(
    "tripped-pack",
    NOTE,
    CAUSE,
    "the charger can't wake a tripped pack",
    why="A pack whose protection has tripped shows 0 V; many chargers then see no "
    "battery. It is a procedure by the maker, not a dead pack.",
    remedy="Note on the card how this pack is woken.",
)
def tripped_pack(kit: Kit) -> Iterator[Hit]:
    """A lithium pack with protection on a charger that needs to see volts."""
    for charge, battery in _pairs(kit):
        source = charge.source
        if (
            isinstance(source, Charger)
            and not source.wakes_tripped
            and battery.pack.chem.is_lithium
            and battery.protection in ("common", "separate")
        ):
            yield Hit(
                where=charge.key,
                words=f"If {battery.tag} trips, {source.tag} won't start it.",
            )


@rule(
    "unbalanced-charge",
    STOP,
    CAUSE,
    "cells charged without balancing",
    why="In a string without protection one cell goes over its limit while the sum "
    "still looks right.",
    remedy="Charge it with its balance lead on a charger that balances.",
)
def unbalanced_charge(kit: Kit) -> Iterator[Hit]:
    """A string that needs balancing, without protection, on a plain charger."""
    for charge, battery in _pairs(kit):
        pack = battery.pack
        balances = isinstance(charge.source, Charger) and charge.source.balances
        if battery.wants_balancing and not balances:
            is_known = battery.protection == "none"
            known = "no protection" if is_known else "nobody noted any protection"
            yield Hit(
                where=charge.key,
                words=f"{battery.tag} has {pack.series} cells in series and {known}; "
                f"{charge.source.tag} doesn't balance them.",
                severity=STOP if is_known else CAUTION,
            )


@rule(
    "charge-volts-device",
    STOP,
    CAUSE,
    "a device sees the charging voltage",
    why="While the battery charges, everything on it stands at the charging voltage.",
    remedy="Disconnect the device while charging, or put a converter before it.",
)
def charge_volts_device(kit: Kit) -> Iterator[Hit]:
    """Charging volts above a device's highest."""
    for charge in kit.charges:
        volts = absorb_v(charge)
        if volts is None and kit.members:
            volts = kit.top_v
        for part in kit.devices:
            if kit.converter_before(part.key) or volts is None:
                continue
            if volts > part.device.stands_v + SAME_V:
                yield Hit(
                    where=part.key,
                    words=f"While charging it gets {volts:.1f} V; it stands "
                    f"{part.device.stands_v:g} V.",
                )
