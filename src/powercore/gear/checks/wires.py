"""Wire, connectors and switches: what they lose, carry and join."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, Severity, rule
from powercore.gear.powerpath import (
    Cable,
    Feeds,
    Joint,
    Kit,
    Switch,
    key_down,
    loaded,
    quits_at,
    sustained,
)
from powercore.gear.things import Port
from powercore.physics.wiring import (
    DROP_FINE,
    DROP_MOST,
    PLUG,
    Wire,
    smallest_awg,
    voltage_drop_v,
)

CAUSE = "wire and connectors"
#: Contacts melt beyond this share of their rating. Common practice, no source.
CONTACT_MOST = 1.25


@rule(
    "voltage-drop",
    CAUTION,
    CAUSE,
    "too much voltage lost in a wire",
    why="What the wire loses is missing at the radio at the moment it transmits.",
    remedy="Shorter or thicker wire.",
    source="3 % fine, 10 % the most: ABYC E-11, from memory",
)
def voltage_drop(kit: Kit) -> Iterator[Hit]:
    """
    Key-down drop of each wire over 3 % of the battery's voltage; 10 % stops.

    Between them a note, and a caution where something behind it quits early by it.
    """
    for part, at in loaded(kit, key_down):
        if not isinstance(part, Cable) or part.wire is None:
            continue
        # Of the nominal voltage: the same wire is judged alike in every kit.
        volts = at.in_v if kit.converter_before(part.key) else kit.nominal_v
        lost_v = voltage_drop_v(part.wire, at.amps)
        if lost_v <= DROP_FINE * volts:
            continue
        awg = smallest_awg(part.wire.length_m, at.amps, volts)
        better = ""
        if awg is not None:
            thicker = Wire(length_m=part.wire.length_m, awg=awg)
            gain_v = lost_v - voltage_drop_v(thicker, at.amps)
            better = f"AWG {awg} gains {gain_v:.2f} V."
        yield Hit(
            where=part.key,
            words=f"{lost_v:.2f} V lost in {part.words} at {at.amps:.1f} A.",
            remedy=better,
            severity=STOP if lost_v > DROP_MOST * volts else _matters(kit, part),
        )


def _matters(kit: Kit, cable: Cable) -> Severity:
    """A caution where a device behind a wire quits before the reserve, else a note."""
    reserve = max(battery.pack.reserve_soc for battery in kit.batteries)
    for part in kit.behind(cable.key):
        if not isinstance(part, Feeds):
            continue
        is_direct = kit.converter_before(part.key) is None
        if not is_direct or quits_at(kit, part) > reserve + 0.01:
            return CAUTION
    return NOTE


@rule(
    "wire-ampacity",
    STOP,
    CAUSE,
    "more current than the wire carries",
    why="A wire above its rating heats its insulation until it shorts.",
    remedy="Thicker wire.",
    source="common practice up to AWG 10; ABYC E-11, from memory",
)
def wire_ampacity(kit: Kit) -> Iterator[Hit]:
    """The ten-minute mean against what the copper carries."""
    for part, at in loaded(kit, sustained):
        if not isinstance(part, Cable) or part.wire is None:
            continue
        if at.amps > part.wire.ampacity_a:
            yield Hit(
                where=part.key,
                words=f"{at.amps:.1f} A on the mean in {part.words}, which carries "
                f"{part.wire.ampacity_a:.0f} A.",
            )


@rule(
    "wire-unknown",
    NOTE,
    CAUSE,
    "nobody measured this wire",
    why="Its drop and its fuse can't be judged.",
    remedy="Measure length and gauge, and write them down.",
)
def wire_unknown(kit: Kit) -> Iterator[Hit]:
    """A wire without length and gauge."""
    for part in kit.parts:
        if isinstance(part, Cable) and part.wire is None:
            yield Hit(where=part.key, words=f"{part.called} is not measured.")


@rule(
    "weak-part",
    CAUTION,
    CAUSE,
    "a connector or switch below the current",
    why="The weakest link hides: a vehicle socket passes 5 A whatever its plug claims, "
    "and heat at a contact is how most faults begin.",
    remedy="Another connector or switch, or less power.",
)
def weak_part(kit: Kit) -> Iterator[Hit]:
    """Key-down current against a joint's or a switch's rating; above 125 % a stop."""
    for part, at in loaded(kit, key_down):
        if not isinstance(part, Joint | Switch) or not part.rating_a:
            continue
        amps = at.amps
        if amps > part.rating_a * 1.001:
            yield Hit(
                where=part.key,
                words=f"{amps:.1f} A key down through {part.words}, good for "
                f"{part.rating_a:g} A.",
                severity=STOP if amps > CONTACT_MOST * part.rating_a else CAUTION,
            )


@rule(
    "switch-open",
    CAUTION,
    CAUSE,
    "a switch is off",
    why="Nothing behind it has power; what is said of this kit holds with it on.",
    remedy="Switch it on when the kit is used, and put the switch on the card.",
)
def switch_open(kit: Kit) -> Iterator[Hit]:
    """A switch on the way to a load that is noted as off."""
    for part in kit.parts:
        if isinstance(part, Switch) and not part.is_on:
            yield Hit(where=part.key, words=f"{part.called} is off.")


@rule(
    "joint-mismatch",
    STOP,
    CAUSE,
    "two ends that don't mate",
    why="On site it ends in bare wires twisted together.",
    remedy="Pack the adapter, or change one end.",
)
def joint_mismatch(kit: Kit) -> Iterator[Hit]:
    """A joint whose two shells can't be pushed together."""
    for part in kit.parts:
        if not isinstance(part, Joint) or part.mate is None:
            continue
        if not part.end.shells_mate(part.mate):
            yield Hit(
                where=part.key,
                words=f"{part.end.words} doesn't go with {part.mate.words}.",
            )


@rule(
    "polarity",
    STOP,
    CAUSE,
    "plus meets minus",
    why="Shells mate and the polarity is the other way round: the first second "
    "destroys the radio.",
    remedy="Rewire one end, measure before plugging in, and mark it.",
)
def polarity(kit: Kit) -> Iterator[Hit]:
    """Shells that mate with opposite polarity."""
    for part in kit.parts:
        if isinstance(part, Joint) and part.mate is not None:
            mates = part.end.shells_mate(part.mate)
            if mates and part.end.is_reversed != part.mate.is_reversed:
                yield Hit(
                    where=part.key,
                    words=f"{part.end.words} meets {part.mate.words}.",
                )


@rule(
    "polarity-free",
    NOTE,
    CAUSE,
    "a joint that goes on either way",
    why="Ring terminals, bare ends and spring terminals don't keep plus and minus "
    "apart.",
    remedy="Red and black, marked at both ends; connect the battery last.",
)
def polarity_free(kit: Kit) -> Iterator[Hit]:
    """A joint of an unkeyed family."""
    for part in kit.parts:
        if isinstance(part, Joint) and not part.end.family.is_keyed:
            yield Hit(
                where=part.key, words=f"{part.end.words.capitalize()} fit both ways."
            )


@rule(
    "live-pins",
    CAUTION,
    CAUSE,
    "exposed pins that are live",
    why="Two-pin flat and panel-mount connectors are made for output: used as input "
    "their exposed pin is live, and often reversed.",
    remedy="Cover it, or put the socket on the side that has the voltage.",
)
def live_pins(kit: Kit) -> Iterator[Hit]:
    """A plug that carries voltage while nothing is plugged in."""
    for part in kit.parts:
        if isinstance(part, Joint) and part.is_live and part.end.gender == PLUG:
            yield Hit(
                where=part.key,
                words=f"{part.end.words.capitalize()} is live when open.",
            )
    for port in kit.ports:
        if port.is_live and port.end.gender == PLUG:
            yield Hit(
                where=f"{port.owner} {port.name}",
                words=f"{port.owner}, {port.name}: {port.end.words} is live when open.",
            )


def _joints(kit: Kit) -> Iterator[Port]:
    """Connectors inside the path as ports, with the volts that are there."""
    for part in kit.parts:
        if not isinstance(part, Joint):
            continue
        before = kit.converter_before(part.key)
        volts = kit.nominal_v if before is None else before.converter.out_v
        yield Port(
            owner="its path,",
            name=part.called,
            end=part.end,
            low_v=0.9 * volts,
            high_v=1.15 * volts,
        )


@rule(
    "look-alike",
    CAUTION,
    CAUSE,
    "look-alike connectors with different volts or polarity",
    why="In the dark what fits gets plugged in.",
    remedy="Another family for one of them, or a cover and a colour.",
)
def look_alike(kit: Kit) -> Iterator[Hit]:
    """Ports and joints of one look whose voltages or polarities differ."""
    groups: defaultdict[str, list[Port]] = defaultdict(list)
    for port in (*kit.ports, *_joints(kit)):
        if port.end.family.looks_like:
            groups[port.end.family.looks_like].append(port)
    for look, ports in groups.items():
        for port in ports[1:]:
            first = ports[0]
            differs = (
                port.end.is_reversed != first.end.is_reversed
                or port.end.connector != first.end.connector
                or min(port.high_v, first.high_v) < max(port.low_v, first.low_v) - 0.5
            )
            if differs:
                yield Hit(
                    where=f"{port.owner} {port.name}",
                    words=f"{port.owner} {port.name} and {first.owner} {first.name} "
                    f"look alike ({look}) and are not.",
                )
