"""How long a kit's own chargers and panels take to fill it again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from powercore.errors import PowercoreError
from powercore.gear.fits import NEAR_V
from powercore.gear.powerpath import Charge, Kit, receiving, solve
from powercore.gear.things import MPPT, Charger
from powercore.physics.battery import Pack
from powercore.physics.charging import Recharge, recharge
from powercore.physics.chemistry import Chemistry
from powercore.sun.arrays import PWM_SHARE, TRACKING, straight_w


@dataclass(frozen=True, slots=True)
class Refill:
    """One way into a kit's batteries: from the reserve, alone and while it is used."""

    #: The charger's or panel's tag.
    source: str
    #: Whether its hours are hours of full sun.
    is_sun: bool
    alone: Recharge
    #: With every device receiving, and what they take. [A]
    receiving: Recharge
    load_a: float


@dataclass(frozen=True, slots=True)
class _Set:
    """A kit's batteries as one that is charged."""

    chem: Chemistry
    trusted_ah: float


def refills(kit: Kit) -> tuple[Refill, ...]:
    """
    Say how long each of a kit's chargers and panels takes.

    Panels in full sun (1000 W/m²); a plain controller gives their current, a tracking
    one their power. Nothing for a kit without batteries that can be charged.
    """
    packs = [battery.pack for battery in kit.batteries]
    if not packs or not all(pack.chem.is_rechargeable for pack in packs):
        return ()
    whole = _Set(packs[0].chem, kit.trusted_ah)
    reserve = max(pack.reserve_soc for pack in packs)
    try:
        load_a = solve(kit.switched_on, 0.5, receiving).total_a if kit.devices else 0.0
    except PowercoreError:
        load_a = 0.0
    most_a = sum(battery.charge_limit_a for battery in kit.batteries)
    found = []
    for charge in kit.charges:
        alone, used = (
            recharge(
                whole,
                _gives_a(charge, kit),
                limit_a=most_a,
                load_a=beside_a,
                from_soc=reserve,
                least_h=_slow_h(charge, packs),
            )
            for beside_a in (0.0, load_a)
        )
        is_sun = not isinstance(charge.source, Charger)
        found.append(Refill(charge.source.tag, is_sun, alone, used, load_a))
    return tuple(found)


def _slow_h(charge: Charge, packs: Sequence[Pack]) -> float:
    """What filling takes at the least on volts that only hold it full. [h]"""
    source = charge.source
    if not isinstance(source, Charger) or source.absorb_v is None:
        return 0.0
    return max(
        (
            pack.slow_h
            for pack in packs
            if source.absorb_v < pack.absorb_v - NEAR_V
            and pack.fills_slowly_at(source.absorb_v)
        ),
        default=0.0,
    )


def _gives_a(charge: Charge, kit: Kit) -> float:
    """What a source gives at the batteries' volts while they charge. [A]"""
    source, controller = charge.source, charge.controller
    if isinstance(source, Charger):
        return source.max_a
    volts = max(battery.pack.on_charge_v for battery in kit.batteries)
    watts = source.real_watts * TRACKING
    if controller is None or controller.method != MPPT:
        watts = float(straight_w(PWM_SHARE * source.real_isc_a, volts, source.watts))
    amps = watts / volts
    return amps if controller is None else min(amps, controller.max_a)
