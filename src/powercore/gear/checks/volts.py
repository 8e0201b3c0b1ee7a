"""The voltage that reaches a device, from a full battery down to the reserve."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.errors import PowerBeyondPack
from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.powerpath import (
    Converts,
    Feeds,
    Kit,
    key_down,
    quits_at,
    receiving,
    solve,
    try_solve,
)
from powercore.physics.battery import SAME_V

CAUSE = "volts at the device"
#: Below this share of its nominal voltage a transmitter gives clearly less.
#: Common practice, no source.
_FULL_POWER_SHARE = 0.88
#: At its least, a pack has so much of the typical resistance. A stop must hold with
#: that. Common practice, no source.
_LEAST_OHM = 0.33
_IF_TYPICAL = ", if the battery's resistance is as usual for its size: measure it"
#: A device that quits above this state of charge never works. (0 to 1)
_ALWAYS = 0.995


def _direct(kit: Kit) -> Iterator[Feeds]:
    """Devices that see the battery's own voltage."""
    if kit.members:
        yield from (part for part in kit.devices if not kit.converter_before(part.key))


def _reserve(kit: Kit) -> float:
    return max(battery.pack.reserve_soc for battery in kit.batteries)


@rule(
    "device-max-volts",
    STOP,
    CAUSE,
    "a full battery is too high for the device",
    why="Fresh off the charger a pack stands at the top of its charge, well above its "
    "nominal voltage.",
    remedy="A battery of fewer cells, or a converter before the device.",
)
def device_max_volts(kit: Kit) -> Iterator[Hit]:
    """The top of the battery's charge against the device's highest."""
    for part in _direct(kit):
        volts = kit.top_v
        if volts > part.device.stands_v + SAME_V:
            yield Hit(
                where=part.key,
                words=f"Off the charger the battery gives {volts:.1f} V; {part.called} "
                f"can take {part.device.stands_v:g} V.",
            )


@rule(
    "device-min-volts",
    CAUTION,
    CAUSE,
    "the device quits before the battery is at its reserve",
    why="What a lead and a fuse lose at key-down is missing at the radio; charge below "
    "that point can't be used.",
    remedy="Shorter or thicker wire, fewer joints, lower power, or a boost converter.",
)
def device_min_volts(kit: Kit) -> Iterator[Hit]:
    """Share of the charge above reserve that the device can't use, key down."""
    for part in _direct(kit):
        reserve = _reserve(kit)
        lowest = quits_at(kit, part)
        if lowest >= _ALWAYS:
            sure = quits_at(kit.with_ohm(_LEAST_OHM), part) >= _ALWAYS
            doubt = "" if sure else _IF_TYPICAL
            yield Hit(
                where=part.key,
                words=f"Even full, key down leaves less than {part.device.needs_v:g} V "
                f"at {part.called}{doubt}.",
                severity=STOP if sure else CAUTION,
            )
        elif lowest > reserve + 0.01:
            lost = (lowest - reserve) / (1 - reserve)
            yield Hit(
                where=part.key,
                words=f"Key down {part.called} quits at {lowest:.0%}, with "
                f"{lost:.0%} of the usable charge still in.",
            )


@rule(
    "power-rises",
    CAUTION,
    CAUSE,
    "more volts make more power and heat",
    why="In a small radio the output rises with the supply: within its input limit it "
    "can still overheat, for it has no heat sink.",
    remedy="Lower the drive, or feed it from fewer cells or a converter.",
)
def power_rises(kit: Kit) -> Iterator[Hit]:
    """A radio whose output follows its supply, on a pack above its nominal volts."""
    for part in _direct(kit):
        device = part.device
        volts = kit.set_v(0.9)
        if device.rises_with_volts and volts > 1.04 * device.stated_v:
            more = (volts / device.stated_v) ** 2
            watts = f", about {device.tx_w * more:.1f} W" if device.tx_w else ""
            yield Hit(
                where=part.key,
                words=f"{volts:.1f} V instead of {device.stated_v:g} V: "
                f"{more - 1:.0%} more power and heat{watts}.",
            )


@rule(
    "power-falls",
    NOTE,
    CAUSE,
    "less than full power",
    why="Below the voltage a transmitter is made for, its output falls.",
    remedy="Expect less, or shorten the way; below its minimum it distorts.",
)
def power_falls(kit: Kit) -> Iterator[Hit]:
    """Key-down volts at half charge far under nominal."""
    for part in _direct(kit):
        if not part.device.is_transmitter:
            continue
        state = try_solve(kit, 0.5, key_down)
        if state is None:
            continue
        volts, device = state.at[part.key].in_v, part.device
        if device.needs_v <= volts < _FULL_POWER_SHARE * device.stated_v:
            yield Hit(
                where=part.key,
                words=f"Half full, key down leaves {volts:.1f} V at {part.called} "
                f"of {device.stated_v:g} V.",
            )


@rule(
    "converter-input",
    STOP,
    CAUSE,
    "battery volts outside the converter's input",
    why="Above its input limit a converter fails, often with the battery's voltage at "
    "its output; below it switches off.",
    remedy="A converter for this battery's whole range.",
)
def converter_input(kit: Kit) -> Iterator[Hit]:
    """Full and reserve volts against the converter's window."""
    for part in kit.parts:
        if not isinstance(part, Converts) or not kit.members:
            continue
        if kit.converter_before(part.key):
            continue
        high_v = kit.top_v
        low_v = kit.set_v(_reserve(kit))
        converter = part.converter
        if high_v > converter.in_max_v + SAME_V:
            yield Hit(
                where=part.key,
                words=f"Charging or full it gets {high_v:.1f} V; it can take "
                f"{converter.in_max_v:g} V.",
            )
        elif low_v < converter.in_min_v:
            yield Hit(
                where=part.key,
                words=f"At the reserve the battery gives {low_v:.1f} V; it needs "
                f"{converter.in_min_v:g} V.",
                severity=CAUTION,
            )


@rule(
    "converter-dropout",
    CAUTION,
    CAUSE,
    "the converter can't hold its output",
    why="A step-down converter gives its input less its headroom once the battery "
    "sinks: a laptop dims and recovers, a radio resets.",
    remedy="A converter that also boosts, or a lower output voltage.",
)
def converter_dropout(kit: Kit) -> Iterator[Hit]:
    """Output at the reserve below what the device behind needs."""
    for part in kit.devices:
        before = kit.converter_before(part.key)
        if before is None or not kit.members:
            continue
        state = try_solve(kit, _reserve(kit), receiving)
        if state is None:
            continue
        volts = state.at[part.key].in_v
        if volts < part.device.needs_v:
            yield Hit(
                where=part.key,
                words=f"At the reserve {before.called} gives "
                f"{volts:.1f} V; {part.called} needs {part.device.needs_v:g} V.",
            )


@rule(
    "converter-output",
    STOP,
    CAUSE,
    "the converter gives more than the device can take",
    why="A wrong output setting destroys what it feeds at once.",
    remedy="Set or replace the converter before anything is plugged in.",
)
def converter_output(kit: Kit) -> Iterator[Hit]:
    """Nominal output against the device's highest."""
    for part in kit.devices:
        before = kit.converter_before(part.key)
        if before is None:
            continue
        if before.converter.out_v > part.device.stands_v + SAME_V:
            yield Hit(
                where=part.key,
                words=f"{before.called} gives "
                f"{before.converter.out_v:g} V; {part.called} can take "
                f"{part.device.stands_v:g} V.",
            )


@rule(
    "no-steady-voltage",
    STOP,
    CAUSE,
    "the loads ask for more than the way lets through",
    why="A converter draws more current as the voltage falls; past a point there is "
    "no voltage at which it works.",
    remedy="Thicker wire, a larger battery, or a smaller load.",
)
def no_steady_voltage(kit: Kit) -> Iterator[Hit]:
    """No solution key down at the reserve."""
    if not kit.members:
        return
    try:
        solve(kit, _reserve(kit), key_down)
    except PowerBeyondPack as error:
        sure = try_solve(kit.with_ohm(_LEAST_OHM), _reserve(kit), key_down) is None
        yield Hit(
            where=kit.members[0].battery.tag,
            words=str(error) if sure else str(error).rstrip(".") + f"{_IF_TYPICAL}.",
            severity=STOP if sure else CAUTION,
        )
