"""
Batteries joined side by side for a whole event: carried, charged, swapped as one.

Equal volts are not equal charge, so a set that stays joined never has a full battery
put beside a half-empty one. Plans see it as one battery.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from powercore.errors import PowercoreError
from powercore.event.plans import BatteryPlan
from powercore.physics.battery import Pack

#: Batteries that are joined to one set at most. Common practice, no source.
MOST_JOINED = 6
#: Between the tags of a set.
TIE = "+"


class CannotJoin(PowercoreError):
    """Batteries that must not be put side by side."""


def join(members: Sequence[BatteryPlan]) -> BatteryPlan:
    """
    Return a set of batteries as plans see it; the first gives it its key and place.

    Its currents are such that, when the one that carries most drops out, none of the
    others has to give or take more than its maker allows.

    Parameters
    ----------
    members : sequence of BatteryPlan
        Two to six different batteries, none of them a set.

    Raises
    ------
    CannotJoin
        If their number, chemistries or cells in series forbid it.
    """
    if not 2 <= len({one.key for one in members}) == len(members) <= MOST_JOINED:
        raise CannotJoin(f"A set is of 2 to {MOST_JOINED} different batteries.")
    if nested := [one.tag for one in members if one.members]:
        raise CannotJoin(f"{nested[0]} is a set already; take it apart first.")
    first = members[0]
    for other in members[1:]:
        if other.pack.chemistry != first.pack.chemistry:
            raise CannotJoin(
                f"{first.tag} is {first.pack.chem.name}, {other.tag} is "
                f"{other.pack.chem.name}: different chemistries are never joined."
            )
        if other.pack.series != first.pack.series:
            raise CannotJoin(
                f"{first.tag} has {first.pack.series} cells in series, {other.tag} "
                f"{other.pack.series}: they charge each other without end."
            )
    packs = [one.pack for one in members]
    known_kg = [one.mass_kg for one in members if one.mass_kg is not None]
    return replace(
        first,
        tag=TIE.join(one.tag for one in members),
        pack=side_by_side(packs),
        max_charge_a=_allowed_a(packs, [one.max_charge_a for one in members]),
        max_discharge_a=_allowed_a(packs, [one.max_discharge_a for one in members]),
        is_heated=all(one.is_heated for one in members),
        is_on_hold=any(one.is_on_hold for one in members),
        mass_kg=sum(known_kg) if len(known_kg) == len(members) else None,
        capacity_sd=_capacity_sd(members),
        members=tuple(members),
    )


def side_by_side(packs: Sequence[Pack]) -> Pack:
    """
    Return like packs in parallel as one pack.

    Capacities add, conductances too; of voltages and reserves the most careful holds.
    """
    own_v = [pack.float_v for pack in packs if pack.float_v is not None]
    limits_v = [pack.max_charge_v for pack in packs if pack.max_charge_v is not None]
    charges_v = [pack.charge_v for pack in packs if pack.charge_v is not None]
    ends_v = [pack.disconnect_v for pack in packs if pack.disconnect_v is not None]
    is_tested = any(pack.tested_ah is not None for pack in packs)
    return Pack(
        chemistry=packs[0].chemistry,
        series=packs[0].series,
        parallel=min(200, sum(pack.parallel for pack in packs)),
        nameplate_ah=sum(pack.nameplate_ah for pack in packs),
        tested_ah=sum(pack.trusted_ah for pack in packs) if is_tested else None,
        reserve=max(pack.reserve_soc for pack in packs),
        measured_ohm=1 / sum(_siemens(packs)),
        max_charge_v=min(limits_v, default=None),
        charge_v=min(pack.absorb_v for pack in packs) if charges_v else None,
        float_v=min(own_v, default=None),
        disconnect_v=max(pack.cut_off_v for pack in packs) if ends_v else None,
    )


def _siemens(packs: Sequence[Pack]) -> list[float]:
    return [1 / pack.resistance_ohm for pack in packs]


def _allowed_a(packs: Sequence[Pack], limits_a: Sequence[float | None]) -> float | None:
    """
    What a set may carry though any one of it drops out. [A]

    Current divides as the conductances do. Where no limit is known there is none.
    """
    siemens = _siemens(packs)
    found = [
        limit_a * (sum(siemens) - siemens[lost]) / siemens[i]
        for i, limit_a in enumerate(limits_a)
        if limit_a is not None
        for lost in range(len(packs))
        if lost != i
    ]
    return min(found, default=None)


def _capacity_sd(members: Sequence[BatteryPlan]) -> float:
    """What is not known of one battery's capacity is not known of another's."""
    total = sum(one.pack.trusted_ah for one in members)
    parts = (one.trusted_sd * one.pack.trusted_ah for one in members)
    return math.hypot(*parts) / total


def left_of_flat(battery: BatteryPlan) -> float:
    """Share of a battery's charge when it is flat; of a set, when its biggest is."""
    if not battery.members:
        return 0.0
    capacities = [one.pack.trusted_ah for one in battery.members]
    return 1 - max(capacities) / sum(capacities)
