"""What may charge what, and by which way."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.fits import FLOAT_FILLS_TO
from powercore.gear.powerpath import Charge, Kit
from powercore.gear.things import MPPT, SUPPLY, Battery, Charger, Panel
from powercore.physics.battery import SAME_V

CAUSE = "charging"
#: Lost in controller and leads between a panel and a battery. [V]
HEADROOM_V = 0.5


def pairs_of(kit: Kit) -> Iterator[tuple[Charge, Battery]]:
    """Each way of charging with each battery of the kit."""
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


def charge_a(charge: Charge, battery_v: float) -> float:
    """Highest current a charge path gives a battery of so many volts. [A]"""
    if isinstance(charge.source, Charger):
        return charge.source.max_a
    panel_a = charge.source.isc_a
    if charge.controller is None:
        return panel_a
    if charge.controller.method == MPPT:
        panel_a = charge.source.watts * 0.95 / battery_v
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
    for charge, battery in pairs_of(kit):
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
    for charge, battery in pairs_of(kit):
        volts = absorb_v(charge)
        limit_v = battery.pack.highest_charge_v
        if volts and battery.pack.chem.is_rechargeable and volts > limit_v + SAME_V:
            yield Hit(
                where=charge.key,
                words=f"It goes to {volts:.1f} V; {battery.tag} may have "
                f"{limit_v:.1f} V at most.",
            )


@rule(
    "board-high",
    CAUTION,
    CAUSE,
    "the board cuts off before it is full",
    why="A board that opens at the charging voltage ends every charge early and leaves "
    "the charger without a battery, which some don't survive.",
    remedy="Charge to less than the board's cut-off, by the maker's instructions.",
)
def board_high(kit: Kit) -> Iterator[Hit]:
    """Charging voltage against the board's high cut-off."""
    for charge, battery in pairs_of(kit):
        volts, cut_v = absorb_v(charge), battery.pack.board_high_v
        if volts and cut_v is not None and volts > cut_v - SAME_V:
            yield Hit(
                where=charge.key,
                words=f"It goes to {volts:.1f} V; the board of {battery.tag} cuts off "
                f"at {cut_v:.1f} V.",
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
    for charge, battery in pairs_of(kit):
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
    for charge, battery in pairs_of(kit):
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
    for charge, battery in pairs_of(kit):
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
    for charge, battery in pairs_of(kit):
        limit_a = battery.charge_limit_a
        amps = charge_a(charge, battery.pack.nominal_v)
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
    """The lowest temperature of the place at or below what the pack is charged at."""
    for charge, battery in pairs_of(kit):
        pack, low_c = battery.pack, kit.conditions.low_c
        if pack.chem.is_rechargeable and pack.is_too_cold(
            low_c, is_heated=battery.is_heated
        ):
            yield Hit(
                where=charge.key,
                words=f"It may be {low_c:g} °C there; {battery.tag} must not be "
                f"charged at or below {pack.cold_charge_c:g} °C.",
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
    for charge, battery in pairs_of(kit):
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
                words=f"At {far_c:g} °C {battery.tag} needs {wants_v:.2f} V instead of "
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
    for charge, battery in pairs_of(kit):
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
    for charge, battery in pairs_of(kit):
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
    why="While the battery charges, everything on it gets the charging voltage.",
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
                    words=f"While charging it gets {volts:.1f} V; it can take "
                    f"{part.device.stands_v:g} V.",
                )
