"""USB power, power banks and converters."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.powerpath import Converts, Feeds, Kit
from powercore.gear.things import INVERTER, USB_PD, PowerBank, level_for

CAUSE = "USB and converters"


def _wants(kit: Kit) -> Iterator[tuple[Feeds, Converts]]:
    for part in kit.devices:
        before = kit.converter_before(part.key)
        if before is not None and part.device.pd_v is not None:
            yield part, before


@rule(
    "pd-level",
    STOP,
    CAUSE,
    "the USB-C level it needs is missing",
    why="USB power delivery offers 5, 9, 15 and 20 V; 12 V is none of them. Without "
    "its level a laptop charges at 5 V or not at all.",
    remedy="An adapter with that level and those watts.",
    source="USB power delivery levels, from memory",
)
def pd_level(kit: Kit) -> Iterator[Hit]:
    """A device's level against those its converter offers; watts too few caution."""
    for part, before in _wants(kit):
        volts, watts = part.device.pd_v or 0.0, part.device.pd_w or 0.0
        level = level_for(before.converter.levels, volts)
        offered = ", ".join(f"{v:g} V" for v, _ in before.converter.levels) or "none"
        if level is None:
            yield Hit(
                where=part.key,
                words=f"{part.called} asks for {volts:g} V; "
                f"{before.converter.tag} offers {offered}.",
            )
        elif level[0] * level[1] < watts * 0.999:
            yield Hit(
                where=part.key,
                words=f"{part.called} asks for {watts:g} W; "
                f"{before.converter.tag} gives {level[0] * level[1]:g} W at "
                f"{volts:g} V.",
                severity=CAUTION,
            )


@rule(
    "pd-shared",
    NOTE,
    CAUSE,
    "the other port halves the power",
    why="Two ports in use share the watts, and each falls to a lower level.",
    remedy="One thing on it at a time, or a second adapter.",
)
def pd_shared(kit: Kit) -> Iterator[Hit]:
    """A shared converter whose share is below what a device asks."""
    for part, before in _wants(kit):
        converter = before.converter
        if converter.ports > 1 and converter.shared_w is not None:
            wanted = part.device.pd_w or 0.0
            less = wanted > converter.shared_w
            yield Hit(
                where=before.key,
                words=f"With both ports in use {converter.tag} gives "
                f"{converter.shared_w:g} W each; {part.called} asks for "
                f"{wanted:g} W.",
                severity=CAUTION if less else NOTE,
            )


@rule(
    "pd-cable",
    NOTE,
    CAUSE,
    "more than 60 W over USB-C needs a marked lead",
    why="Without the mark in the lead an adapter gives 3 A at most.",
    remedy="Pack the lead that is marked for 5 A.",
    source="USB power delivery, from memory",
)
def pd_cable(kit: Kit) -> Iterator[Hit]:
    """A device that needs more than 60 W."""
    for part, _ in _wants(kit):
        if (part.device.pd_w or 0) > 60:
            yield Hit(
                where=part.key,
                words=f"{part.called} asks for {part.device.pd_w:g} W.",
            )


@rule(
    "converter-overload",
    STOP,
    CAUSE,
    "the loads pass the converter",
    why="Overloaded it folds back or switches off, and takes all behind it down.",
    remedy="A larger converter, or fewer loads on it.",
)
def converter_overload(kit: Kit) -> Iterator[Hit]:
    """Sum of what hangs on a converter against its watts."""
    for part in kit.parts:
        if not isinstance(part, Converts):
            continue
        watts = sum(
            max(load.device.draw.key_down_a, load.device.draw.receive_a)
            * (load.device.pd_v or part.converter.out_v)
            for load in kit.behind(part.key)
            if isinstance(load, Feeds)
        )
        if watts > part.converter.max_w * 1.001:
            yield Hit(
                where=part.key,
                words=f"{watts:.0f} W hang on {part.converter.tag}, which gives "
                f"{part.converter.max_w:g} W.",
            )


@rule(
    "converter-idle",
    NOTE,
    CAUSE,
    "the converter itself draws a good part",
    why="What a converter draws by itself runs all day, also with nothing on it.",
    remedy="Switch it off when not in use, or feed the load directly.",
)
def converter_idle(kit: Kit) -> Iterator[Hit]:
    """Idle draw over the event above a tenth of the trusted energy, or an inverter."""
    for part in kit.parts:
        if not isinstance(part, Converts) or not kit.members:
            continue
        idle_wh = part.converter.idle_w * kit.conditions.hours
        have_wh = kit.trusted_ah * kit.set_v(0.5)
        if idle_wh > 0.1 * have_wh or (
            part.converter.method == INVERTER and idle_wh > 0.03 * have_wh
        ):
            yield Hit(
                where=part.key,
                words=f"{part.converter.tag} alone draws {idle_wh:.0f} Wh in "
                f"{kit.conditions.hours:g} h, {idle_wh / have_wh:.0%} of the battery.",
            )


@rule(
    "converter-min-load",
    CAUTION,
    CAUSE,
    "the converter switches off at a small load",
    why="Below its minimum load it takes the radio for nothing and switches off.",
    remedy="Another converter, or something small that keeps it awake.",
)
def converter_min_load(kit: Kit) -> Iterator[Hit]:
    """Receiving power behind a converter below its minimum."""
    if not kit.members:
        return
    for part in kit.parts:
        if not isinstance(part, Converts) or part.converter.min_load_w <= 0:
            continue
        watts = sum(
            load.device.draw.receive_a * part.converter.out_v
            for load in kit.behind(part.key)
            if isinstance(load, Feeds)
        )
        if watts < part.converter.min_load_w:
            yield Hit(
                where=part.key,
                words=f"Receiving draws {watts:.1f} W; {part.converter.tag} needs "
                f"{part.converter.min_load_w:g} W.",
            )


@rule(
    "bank-auto-off",
    CAUTION,
    CAUSE,
    "the power bank switches itself off",
    why="Many banks switch off below 50 to 100 mA after half a minute: a receiver "
    "that only listens goes silent.",
    remedy="A bank with a small-current mode, or a keep-alive load.",
)
def bank_auto_off(kit: Kit) -> Iterator[Hit]:
    """A receive-only current below what keeps the bank on."""
    for bank in kit.banks:
        light = [
            part for part in kit.devices if part.device.draw.receive_a < bank.auto_off_a
        ]
        for part in light:
            yield Hit(
                where=bank.tag,
                words=f"{part.called} receives at "
                f"{part.device.draw.receive_a * 1000:.0f} mA; {bank.tag} switches off "
                f"below {bank.auto_off_a * 1000:.0f} mA.",
            )


def bank_claims(bank: PowerBank) -> str | None:
    """Say what is wrong with a bank's claimed capacity, if anything."""
    if bank.claimed_ah is None:
        return None
    given = bank.given_ah(bank.claimed_v)
    if bank.claimed_ah <= given * 1.05:
        return None
    return (
        f"{bank.claimed_ah:g} Ah at {bank.claimed_v:g} V is said of {bank.tag}; its "
        f"cells hold {bank.cell_wh:.0f} Wh, which is {given:.2f} Ah there."
    )


@rule(
    "bank-capacity",
    CAUTION,
    CAUSE,
    "milliamp-hours counted at the wrong voltage",
    why="A bank's milliamp-hours are those of its 3.7 V cells; at 5 or 12 V fewer come "
    "out.",
    remedy="Count watt-hours: mAh × 3.7 V, less what its converter loses.",
)
def bank_capacity(kit: Kit) -> Iterator[Hit]:
    """A claimed output above what the cells can give."""
    for bank in kit.banks:
        words = bank_claims(bank)
        if words:
            yield Hit(where=bank.tag, words=words)


@rule(
    "pd-not-a-level",
    NOTE,
    CAUSE,
    "a USB-C adapter that claims 12 V",
    why="12 V is no level of the standard: another adapter won't give it.",
    remedy="Carry this very adapter, or a lead that makes 12 V from 15 V.",
    source="USB power delivery levels, from memory",
)
def pd_not_a_level(kit: Kit) -> Iterator[Hit]:
    """A USB converter with a level at 12 V."""
    for part in kit.parts:
        if not isinstance(part, Converts) or part.converter.method != USB_PD:
            continue
        if level_for(part.converter.levels, 12.0):
            yield Hit(where=part.key, words=f"{part.converter.tag} offers 12 V.")
