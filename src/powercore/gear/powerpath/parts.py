"""Parts of a power path."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from powercore.errors import PowercoreError
from powercore.gear.things import Converter, Device
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
        return 0.0 if self.amps is None else 0.1 / max(self.amps, 1.0)

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
