"""The state of what is in a kit: tested, sound, fastened, in date."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.powerpath import Kit

CAUSE = "state of the gear"
#: Below this share of the print a pack is due to be retired. [share]
RETIRE_SHARE = 0.7
#: Resistance over typical at which a pack counts as tired. [ratio]
TIRED_RATIO = 2.5


@rule(
    "on-hold",
    STOP,
    CAUSE,
    "a battery on hold is in the kit",
    why="Somebody put it on hold for a reason.",
    remedy="Take another, or settle the reason and release it.",
)
def on_hold(kit: Kit) -> Iterator[Hit]:
    """A battery with a hold, wired or in a box."""
    for battery in (*kit.batteries, *kit.spares):
        if battery.hold:
            yield Hit(
                where=battery.tag, words=f"{battery.tag} is on hold: {battery.hold}."
            )


@rule(
    "capacity-unproved",
    CAUTION,
    CAUSE,
    "capacity never proved",
    why="4.8 Ah printed and 3.0 Ah given is not rare.",
    remedy="Run it down from full under a known load before you count on it.",
)
def capacity_unproved(kit: Kit) -> Iterator[Hit]:
    """No accepted capacity test."""
    for battery in kit.batteries:
        if battery.pack.tested_ah is None and battery.pack.chem.is_rechargeable:
            yield Hit(
                where=battery.tag,
                words=f"{battery.tag} was never tested; it is trusted with "
                f"{battery.pack.trusted_ah:.1f} of {battery.pack.nameplate_ah:g} Ah.",
            )


@rule(
    "test-old",
    NOTE,
    CAUSE,
    "the capacity test is old",
    why="Packs lose capacity with age and with how they are kept.",
    remedy="Test it again before the event.",
)
def test_old(kit: Kit) -> Iterator[Hit]:
    """Older than the chemistry's interval; a caution at twice it."""
    for battery in kit.batteries:
        days, limit = battery.tested_days, battery.pack.chem.test_days
        if days is not None and days > limit:
            yield Hit(
                where=battery.tag,
                words=f"{battery.tag} was last tested {days} days ago.",
                severity=CAUTION if days > 2 * limit else NOTE,
            )


@rule(
    "capacity-low",
    CAUTION,
    CAUSE,
    "a tired battery",
    why="Below 70 % of its print a pack has little left and fails without warning.",
    remedy="Retire it from stations; use it where nobody depends on it.",
)
def capacity_low(kit: Kit) -> Iterator[Hit]:
    """Tested below 70 % of the print."""
    for battery in kit.batteries:
        tested = battery.pack.tested_ah
        if tested is not None and tested < RETIRE_SHARE * battery.pack.nameplate_ah:
            yield Hit(
                where=battery.tag,
                words=f"{battery.tag} gave {tested:.1f} of "
                f"{battery.pack.nameplate_ah:g} Ah.",
            )


@rule(
    "resistance-high",
    CAUTION,
    CAUSE,
    "the battery sags",
    why="A pack whose resistance has risen drops out at key-down with charge still in.",
    remedy="Check the connections first, then test it again; else retire it.",
)
def resistance_high(kit: Kit) -> Iterator[Hit]:
    """Measured resistance far above what is typical."""
    for battery in kit.batteries:
        pack = battery.pack
        typical = pack.typical_ohm
        if pack.measured_ohm is not None and pack.measured_ohm > TIRED_RATIO * typical:
            yield Hit(
                where=battery.tag,
                words=f"{battery.tag} has {pack.measured_ohm * 1000:.0f} mΩ; "
                f"{typical * 1000:.0f} mΩ is typical.",
            )


@rule(
    "deep-discharged",
    CAUTION,
    CAUSE,
    "it was once run flat",
    why="A deep discharge costs capacity for good; after one a lithium pack may be "
    "unsafe to charge.",
    remedy="Test it again; a swollen pack is taken out of use.",
)
def deep_discharged(kit: Kit) -> Iterator[Hit]:
    """Noted as deep-discharged."""
    for battery in kit.batteries:
        if battery.was_deep_discharged:
            yield Hit(where=battery.tag, words=f"{battery.tag} was run flat once.")


@rule(
    "left-on",
    CAUTION,
    CAUSE,
    "it was left switched on",
    why="A meter or a converter left on empties a battery in weeks and ages it.",
    remedy="Switches off, load off, before the lid closes; charge it and test it.",
)
def left_on(kit: Kit) -> Iterator[Hit]:
    """Noted as left on."""
    for battery in kit.batteries:
        if battery.was_left_on:
            yield Hit(where=battery.tag, words=f"{battery.tag} was left switched on.")


@rule(
    "not-fastened",
    CAUTION,
    CAUSE,
    "something inside is not fastened",
    why="What moves in a box breaks its leads or shorts them.",
    remedy="Screws, straps or foam; nothing that only sticks.",
)
def not_fastened(kit: Kit) -> Iterator[Hit]:
    """Noted in the build record."""
    if not kit.conditions.is_fastened:
        yield Hit(where="", words="The build record says that something is loose.")


@rule(
    "temporary-overdue",
    CAUTION,
    CAUSE,
    "a temporary part past its date",
    why="What was meant for one weekend is what fails two years later.",
    remedy="Replace it now, or give it a new date with a reason.",
)
def temporary_overdue(kit: Kit) -> Iterator[Hit]:
    """Past its date a caution, within two weeks a note."""
    for part in kit.temporary:
        if part.overdue_days > -14:
            late = part.overdue_days > 0
            words = (
                f"{part.overdue_days} days past"
                if late
                else f"due in {-part.overdue_days} days"
            )
            yield Hit(
                where=part.name,
                words=f"{part.name} is temporary, {words}.",
                severity=CAUTION if late else NOTE,
            )


@rule(
    "primary-in-kit",
    NOTE,
    CAUSE,
    "primary cells in the kit",
    why="Primary cells leak when they stay in what is put away.",
    remedy="Take them out before storing; note the date.",
)
def primary_in_kit(kit: Kit) -> Iterator[Hit]:
    """A primary battery among the members."""
    for battery in kit.batteries:
        if not battery.pack.chem.is_rechargeable:
            yield Hit(where=battery.tag, words=f"{battery.tag} is of primary cells.")
