"""Supplies, generators and buildings."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, STOP, Hit, rule
from powercore.gear.powerpath import Kit, key_down, try_solve
from powercore.gear.things import SUPPLY, Charger

CAUSE = "supplies"


@rule(
    "supply-overloaded",
    STOP,
    CAUSE,
    "radio and battery together pass the supply",
    why="A battery that charges on the same supply takes what it can get while the "
    "radio transmits; the supply folds back and the radio drops out.",
    remedy="A larger supply, a smaller charging current, or charge when off the air.",
)
def supply_overloaded(kit: Kit) -> Iterator[Hit]:
    """Key-down current plus charging current above a supply's amps."""
    for charge in kit.charges:
        source = charge.source
        if not isinstance(source, Charger) or source.role != SUPPLY or not kit.members:
            continue
        state = try_solve(kit, 0.5, key_down)
        if state is None:
            continue
        loads_a = state.total_a
        wanted_a = min(sum(b.charge_limit_a for b in kit.batteries), source.max_a)
        # Where no maker gives a limit, a stop must hold with half of what is usual.
        is_known = all(b.max_charge_a is not None for b in kit.batteries)
        surely_a = wanted_a if is_known else 0.5 * wanted_a
        total_a = loads_a + wanted_a
        if loads_a > 0 and total_a > source.max_a:
            yield Hit(
                where=charge.key,
                words=f"{loads_a:.1f} A key down and up to {wanted_a:.1f} A of charge: "
                f"{total_a - source.max_a:.1f} A over the {source.max_a:g} A of "
                f"{source.tag}.",
                severity=STOP if loads_a + surely_a > source.max_a else CAUTION,
            )


@rule(
    "backfeed",
    CAUTION,
    CAUSE,
    "the battery can feed a dead supply",
    why="Behind a supply without power a battery feeds backwards into it, warms it, "
    "and is found empty.",
    remedy="A diode or relay isolator, or unplug the supply when its power fails.",
)
def backfeed(kit: Kit) -> Iterator[Hit]:
    """A supply that is not isolated, on a battery."""
    for charge in kit.charges:
        source = charge.source
        if not isinstance(source, Charger) or source.role != SUPPLY:
            continue
        if kit.members and not source.is_isolated:
            yield Hit(
                where=charge.key,
                words=f"Without power {source.tag} is fed by the battery.",
            )


@rule(
    "building",
    STOP,
    CAUSE,
    "a building is fed from the field",
    why="It can kill whoever works on the line, and it is never allowed without a "
    "transfer switch installed by licensed people.",
    remedy="Never. Run loads from the battery or generator by their own leads.",
    source="local electrical codes",
)
def building(kit: Kit) -> Iterator[Hit]:
    """The kit is said to feed a building's wiring."""
    if kit.conditions.feeds_building:
        yield Hit(where="", words="This kit is said to feed a building's wiring.")


@rule(
    "generator-va",
    CAUTION,
    CAUSE,
    "chargers and others pass the generator",
    why="Chargers have a poor power factor: they load a generator by their "
    "volt-amperes, and the kettle in the kitchen tent shares it.",
    remedy="Fewer chargers at once, or a larger generator; ask who else is on it.",
)
def generator_va(kit: Kit) -> Iterator[Hit]:
    """Volt-amperes of the chargers and what else hangs on it; 80 % lasts."""
    chargers = {
        charge.source.tag: charge.source
        for charge in kit.charges
        if isinstance(charge.source, Charger)
    }
    volts = max((b.pack.absorb_v for b in kit.batteries), default=14.4)
    total_va = sum(charger.input_va(volts) for charger in chargers.values())
    for generator in kit.generators:
        sum_va = total_va + generator.other_w
        if total_va > 0 and sum_va > 0.8 * generator.limit_va:
            yield Hit(
                where=generator.tag,
                words=f"{total_va:.0f} VA of chargers and {generator.other_w:.0f} W of "
                f"others on {generator.limit_va:.0f} VA.",
                severity=STOP if sum_va > 1.2 * generator.limit_va else CAUTION,
            )


@rule(
    "no-resume",
    CAUTION,
    CAUSE,
    "a charger doesn't start again by itself",
    why="After refuelling the generator runs, and this charger waits for a button.",
    remedy="Somebody looks at every charger after each pause.",
)
def no_resume(kit: Kit) -> Iterator[Hit]:
    """A charger that stays off after its supply was away, on a generator."""
    for charge in kit.charges:
        source = charge.source
        if isinstance(source, Charger) and not source.resumes and kit.generators:
            yield Hit(
                where=charge.key,
                words=f"{source.tag} stays off after {kit.generators[0].tag} stopped.",
            )


@rule(
    "generator-place",
    CAUTION,
    CAUSE,
    "a generator goes with this kit",
    why="Its exhaust kills without a smell.",
    remedy="Outdoors, at least 6 m (20 ft) from tents and openings, downwind; a "
    "carbon-monoxide alarm where people sleep; cool before refuelling.",
    source="public-health guidance on carbon monoxide, from memory",
)
def generator_place(kit: Kit) -> Iterator[Hit]:
    """Said once for each generator."""
    for generator in kit.generators:
        yield Hit(
            where=generator.tag, words=f"{generator.tag} gives off carbon monoxide."
        )
