"""By which way a kit is charged."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.checks.charging import CAUSE, pairs_of
from powercore.gear.powerpath import Kit, Switch


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
    for charge, battery in pairs_of(kit):
        if battery.protection == "separate" and charge.through in ("load", "discharge"):
            yield Hit(
                where=charge.key,
                words=f"{battery.tag} has a separate charging port, and "
                f"{charge.source.tag} goes in through the other one.",
            )
