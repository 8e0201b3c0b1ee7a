"""Batteries in parallel, and what a battery may give."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.powerpath import Kit, key_down, try_solve
from powercore.physics.battery import shared_currents_a

CAUSE = "batteries"


def _total_a(kit: Kit) -> float:
    """Current of the set key down; without a solution that of its loads alone."""
    state = try_solve(kit, 0.5, key_down)
    if state is not None:
        return state.total_a
    loads = [part for part in kit.devices if not kit.converter_before(part.key)]
    return sum(map(key_down, loads)) if kit.members else 0.0


@rule(
    "discharge-rate",
    STOP,
    CAUSE,
    "key-down passes what the battery may give",
    why="Above its limit a pack's protection opens and the station is off the air at "
    "the first call.",
    remedy="A larger battery, a set in parallel, or less power.",
)
def discharge_rate(kit: Kit) -> Iterator[Hit]:
    """One battery against its limit; a caution where the limit is only practice."""
    if len(kit.members) != 1:
        return
    battery, amps = kit.batteries[0], _total_a(kit)
    limit_a = battery.discharge_limit_a
    if amps > limit_a:
        # By what is printed, as makers' limits are.
        rate = amps / battery.pack.nameplate_ah
        known = battery.max_discharge_a is not None
        yield Hit(
            where=battery.tag,
            words=f"{amps:.1f} A key down is {rate:.2f} C; "
            f"{'its maker allows' if known else 'practice is up to'} {limit_a:.1f} A.",
            severity=STOP if known else CAUTION,
        )


@rule(
    "parallel-chemistry",
    STOP,
    CAUSE,
    "unlike batteries in parallel",
    why="Different chemistries or cell counts charge each other without end.",
    remedy="Only like packs in parallel; others one after the other by a selector.",
)
def parallel_chemistry(kit: Kit) -> Iterator[Hit]:
    """Any two members that differ in chemistry or cells in series."""
    kinds = {(b.pack.chemistry, b.pack.series) for b in kit.batteries}
    if len(kinds) > 1:
        names = ", ".join(
            f"{b.tag} {b.pack.series} × {b.pack.chem.name}" for b in kit.batteries
        )
        yield Hit(where=kit.batteries[1].tag, words=f"In parallel: {names}.")


@rule(
    "parallel-charge",
    CAUTION,
    CAUSE,
    "equal volts, unequal charge",
    why="On LiFePO4 equal volts are not equal charge: joined, one pack drives current "
    "into the other; a swap of one pack of a set does the same.",
    remedy="Charge all full before joining; change the whole set, use isolators, or a "
    "selector.",
)
def parallel_charge(kit: Kit) -> Iterator[Hit]:
    """Known charges that differ by more than a tenth, else a caution in general."""
    if len(kit.members) < 2:
        return
    known = [m.soc for m in kit.members if m.soc is not None]
    if len(known) == len(kit.members):
        spread = max(known) - min(known)
        if spread > 0.1:
            volts = [m.battery.pack.rested_v(m.soc or 0) for m in kit.members]
            ohms = [m.battery.pack.resistance_ohm + m.lead_ohm for m in kit.members]
            flows = shared_currents_a(volts, ohms, 0.0)
            yield Hit(
                where=kit.batteries[0].tag,
                words=f"Their charges differ by {spread:.0%}; joined, up to "
                f"{max(map(abs, flows)):.1f} A flow between them.",
            )
    elif any(b.pack.chem.is_lithium for b in kit.batteries):
        yield Hit(
            where=kit.batteries[0].tag,
            words="Nobody knows whether these packs are equally charged.",
            severity=NOTE,
        )


@rule(
    "parallel-fuse",
    STOP,
    CAUSE,
    "a pack of a set without its own fuse",
    why="When one pack fails short, all the others feed it.",
    remedy="A fuse at each pack, before they are joined.",
)
def parallel_fuse(kit: Kit) -> Iterator[Hit]:
    """Each member of a set without a fuse of its own."""
    if len(kit.members) < 2:
        return
    for member in kit.members:
        if member.fuse_a is None:
            yield Hit(
                where=member.battery.tag,
                words=f"{member.battery.tag} has no fuse of its own.",
            )


@rule(
    "parallel-share",
    CAUTION,
    CAUSE,
    "the packs don't share evenly",
    why="The pack with the least resistance and the shortest lead gives most; it "
    "reaches its limit while the sum looks right.",
    remedy="Like packs, leads of one length, taken off at opposite ends.",
)
def parallel_share(kit: Kit) -> Iterator[Hit]:
    """The largest share of key-down against each pack's limit."""
    amps = _total_a(kit)
    if len(kit.members) < 2 or amps <= 0:
        return
    if len({(b.pack.chemistry, b.pack.series) for b in kit.batteries}) > 1:
        return
    volts = [
        m.battery.pack.rested_v(0.5 if m.soc is None else m.soc) for m in kit.members
    ]
    ohms = [m.battery.pack.resistance_ohm + m.lead_ohm for m in kit.members]
    shares = shared_currents_a(volts, ohms, amps)
    for member, share in zip(kit.members, shares, strict=True):
        limit_a = member.battery.discharge_limit_a
        if member.fuse_a is not None:
            limit_a = min(limit_a, member.fuse_a)
        if share > limit_a:
            yield Hit(
                where=member.battery.tag,
                words=f"{member.battery.tag} gives {share:.1f} A of {amps:.1f} A; its "
                f"limit is {limit_a:.1f} A.",
            )


@rule(
    "parallel-loss",
    CAUTION,
    CAUSE,
    "the loss of one pack overloads the rest",
    why="One protection opens, the others take its share, and they open too.",
    remedy="One pack more, or less power.",
)
def parallel_loss(kit: Kit) -> Iterator[Hit]:
    """Key-down on all but the strongest pack."""
    amps = _total_a(kit)
    if len(kit.members) < 2:
        return
    limits = sorted(b.discharge_limit_a for b in kit.batteries)
    left_a = sum(limits[:-1])
    if amps > left_a:
        yield Hit(
            where=kit.batteries[0].tag,
            words=f"Without its strongest pack the set may give {left_a:.1f} A; key "
            f"down draws {amps:.1f} A.",
        )


@rule(
    "parallel-protection",
    CAUTION,
    CAUSE,
    "packs of a set with unlike protection",
    why="With a charging port of its own on one pack, charge reaches the others "
    "through their output and passes their protection by.",
    remedy="Charge each pack at its own port, unjoined.",
)
def parallel_protection(kit: Kit) -> Iterator[Hit]:
    """Separate-port packs in a set, or mixed kinds of protection."""
    kinds = {b.protection for b in kit.batteries if b.protection}
    if len(kit.members) > 1 and ("separate" in kinds or len(kinds) > 1):
        yield Hit(
            where=kit.batteries[0].tag,
            words="Protection in this set: "
            + ", ".join(f"{b.tag} {b.protection or 'unknown'}" for b in kit.batteries)
            + ".",
            severity=STOP if "separate" in kinds and kit.charges else CAUTION,
        )


@rule(
    "no-protection",
    CAUTION,
    CAUSE,
    "lithium without protection",
    why="Nothing opens at empty, full, cold or short but what you build around it.",
    remedy="A pack with protection, or an alarm and a disconnect for each cell.",
)
def no_protection(kit: Kit) -> Iterator[Hit]:
    """A lithium pack whose protection is noted as none."""
    for battery in kit.batteries:
        if battery.protection == "none" and battery.pack.chem.is_lithium:
            yield Hit(where=battery.tag, words=f"{battery.tag} has no protection.")


@rule(
    "protection-unknown",
    NOTE,
    CAUSE,
    "nobody noted whether a lithium pack is protected",
    why="A pack without protection needs its cells balanced and watched; one with it "
    "may have a port of its own for charging.",
    remedy="Look at the pack or its papers, and note which it is.",
)
def protection_unknown(kit: Kit) -> Iterator[Hit]:
    """A lithium pack; a caution for chemistries whose packs often have none."""
    for battery in kit.batteries:
        chem = battery.pack.chem
        if battery.protection == "" and chem.is_lithium:
            yield Hit(
                where=battery.tag,
                words=f"Nobody noted whether {battery.tag} has protection.",
                severity=CAUTION if chem.needs_balance else NOTE,
            )


@rule(
    "lead-gas",
    NOTE,
    CAUSE,
    "lead-acid in the kit",
    why="It gives off explosive gas while charging and holds acid.",
    remedy="Ventilate, no sparks, eye protection, upright; covered terminals.",
)
def lead_gas(kit: Kit) -> Iterator[Hit]:
    """Said once for each lead-acid battery that is charged in the kit."""
    for battery in kit.batteries:
        if battery.pack.chem.is_lead and kit.charges:
            yield Hit(
                where=battery.tag, words=f"{battery.tag} gasses while it charges here."
            )
