"""How a kit travels: by air, on the road, in hands."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from powercore.battery import AirBand, air_band
from powercore.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.powerpath import Kit

CAUSE = "travel"


def _energy(kit: Kit) -> Iterator[tuple[str, Decimal, bool]]:
    for battery in kit.batteries:
        pack = battery.pack
        volts = Decimal(str(round(pack.nominal_v, 6)))
        wh = volts * Decimal(str(pack.nameplate_ah))
        if battery.printed_wh is not None:
            wh = max(wh, Decimal(str(battery.printed_wh)))
        yield battery.tag, wh, pack.chem.is_lead
    for bank in kit.banks:
        wh = Decimal(str(bank.cell_v)) * Decimal(str(bank.cell_mah)) / 1000
        yield bank.tag, wh, False


@rule(
    "air",
    STOP,
    CAUSE,
    "a battery that may not fly like this",
    why="Passenger aircraft take spare lithium batteries up to 100 Wh, up to 160 Wh "
    "with the airline's approval, and no more.",
    remedy="Check with the airline; send it by road, or take smaller packs.",
    source="49 CFR 175.10(a)(18), IATA DGR 2.3.5, from memory",
)
def air(kit: Kit) -> Iterator[Hit]:
    """By air a stop or a caution, otherwise a note above 100 Wh."""
    for tag, wh, is_lead in _energy(kit):
        band = air_band(wh, is_lead=is_lead)
        if band is AirBand.CARRY_ON:
            continue
        flies = kit.conditions.travels == "air"
        severity = NOTE
        if flies:
            severity = STOP if band is AirBand.NO else CAUTION
        yield Hit(where=tag, words=f"{tag} has {wh:.0f} Wh: {band}.", severity=severity)


@rule(
    "terminals-covered",
    CAUTION,
    CAUSE,
    "spare batteries by air want covered terminals",
    why="A short in a bag is a fire in a cabin; spares and banks never go in checked "
    "bags.",
    remedy="Cover each terminal, each pack in its own bag, in the cabin.",
    source="49 CFR 175.10(a)(18), from memory",
)
def terminals_covered(kit: Kit) -> Iterator[Hit]:
    """Said once for a kit that flies."""
    if kit.conditions.travels == "air" and (kit.members or kit.banks):
        yield Hit(where="", words="This kit goes by air.")


@rule(
    "lift",
    CAUTION,
    CAUSE,
    "too heavy for one person",
    why="A hundred amp-hours of lead weigh 28 kg, and hands slip in the dark.",
    remedy="A cart or two people, or split it into two boxes.",
)
def lift(kit: Kit) -> Iterator[Hit]:
    """Each battery, and the kit as a whole on foot."""
    limit_kg = kit.conditions.lift_kg
    for battery in kit.batteries:
        if battery.mass_kg is not None and battery.mass_kg > limit_kg:
            yield Hit(
                where=battery.tag,
                words=f"{battery.tag} weighs {battery.mass_kg:g} kg; one person lifts "
                f"{limit_kg:g} kg.",
            )
    total_kg = kit.other_mass_kg + sum(b.mass_kg or 0 for b in kit.batteries)
    if kit.conditions.travels == "foot" and total_kg > limit_kg:
        yield Hit(where="", words=f"The kit weighs {total_kg:.1f} kg and goes on foot.")


@rule(
    "restraint",
    CAUTION,
    CAUSE,
    "not fastened in the vehicle",
    why="In a crash a loose battery box is a projectile.",
    remedy="Straps to fixed points; lids closed; nothing on top of terminals.",
)
def restraint(kit: Kit) -> Iterator[Hit]:
    """By road and noted as loose."""
    heavy = kit.other_mass_kg + sum(b.mass_kg or 0 for b in kit.batteries)
    if kit.conditions.travels == "road" and not kit.conditions.is_restrained:
        yield Hit(where="", words=f"{heavy:.1f} kg go by road and are not strapped.")
