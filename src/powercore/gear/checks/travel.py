"""How a kit travels: by air, on the road, in hands."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.powerpath import Kit
from powercore.physics.battery import MOST_SPARES, AirBand, air_band

CAUSE = "travel"


@dataclass(frozen=True, slots=True)
class _Carried:
    """A battery or bank that travels with a kit."""

    tag: str
    wh: Decimal
    band: AirBand
    #: Whether it is lithium of more than 100 Wh, or lead-acid: two spares a person.
    is_counted: bool
    is_spare: bool


def _carried(kit: Kit) -> Iterator[_Carried]:
    """Every battery and bank in a kit, its boxes and the kits inside it."""
    wired = {battery.tag for battery in kit.batteries}
    for battery in (*kit.batteries, *kit.spares):
        pack = battery.pack
        volts = Decimal(str(round(pack.nominal_v, 6)))
        wh = volts * Decimal(str(pack.nameplate_ah))
        if battery.printed_wh is not None:
            wh = max(wh, Decimal(str(battery.printed_wh)))
        band = air_band(wh, pack.chemistry, pack.nominal_v)
        is_counted = band is AirBand.APPROVAL or pack.chem.is_lead
        yield _Carried(battery.tag, wh, band, is_counted, battery.tag not in wired)
    for bank in kit.banks:
        wh = Decimal(str(bank.cell_v)) * Decimal(str(bank.cell_mah)) / 1000
        band = air_band(wh)
        yield _Carried(bank.tag, wh, band, band is AirBand.APPROVAL, True)


@rule(
    "air",
    STOP,
    CAUSE,
    "a battery that may not fly like this",
    why="Passenger aircraft take spare lithium batteries up to 100 Wh, up to 160 Wh "
    "with the airline's approval, and no more; lead-acid only sealed, up to 12 V and "
    "100 Wh.",
    remedy="Check with the airline; send it by road, or take smaller packs.",
    source="49 CFR 175.10(a)(18), IATA DGR 2.3.5, from memory",
)
def air(kit: Kit) -> Iterator[Hit]:
    """By air a stop or a caution, otherwise a note."""
    for one in _carried(kit):
        if one.band is AirBand.CARRY_ON:
            continue
        severity = NOTE
        if kit.conditions.travels == "air":
            severity = STOP if one.band is AirBand.NO else CAUTION
        yield Hit(
            where=one.tag,
            words=f"{one.tag} has {one.wh:.0f} Wh: {one.band}.",
            severity=severity,
        )


@rule(
    "air-spares",
    STOP,
    CAUSE,
    "more spare batteries than its people may carry by air",
    why="Of spares above 100 Wh, and of lead-acid, each person may have two.",
    remedy="One more person for each two, or send the others by road.",
    source="49 CFR 175.10(a)(18), IATA DGR 2.3.5, from memory",
)
def air_spares(kit: Kit) -> Iterator[Hit]:
    """Spares in its boxes, in kits inside it, and banks; by air only."""
    if kit.conditions.travels != "air":
        return
    spares = [
        one
        for one in _carried(kit)
        if one.is_spare and one.is_counted and one.band is not AirBand.NO
    ]
    people = kit.conditions.people
    if len(spares) > MOST_SPARES * people:
        tags = ", ".join(one.tag for one in spares)
        yield Hit(
            where="",
            words=f"{len(spares)} spares of a kind that {people} may carry "
            f"{MOST_SPARES * people} of: {tags}.",
        )


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
    if kit.conditions.travels == "air" and any(_carried(kit)):
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
    for battery in (*kit.batteries, *kit.spares):
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


@rule(
    "rain",
    CAUTION,
    CAUSE,
    "nothing keeps the rain off",
    why="Water in connectors is a short or corrosion by next year, and a wet charger "
    "is a shock.",
    remedy="A lid, a bag or a tarp with air under it, connectors hanging down; nothing "
    "that charges is wrapped up.",
)
def rain(kit: Kit) -> Iterator[Hit]:
    """A kit that is noted to have no cover."""
    if kit.conditions.cover == "none":
        yield Hit(where="", words="It has no cover against rain.")
