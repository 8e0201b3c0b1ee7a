"""
The power path of a kit: from its batteries through fuses and wires to each load.

A tree of parts hangs on the terminals of a battery or of a set in parallel. The
volts and amps at each part are found for one state: a charge, a temperature, and
what each load does.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

from powercore.errors import PowerBeyondPack, PowercoreError
from powercore.gear.things import (
    AntennaPart,
    Battery,
    Charger,
    Controller,
    Converter,
    Device,
    Generator,
    Meter,
    Panel,
    Port,
    PowerBank,
)
from powercore.physics.battery import shared_currents_a
from powercore.physics.loads import Draw, Pattern, mean_current_a
from powercore.physics.wiring import End, Wire, connector_of


class PathError(PowercoreError):
    """The parts of a kit don't hang together."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """One thing on the way from the battery to a load; subclasses say what."""

    key: str
    #: The part before it; "" is the battery's terminals.
    after: str = ""
    name: str = ""

    @property
    def ohm(self) -> float:
        """Resistance it puts into the way, both poles. [Ω]"""
        return 0.0

    @property
    def rating_a(self) -> float | None:
        """Current it may carry for long; None where it sets no limit. [A]"""
        return None

    @property
    def words(self) -> str:
        """What it is, in a few words."""
        return self.name

    @property
    def called(self) -> str:
        """Its name, else what it is."""
        return self.name or self.words


@dataclass(frozen=True, slots=True, kw_only=True)
class Fuse(Part):
    """A fuse or breaker; a rating of None is an open fault: missing or blown."""

    amps: float | None
    #: "blade", "bolted", "cartridge" or "breaker".
    style: str = "blade"
    #: Wire between the battery and it. [m]
    from_battery_m: float = 0.1

    @property
    def ohm(self) -> float:
        """About 100 mV at its rating: common practice, no source. [Ω]"""
        return 0.0 if self.amps is None else 0.1 / max(self.amps, 1.0) * 0.5

    @property
    def rating_a(self) -> float | None:
        """Its rating. [A]"""
        return self.amps

    @property
    def words(self) -> str:
        """20 A fuse."""
        if self.amps is None:
            return "no fuse"
        kind = "breaker" if self.style == "breaker" else "fuse"
        return f"{self.amps:g} A {kind}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Cable(Part):
    """A length of wire; None where nobody measured it."""

    wire: Wire | None

    @property
    def ohm(self) -> float:
        """There and back. [Ω]"""
        return 0.0 if self.wire is None else self.wire.resistance_ohm

    @property
    def rating_a(self) -> float | None:
        """What the copper carries. [A]"""
        return None if self.wire is None else self.wire.ampacity_a

    @property
    def words(self) -> str:
        """AWG 12, 2.4 m."""
        return "wire not measured" if self.wire is None else self.wire.words


@dataclass(frozen=True, slots=True, kw_only=True)
class Joint(Part):
    """Two connectors that meet: what the source side and the load side carry."""

    end: End
    mate: End | None = None
    #: What this very connector is good for, where it is less than its family. [A]
    max_a: float | None = None
    is_live: bool = False

    @property
    def ohm(self) -> float:
        """Of a good pair. [Ω]"""
        return connector_of(self.end.connector).ohm

    @property
    def rating_a(self) -> float | None:
        """The least of family and what was said of this one. [A]"""
        family = connector_of(self.end.connector).max_a
        return min(family, self.max_a) if self.max_a else family

    @property
    def words(self) -> str:
        """Genderless pair, 30 A."""
        return self.end.family.name


@dataclass(frozen=True, slots=True, kw_only=True)
class Switch(Part):
    """A switch or isolator."""

    amps: float
    is_on: bool = True

    @property
    def ohm(self) -> float:
        """Common practice, no source. [Ω]"""
        return 0.002

    @property
    def rating_a(self) -> float | None:
        """Its rating. [A]"""
        return self.amps

    @property
    def words(self) -> str:
        """40 A switch."""
        return f"{self.amps:g} A switch"


@dataclass(frozen=True, slots=True, kw_only=True)
class Block(Part):
    """A distribution block; `main_a` is the rating of its feed."""

    main_a: float

    @property
    def ohm(self) -> float:
        """Common practice, no source. [Ω]"""
        return 0.001

    @property
    def rating_a(self) -> float | None:
        """Rating of its feed. [A]"""
        return self.main_a

    @property
    def words(self) -> str:
        """Block, main 40 A."""
        return f"block, main {self.main_a:g} A"


@dataclass(frozen=True, slots=True, kw_only=True)
class Converts(Part):
    """A converter; what hangs on it sees its output."""

    converter: Converter

    @property
    def called(self) -> str:
        """Its name, else the converter's."""
        return self.name or self.converter.tag

    @property
    def words(self) -> str:
        """USB-C, 60 W."""
        return f"{self.called}, {self.converter.max_w:g} W"


@dataclass(frozen=True, slots=True, kw_only=True)
class Feeds(Part):
    """The device at the end of a way."""

    device: Device
    #: Pins of its own socket, where they are known.
    end: End | None = None

    @property
    def called(self) -> str:
        """Its name, else the device's."""
        return self.name or self.device.tag

    @property
    def words(self) -> str:
        """11.7 to 15.8 V."""
        return f"{self.device.min_v:g}–{self.device.max_v:g} V"


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One battery of a kit, with its own fuse and lead where it is one of a set."""

    battery: Battery
    fuse_a: float | None = None
    lead_ohm: float = 0.003
    #: Believed state of charge where it is known. (0 to 1)
    soc: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Charge:
    """One way into the batteries: what charges, through what, where it enters."""

    key: str
    source: Panel | Charger
    controller: Controller | None = None
    #: The part it enters at; "" is the battery's charging terminals.
    enters_at: str = ""
    #: "load" when it goes in through an outlet made for a load, "discharge" when
    #: through the discharge side of a pack with a port of its own for charging.
    through: str = ""
    #: Switches on its way.
    switches: tuple[Switch, ...] = ()
    #: A switch here also lets the source feed something else.
    shares_with: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Temporary:
    """A part that is only meant to stay for a while."""

    name: str
    #: Days past its date; negative while it still may stay. [d]
    overdue_days: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Conditions:
    """Where and how a kit is used."""

    low_c: float = 5.0
    high_c: float = 35.0
    #: "road", "air" or "foot".
    travels: str = "road"
    #: What one person is asked to lift. [kg]
    lift_kg: float = 20.0
    #: How many carry it when it flies.
    people: int = 1
    feeds_building: bool = False
    is_fastened: bool = True
    is_restrained: bool = True
    hours: float = 24.0


@dataclass(frozen=True, kw_only=True)
class Kit:
    """A kit: batteries, what hangs on them, what charges them, how it is used."""

    members: tuple[Member, ...] = ()
    parts: tuple[Part, ...] = ()
    charges: tuple[Charge, ...] = ()
    banks: tuple[PowerBank, ...] = ()
    meters: tuple[Meter, ...] = ()
    antennas: tuple[AntennaPart, ...] = ()
    generators: tuple[Generator, ...] = ()
    #: Chargers that share the generator.
    ports: tuple[Port, ...] = ()
    temporary: tuple[Temporary, ...] = ()
    #: Batteries in its boxes, and in kits inside it, that are not wired.
    spares: tuple[Battery, ...] = ()
    conditions: Conditions = field(default_factory=Conditions)
    other_mass_kg: float = 0.0

    def __post_init__(self) -> None:
        keys = [part.key for part in self.parts]
        if len(set(keys)) != len(keys) or "" in keys:
            raise PathError("Two parts of the kit have the same key.")
        for part in self.parts:
            seen = {part.key}
            at = part.after
            while at:
                if at in seen or at not in self.by_key:
                    raise PathError(f"{part.name or part.key} hangs on nothing.")
                seen.add(at)
                at = self.by_key[at].after

    @cached_property
    def by_key(self) -> dict[str, Part]:
        """Every part by its key."""
        return {part.key: part for part in self.parts}

    @cached_property
    def children(self) -> dict[str, list[Part]]:
        """The parts behind each part; "" is the terminals."""
        found: defaultdict[str, list[Part]] = defaultdict(list)
        for part in self.parts:
            found[part.after].append(part)
        return dict(found)

    @cached_property
    def batteries(self) -> tuple[Battery, ...]:
        """Its batteries."""
        return tuple(member.battery for member in self.members)

    @cached_property
    def devices(self) -> tuple[Feeds, ...]:
        """Its loads."""
        return tuple(part for part in self.parts if isinstance(part, Feeds))

    @cached_property
    def switched_on(self) -> Kit:
        """The kit with every switch on, as it is used."""
        if all(part.is_on for part in self.parts if isinstance(part, Switch)):
            return self
        parts = tuple(
            replace(part, is_on=True) if isinstance(part, Switch) else part
            for part in self.parts
        )
        return replace(self, parts=parts)

    @cached_property
    def solved(self) -> dict[tuple[float, Draws], State | None]:
        """What `try_solve` found so far."""
        return {}

    @cached_property
    def quitting(self) -> dict[str, float]:
        """What `quits_at` found so far."""
        return {}

    def way_to(self, key: str) -> list[Part]:
        """Parts from the terminals to a part, itself last."""
        way: list[Part] = []
        while key:
            way.append(self.by_key[key])
            key = self.by_key[key].after
        return way[::-1]

    def behind(self, key: str) -> list[Part]:
        """Every part behind a part."""
        found: list[Part] = []
        for part in self.children.get(key, []):
            found += [part, *self.behind(part.key)]
        return found

    def converter_before(self, key: str) -> Converts | None:
        """The last converter on the way to a part, itself not counted."""
        for part in reversed(self.way_to(key)[:-1]):
            if isinstance(part, Converts):
                return part
        return None

    @cached_property
    def set_ohm(self) -> float:
        """Resistance of all batteries in parallel with their leads. [Ω]"""
        inverse = sum(
            1 / (m.battery.pack.resistance_ohm + m.lead_ohm) for m in self.members
        )
        return 1 / inverse if inverse else 0.0

    @property
    def top_v(self) -> float:
        """Highest voltage of its batteries, fresh off their chargers. [V]"""
        return max((b.pack.top_v for b in self.batteries), default=0.0)

    @property
    def nominal_v(self) -> float:
        """Nominal voltage of its batteries. [V]"""
        return max((b.pack.nominal_v for b in self.batteries), default=0.0)

    def with_ohm(self, share: float) -> Kit:
        """The kit with so much of each resistance that nobody measured."""

        def less(member: Member) -> Member:
            pack = member.battery.pack
            if pack.measured_ohm is not None:
                return member
            pack = replace(pack, measured_ohm=share * pack.typical_ohm)
            return replace(member, battery=replace(member.battery, pack=pack))

        return replace(self, members=tuple(map(less, self.members)))

    def set_v(self, soc: float) -> float:
        """Rested voltage of the set at a charge, all alike. [V]"""
        volts = [m.battery.pack.rested_v(soc) for m in self.members]
        ohms = [m.battery.pack.resistance_ohm + m.lead_ohm for m in self.members]
        shares = shared_currents_a(volts, ohms, 0.0)
        return volts[0] - shares[0] * ohms[0]

    @property
    def trusted_ah(self) -> float:
        """Trusted capacity of all batteries together. [Ah]"""
        return sum(m.battery.pack.trusted_ah for m in self.members)


@dataclass(frozen=True, slots=True, kw_only=True)
class At:
    """What stands at one part."""

    #: Current through it. [A]
    amps: float
    #: Voltage where it begins and where it ends. [V]
    in_v: float
    out_v: float

    @property
    def lost_w(self) -> float:
        """Power lost in it as resistance. [W]"""
        return self.amps * (self.in_v - self.out_v)


@dataclass(frozen=True, slots=True, kw_only=True)
class State:
    """Volts and amps at every part, for one charge and one way of operating."""

    terminal_v: float
    total_a: float
    at: Mapping[str, At]


Draws = Callable[[Feeds], float]


def receiving(part: Feeds) -> float:
    """Current of a device that receives. [A]"""
    return part.device.draw.receive_a


def key_down(part: Feeds) -> float:
    """Current of a device that transmits its full power. [A]"""
    return max(part.device.draw.key_down_a, part.device.draw.receive_a)


def sustained(part: Feeds) -> float:
    """Mean current over ten minutes of the way a device is used. [A]"""
    device = part.device
    return mean_current_a(
        device.draw, Pattern(transmit_share=device.transmit_share, duty=device.duty)
    )


def low_power(part: Feeds) -> float:
    """Current of a device that transmits at its low step. [A]"""
    draw: Draw = part.device.low_draw or part.device.draw
    return max(draw.key_down_a, draw.receive_a)


_ROUNDS = 200
_CLOSE_V = 1e-7


def solve(kit: Kit, soc: float, draws: Draws) -> State:
    """
    Find volts and amps at every part of a kit.

    Loads take their current whatever the voltage; a converter takes the power its
    load needs at the voltage it gets, so its current rises as the voltage falls.
    The way is walked from the loads up (amps) and from the battery down (volts)
    until nothing moves.

    Parameters
    ----------
    kit : Kit
        With at least one battery.
    soc : float
        State of charge of its batteries. (0 to 1)
    draws : callable
        Current of each device at its own voltage. [A]

    Raises
    ------
    PathError
        If the kit has no battery.
    PowerBeyondPack
        If converters ask for more than the way lets through.
    """
    if not kit.members:
        raise PathError("The kit has no battery.")
    rested_v = kit.set_v(soc)
    volts = {part.key: rested_v for part in kit.parts}
    terminal_v = rested_v
    for _ in range(_ROUNDS):
        amps: dict[str, float] = {}
        total_a = sum(
            _amps(kit, part, volts, draws, amps) for part in kit.children.get("", [])
        )
        before_v, terminal_v = terminal_v, rested_v - total_a * kit.set_ohm
        if terminal_v < 0.3 * rested_v:
            raise PowerBeyondPack(
                f"The converters ask for more than {kit.members[0].battery.tag} gives "
                f"through this way; at {soc:.0%} the voltage collapses."
            )
        found: dict[str, At] = {}
        for part in kit.children.get("", []):
            _volts(kit, part, terminal_v, amps, found)
        moved = max(
            [abs(terminal_v - before_v)]
            + [abs(found[key].in_v - volts[key]) for key in volts]
        )
        volts = {key: at.in_v for key, at in found.items()}
        if moved < _CLOSE_V:
            return State(terminal_v=terminal_v, total_a=total_a, at=found)
    raise PowerBeyondPack("No steady voltage is found for this kit; a load is too big.")


def try_solve(kit: Kit, soc: float, draws: Draws) -> State | None:
    """
    Like `solve`, but None where there is no battery or no steady voltage.

    A kit remembers the answer: many rules ask for the same few states of it.
    """
    asked = (soc, draws)
    if asked not in kit.solved:
        try:
            kit.solved[asked] = solve(kit, soc, draws)
        except (PathError, PowerBeyondPack):
            kit.solved[asked] = None
    return kit.solved[asked]


def loaded(kit: Kit, draws: Draws) -> list[tuple[Part, At]]:
    """Each part with its volts and amps at half charge; none where none are steady."""
    state = try_solve(kit, 0.5, draws)
    return [(part, state.at[part.key]) for part in kit.parts] if state else []


def _amps(
    kit: Kit,
    part: Part,
    volts: Mapping[str, float],
    draws: Draws,
    amps: dict[str, float],
) -> float:
    below = sum(
        _amps(kit, child, volts, draws, amps)
        for child in kit.children.get(part.key, [])
    )
    if isinstance(part, Feeds):
        below += draws(part)
    if isinstance(part, Converts):
        below = _converter_a(kit, part, below, volts[part.key])
    if isinstance(part, Switch) and not part.is_on:
        amps.update(dict.fromkeys((p.key for p in kit.behind(part.key)), 0.0))
        below = 0.0
    amps[part.key] = below
    return below


def _converter_a(kit: Kit, part: Converts, output_a: float, input_v: float) -> float:
    converter = part.converter
    if input_v < converter.in_min_v:
        return 0.0
    watts = converter.input_w(output_a * converter.output_v(input_v))
    return watts / input_v


def _volts(
    kit: Kit,
    part: Part,
    in_v: float,
    amps: Mapping[str, float],
    found: dict[str, At],
) -> None:
    current = amps[part.key]
    out_v = in_v - current * part.ohm
    if isinstance(part, Converts):
        out_v = part.converter.output_v(in_v)
    if isinstance(part, Switch) and not part.is_on:
        out_v = 0.0
    found[part.key] = At(amps=current, in_v=in_v, out_v=out_v)
    for child in kit.children.get(part.key, []):
        _volts(kit, child, out_v, amps, found)


@dataclass(frozen=True, slots=True, kw_only=True)
class Weakest:
    """The part nearest to what it may carry."""

    part: Part
    amps: float
    #: Key-down current over what it may carry.
    share: float


def weakest_link(kit: Kit, state: State) -> Weakest | None:
    """Return the part whose current comes nearest to its rating, or passes it."""
    rated = [
        Weakest(
            part=part,
            amps=state.at[part.key].amps,
            share=state.at[part.key].amps / part.rating_a,
        )
        for part in kit.parts
        if part.rating_a
    ]
    return max(rated, key=lambda link: link.share, default=None)


def lowest_soc_for(kit: Kit, key: str, min_v: float, draws: Draws) -> float:
    """
    Lowest state of charge at which a part still gets a voltage. (0 to 1)

    1.0 when not even a full battery gives it. Found by halving; volts rise with
    the charge.
    """

    def enough(soc: float) -> bool:
        try:
            return solve(kit, soc, draws).at[key].in_v >= min_v
        except PowerBeyondPack:
            return False

    if not enough(1.0):
        return 1.0
    low, high = 0.0, 1.0
    if enough(0.0):
        return 0.0
    for _ in range(12):
        middle = (low + high) / 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return high


def quits_at(kit: Kit, part: Feeds) -> float:
    """
    State of charge below which a device quits, key down. (0 to 1)

    1.0 when not even a full battery will do; a kit remembers the answer.
    """
    if part.key not in kit.quitting:
        lowest = lowest_soc_for(kit, part.key, part.device.needs_v, key_down)
        kit.quitting[part.key] = lowest
    return kit.quitting[part.key]


def hours_given(kit: Kit, draws: Draws, from_soc: float = 1.0) -> float:
    """
    Hours from a charge to the reserve at a steady way of operating. [h]

    Charge above the reserve over the current at mid charge; infinite without load.
    """
    reserve = max(m.battery.pack.reserve_soc for m in kit.members)
    current = solve(kit, (from_soc + reserve) / 2, draws).total_a
    usable_ah = sum(
        max(0.0, from_soc - m.battery.pack.reserve_soc) * m.battery.pack.trusted_ah
        for m in kit.members
    )
    return usable_ah / current if current > 0 else float("inf")
