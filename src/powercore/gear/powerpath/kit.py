"""A kit: its batteries, its parts, how it is charged and where it works."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field, replace
from functools import cached_property

from powercore.gear.powerpath.parts import (
    Converts,
    Draws,
    Feeds,
    Part,
    PathError,
    State,
    Switch,
)
from powercore.gear.things import (
    AntennaPart,
    Battery,
    Charger,
    Controller,
    Generator,
    Meter,
    Panel,
    Port,
    PowerBank,
)
from powercore.physics.battery import shared_currents_a


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
    #: What keeps rain off: "none", "splash", "tight"; empty: not noted.
    cover: str = ""


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
                    raise PathError(f"{part.name or part.key} is fed by nothing.")
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
