"""Numbers that can't be right: meters, units, claims, antenna power."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.errors import PowercoreError
from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.powerpath import Kit, hours_given, receiving

CAUSE = "numbers"
#: What transmits at most turns into radio power. Common practice, no source.
_BEST_EFFICIENCY = 0.75


@rule(
    "meter-offset",
    CAUTION,
    CAUSE,
    "the meter's zero invents charge",
    why="Cheap current meters show up to half an amp with nothing flowing; counted "
    "over hours that is charge that never was.",
    remedy="Zero it, note the offset so that it is taken off, or use another.",
)
def meter_offset(kit: Kit) -> Iterator[Hit]:
    """Offset × hours against a twentieth of the capacity."""
    have_ah = kit.trusted_ah
    for meter in kit.meters:
        false_ah = abs(meter.zero_a) * kit.conditions.hours
        if false_ah >= 0.05 * have_ah and false_ah > 0:
            yield Hit(
                where=meter.tag,
                words=f"{meter.tag} shows {meter.zero_a:+.2f} A at rest: "
                f"{false_ah:.1f} Ah in {kit.conditions.hours:g} h that never flowed.",
            )


@rule(
    "meter-gain",
    NOTE,
    CAUSE,
    "the meter reads high or low",
    why="A shunt of the wrong size counts everything wrong in the same share.",
    remedy="Correct it, or let its readings be corrected here.",
)
def meter_gain(kit: Kit) -> Iterator[Hit]:
    """A gain more than 5 % from one."""
    for meter in kit.meters:
        if abs(meter.gain - 1) > 0.05:
            yield Hit(
                where=meter.tag,
                words=f"{meter.tag} shows {meter.gain:.0%} of what flows.",
            )


@rule(
    "meter-unchecked",
    NOTE,
    CAUSE,
    "a meter nobody compared with another",
    why="A count is as good as the meter it comes from.",
    remedy="Compare it at no current and at a known one; note both.",
)
def meter_unchecked(kit: Kit) -> Iterator[Hit]:
    """Never compared, or longer than a year ago."""
    for meter in kit.meters:
        if meter.checked_days is None or meter.checked_days > 365:
            when = (
                "never"
                if meter.checked_days is None
                else f"{meter.checked_days} days ago"
            )
            yield Hit(where=meter.tag, words=f"{meter.tag} was last compared {when}.")


@rule(
    "printed-energy",
    CAUTION,
    CAUSE,
    "printed watt-hours and amp-hours don't agree",
    why="Amp-hours at cell volts, taken for amp-hours of the pack, promise three or "
    "four times the energy.",
    remedy="Find out at which voltage the amp-hours are meant; test it.",
)
def printed_energy(kit: Kit) -> Iterator[Hit]:
    """Printed Wh against nominal V × printed Ah, more than 12 % apart."""
    for battery in kit.batteries:
        printed_wh = battery.printed_wh
        pack = battery.pack
        if printed_wh is None:
            continue
        worked_wh = pack.nameplate_wh
        if abs(printed_wh - worked_wh) > 0.12 * worked_wh:
            cell_ah = printed_wh / pack.nominal_v
            yield Hit(
                where=battery.tag,
                words=f"{pack.nameplate_ah:g} Ah at {pack.nominal_v:.1f} V are "
                f"{worked_wh:.0f} Wh; {printed_wh:g} Wh is printed, which is "
                f"{cell_ah:.1f} Ah.",
            )


@rule(
    "output-above-input",
    STOP,
    CAUSE,
    "more power out than goes in",
    why="Half an amp on transmit can't make the watts claimed: one of the numbers is "
    "a guess.",
    remedy="Measure the key-down current.",
)
def output_above_input(kit: Kit) -> Iterator[Hit]:
    """Transmit power above 75 % of volts × key-down amps; a stop above 100 %."""
    for part in kit.devices:
        device = part.device
        if device.tx_w is None:
            continue
        in_w = device.stated_v * device.draw.key_down_a
        if device.tx_w > _BEST_EFFICIENCY * in_w:
            yield Hit(
                where=part.key,
                words=f"{device.tx_w:g} W out of {in_w:.1f} W in "
                f"({device.draw.key_down_a:g} A at {device.stated_v:g} V).",
                severity=STOP if device.tx_w > in_w else CAUTION,
            )


@rule(
    "amps-as-amp-hours",
    CAUTION,
    CAUSE,
    "amp-hours written where amps belong",
    why="A charging limit equal to the amp-hours of a lead-acid battery is its "
    "capacity, not its limit.",
    remedy="Look for the maker's charging current; a tenth to a third is usual.",
)
def amps_as_amp_hours(kit: Kit) -> Iterator[Hit]:
    """A lead-acid charge limit at or above its amp-hours."""
    for battery in kit.batteries:
        limit_a = battery.max_charge_a
        if limit_a is None or not battery.pack.chem.is_lead:
            continue
        if limit_a >= 0.95 * battery.pack.nameplate_ah:
            yield Hit(
                where=battery.tag,
                words=f"A charging limit of {limit_a:g} A is noted for "
                f"{battery.pack.nameplate_ah:g} Ah.",
            )


@rule(
    "antenna-power",
    STOP,
    "antenna",
    "transmit power above the antenna's rating",
    why="A tuner or balun above its rating arcs and takes the transmitter with it.",
    remedy="Lower power, or another tuner; a long carrier heats more than speech.",
)
def antenna_power(kit: Kit) -> Iterator[Hit]:
    """Full transmit power against the least rating among the antenna parts."""
    for part in kit.devices:
        device = part.device
        for item in kit.antennas:
            if device.tx_w is not None and device.tx_w > item.max_w:
                yield Hit(
                    where=item.tag,
                    words=f"{part.name or device.tag} gives {device.tx_w:g} W; "
                    f"{item.tag} can take {item.max_w:g} W.",
                )


@rule(
    "hours-short",
    CAUTION,
    CAUSE,
    "used for longer than it lasts",
    why="A kit that is sent for three days and lasts one and a half is off the air "
    "when it is wanted most.",
    remedy="More batteries, something that charges it there, or a swap on the way.",
)
def hours_short(kit: Kit) -> Iterator[Hit]:
    """Hours at a stretch against hours on receive; a kit that charges is let be."""
    if not kit.members or not kit.devices or kit.charges:
        return
    try:
        lasts_h = hours_given(kit.switched_on, receiving)
    except PowercoreError:
        return
    used_min, lasts_min = round(60 * kit.conditions.hours), int(60 * lasts_h)
    if used_min > lasts_min:
        yield Hit(
            where="",
            words=f"It is used for {_hours(used_min)} at a stretch and lasts "
            f"{_hours(lasts_min)} even on receive alone.",
        )


def _hours(minutes: int) -> str:
    return f"{minutes // 60}:{minutes % 60:02d} h"
