"""
Wire, connectors and fuses: what they carry, what they lose, what joins what.

A fuse protects its wire: never above what the wire carries. It must pass the
key-down current, and the ten-minute mean should stay under 80 % of it; where a
radio's maker gives a fuse, that one is right as it is.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from powercore.errors import OutOfRange, UnknownKey
from powercore.values import in_range

#: Resistivity of annealed copper at 20 °C and its change with temperature:
#: IEC 60028, 100 % IACS. [Ω m], [1/°C]
COPPER_OHM_M = 1.7241e-8
COPPER_PER_C = 0.00393

#: Stranded class 5 copper, highest resistance at 20 °C, by cross-section:
#: IEC 60228, from memory. [mm²: Ω/km]
_CLASS_5_OHM_KM = {
    0.5: 39.0,
    0.75: 26.0,
    1.0: 19.5,
    1.5: 13.3,
    2.5: 7.98,
    4.0: 4.95,
    6.0: 3.30,
    10.0: 1.91,
    16.0: 1.21,
    25.0: 0.780,
    35.0: 0.554,
    50.0: 0.386,
    70.0: 0.272,
    95.0: 0.206,
    120.0: 0.161,
}

#: Insulation of a wire, as it is printed on it.
ORDINARY, HOT = "ordinary", "hot"
INSULATIONS = {
    ORDINARY: "ordinary (PVC, 60 to 80 °C)",
    HOT: "hot-rated (105 °C or more)",
}
#: How many wires under load lie together; by default as in a box: plus and minus.
BOX, FREE, BUNDLE = "box", "free", "bundle"
BUNDLES = {
    BOX: "in a box or a two-wire lead",
    FREE: "each wire alone in open air",
    BUNDLE: "four or more wires in one bundle",
}
#: Current that ordinary wire carries in a box, by gauge; -1 is 2/0. To AWG 10 a
#: usual rule of clubs: common practice, no source (12: 25 to 30 A). Above as single
#: conductors of 75 °C insulation in ABYC E-11, from memory. Nothing more is taken off
#: for a box. [AWG: A]
_ORDINARY_A = {
    18: 10, 16: 15, 14: 20, 12: 30, 10: 40, 8: 65, 6: 95, 4: 125, 2: 170, 1: 195,
    0: 230, -1: 265, -2: 310, -3: 360,
}  # fmt: skip
#: Current that a single conductor of 105 °C insulation carries in open air, outside
#: engine rooms: ABYC E-11, from memory. [AWG: A]
_HOT_A = {
    18: 20, 16: 25, 14: 35, 12: 45, 10: 60, 8: 80, 6: 120, 4: 160, 2: 210, 1: 245,
    0: 285, -1: 330, -2: 385, -3: 445,
}  # fmt: skip
#: What is left of the table's current for wires that lie together: two or three
#: loaded ones 70 %, four to six 60 %, ABYC E-11, from memory; ordinary wire's table
#: has the first in it. [share]
_LEFT = {
    (ORDINARY, FREE): 1.0,
    (ORDINARY, BOX): 1.0,
    (ORDINARY, BUNDLE): 0.6 / 0.7,
    (HOT, FREE): 1.0,
    (HOT, BOX): 0.7,
    (HOT, BUNDLE): 0.6,
}

#: Ratings of blade fuses, ISO 8820-3; larger ones are bolted. [A]
FUSE_RATINGS_A = (
    1, 2, 3, 5, 7.5, 10, 15, 20, 25, 30, 40, 50, 60, 80, 100, 125, 150, 200, 250, 300
)  # fmt: skip

#: Share of its rating that a fuse may carry for ten minutes. Common practice.
SUSTAINED_SHARE = 0.8
#: A blade fuse interrupts about this much; larger packs want another kind.
#: From memory. [A]
BLADE_INTERRUPTS_A = 1000.0
#: Longest wire between a battery and its fuse: ABYC E-11, from memory. [m]
FUSE_WITHIN_M = 0.178
#: Voltage drop that is fine, and that is too much: ABYC E-11, from memory. [share]
DROP_FINE, DROP_MOST = 0.03, 0.10


@dataclass(frozen=True, slots=True, kw_only=True)
class Wire:
    """A pair of conductors of one length; give the gauge or the cross-section."""

    #: Length one way; current goes there and back. [m]
    length_m: float
    awg: int | None = None
    area_mm2: float | None = None
    #: Temperature of the conductor. [°C]
    temp_c: float = 20.0
    #: One of INSULATIONS and of BUNDLES.
    insulation: str = ORDINARY
    bundle: str = BOX

    def __post_init__(self) -> None:
        in_range("Length of wire", self.length_m, low=0, high=500, unit="m")
        if (self.awg is None) == (self.area_mm2 is None):
            raise OutOfRange(
                "Wire", "both or neither", low=1, why="give its AWG or its mm²"
            )
        if self.awg is not None:
            in_range("Wire gauge", self.awg, low=0, high=30, unit="AWG")
        if self.area_mm2 is not None:
            in_range("Wire", self.area_mm2, low=0.05, high=120, unit="mm²")
        if (self.insulation, self.bundle) not in _LEFT:
            raise UnknownKey(
                f"Wire is {', '.join(INSULATIONS)} and lies {', '.join(BUNDLES)}, not "
                f"{self.insulation} and {self.bundle}."
            )

    @property
    def mm2(self) -> float:
        """Cross-section of one conductor. [mm²]"""
        if self.area_mm2 is not None:
            return self.area_mm2
        return awg_area_mm2(self.awg or 0)

    @property
    def ohm_per_m(self) -> float:
        """Resistance of one conductor. [Ω/m]"""
        if self.area_mm2 is not None:
            at_20 = _class_5_ohm_m(self.area_mm2)
        else:
            at_20 = COPPER_OHM_M / (self.mm2 * 1e-6)
        return at_20 * (1 + COPPER_PER_C * (self.temp_c - 20))

    @property
    def resistance_ohm(self) -> float:
        """Resistance there and back. [Ω]"""
        return 2 * self.length_m * self.ohm_per_m

    @property
    def ampacity_a(self) -> float:
        """Current it carries for long. [A]"""
        return ampacity_a(self.mm2, self.insulation, self.bundle)

    @property
    def words(self) -> str:
        """As it is spoken of: AWG 12, 2.4 m."""
        size = f"AWG {self.awg or '1/0'}"
        if self.awg is None:
            size = f"{self.area_mm2:g} mm²"
        return f"{size}, {self.length_m:g} m"


def awg_diameter_mm(awg: int) -> float:
    """Diameter of a solid conductor by its gauge, ASTM B258. [mm]"""
    diameter: float = 0.127 * 92 ** ((36 - awg) / 39)
    return diameter


def awg_area_mm2(awg: int) -> float:
    """Cross-section of a solid conductor by its gauge, ASTM B258. [mm²]"""
    return math.pi / 4 * awg_diameter_mm(awg) ** 2


def _class_5_ohm_m(area_mm2: float) -> float:
    """Resistance of stranded wire; between the standard's sizes as its neighbours."""
    areas = np.array(list(_CLASS_5_OHM_KM))
    resistivities = areas * np.array(list(_CLASS_5_OHM_KM.values())) / 1000
    found = np.interp(math.log(area_mm2), np.log(areas), resistivities)
    return float(found) / area_mm2


def ampacity_a(area_mm2: float, insulation: str = ORDINARY, bundle: str = BOX) -> float:
    """
    Current that a conductor carries for long. [A]

    Between the gauges of the table it follows a straight line in the logarithms;
    thinner than the table it falls in proportion to the cross-section; thicker it
    rises with its root, since a thick wire has less skin for its copper.

    Parameters
    ----------
    area_mm2 : float
        Cross-section. [mm²]
    insulation, bundle : str
        One of INSULATIONS and of BUNDLES; by default ordinary wire in a box.
    """
    table = _HOT_A if insulation == HOT else _ORDINARY_A
    gauges = sorted(table, reverse=True)
    areas = [awg_area_mm2(gauge) for gauge in gauges]
    amps = [float(table[gauge]) for gauge in gauges]
    left = _LEFT[insulation, bundle]
    if area_mm2 <= areas[0]:
        return left * amps[0] * area_mm2 / areas[0]
    if area_mm2 >= areas[-1]:
        return left * amps[-1] * math.sqrt(area_mm2 / areas[-1])
    found = np.interp(math.log(area_mm2), np.log(areas), np.log(amps))
    return left * math.exp(float(found))


def voltage_drop_v(wire: Wire, current_a: float) -> float:
    """Voltage lost there and back at a current. [V]"""
    return wire.resistance_ohm * current_a


def smallest_awg(
    length_m: float, current_a: float, source_v: float, most_drop: float = DROP_FINE
) -> int | None:
    """
    Thinnest even gauge that loses no more than a share of the voltage.

    It must carry the current, too. None when not even AWG 4 will do.
    """
    for awg in range(18, 3, -2):
        wire = Wire(length_m=length_m, awg=awg)
        enough = voltage_drop_v(wire, current_a) <= most_drop * source_v
        if enough and wire.ampacity_a >= current_a:
            return awg
    return None


def fuse_for(
    sustained_a: float, key_down_a: float, most_a: float = math.inf
) -> float | None:
    """Smallest usual fuse for two currents, within what its wires carry. [A]"""
    for rating in FUSE_RATINGS_A:
        if sustained_a <= SUSTAINED_SHARE * rating and key_down_a <= rating:
            return float(rating) if rating <= most_a else None
    return None


@dataclass(frozen=True, slots=True, kw_only=True)
class Connector:
    """A family of connectors; ratings are common practice, no source."""

    key: str
    name: str
    #: Current it passes for long. [A]
    max_a: float
    #: Whether plug and socket differ; a genderless one mates with its like.
    has_gender: bool = True
    #: Whether the shell alone keeps plus and minus apart.
    is_keyed: bool = True
    #: Connectors of one group are taken for one another.
    looks_like: str = ""
    #: Resistance of a good pair, both poles. [Ω]
    ohm: float = 0.002


CONNECTORS: dict[str, Connector] = {
    connector.key: connector
    for connector in (
        Connector(
            key="ring",
            name="ring terminals",
            max_a=150,
            has_gender=False,
            is_keyed=False,
            ohm=0.0005,
        ),
        Connector(
            key="bare",
            name="bare ends",
            max_a=30,
            has_gender=False,
            is_keyed=False,
            ohm=0.002,
        ),
        Connector(
            key="genderless-15",
            name="genderless pair, 15 A",
            max_a=15,
            has_gender=False,
            looks_like="genderless",
        ),
        Connector(
            key="genderless-30",
            name="genderless pair, 30 A",
            max_a=30,
            has_gender=False,
            looks_like="genderless",
            ohm=0.0012,
        ),
        Connector(
            key="genderless-45",
            name="genderless pair, 45 A",
            max_a=45,
            has_gender=False,
            looks_like="genderless",
            ohm=0.001,
        ),
        Connector(
            key="genderless-50",
            name="large genderless, 50 A",
            max_a=50,
            has_gender=False,
            ohm=0.0006,
        ),
        Connector(
            key="two-pin-flat", name="two-pin flat", max_a=10, looks_like="two-pin flat"
        ),
        Connector(
            key="hobby-30",
            name="two-pin hobby, 30 A",
            max_a=30,
            looks_like="hobby",
            ohm=0.0012,
        ),
        Connector(
            key="hobby-60",
            name="two-pin hobby, 60 A",
            max_a=60,
            looks_like="hobby",
            ohm=0.0006,
        ),
        Connector(key="radio-t", name="T-shaped radio plug", max_a=25, ohm=0.0015),
        Connector(key="radio-4", name="four-pin radio plug", max_a=30, ohm=0.0012),
        Connector(key="vehicle", name="vehicle socket", max_a=5, ohm=0.02),
        Connector(
            key="barrel-5521",
            name="barrel 5.5/2.1 mm",
            max_a=5,
            looks_like="barrel",
            ohm=0.01,
        ),
        Connector(
            key="barrel-5525",
            name="barrel 5.5/2.5 mm",
            max_a=5,
            looks_like="barrel",
            ohm=0.01,
        ),
        Connector(
            key="barrel-3513",
            name="barrel 3.5/1.3 mm",
            max_a=3,
            looks_like="barrel",
            ohm=0.015,
        ),
        Connector(
            key="barrel-8",
            name="barrel 7.9/5.5 mm",
            max_a=8,
            looks_like="barrel",
            ohm=0.006,
        ),
        Connector(
            key="panel-mount",
            name="two-pin panel mount",
            max_a=15,
            looks_like="panel mount",
            ohm=0.003,
        ),
        Connector(key="solar", name="solar single pin", max_a=30, ohm=0.001),
        Connector(
            key="spring",
            name="spring terminals",
            max_a=5,
            has_gender=False,
            is_keyed=False,
            ohm=0.01,
        ),
        Connector(key="usb-a", name="USB-A", max_a=2.4, ohm=0.05),
        Connector(key="usb-c", name="USB-C", max_a=5, ohm=0.03),
        Connector(key="mains", name="mains plug", max_a=10, ohm=0.01),
    )
}


def connector_of(key: str) -> Connector:
    """
    Return a connector family by its key.

    Raises
    ------
    UnknownKey
        If there is none; the error lists those there are.
    """
    try:
        return CONNECTORS[key]
    except KeyError:
        known = ", ".join(CONNECTORS)
        raise UnknownKey(f"No connector '{key}'; there are {known}.") from None


PLUG, SOCKET, NO_GENDER = "plug", "socket", ""
OPPOSITE = {PLUG: SOCKET, SOCKET: PLUG, NO_GENDER: NO_GENDER}


@dataclass(frozen=True, slots=True, kw_only=True)
class End:
    """One end of a lead, or one port of a thing: what it mates with."""

    connector: str
    #: "plug", "socket", or "" where the family has no gender.
    gender: str = NO_GENDER
    #: Whether plus and minus stand the unusual way round.
    is_reversed: bool = False

    def __post_init__(self) -> None:
        family = connector_of(self.connector)
        if family.has_gender and self.gender not in (PLUG, SOCKET):
            raise UnknownKey(f"{family.name}: say plug or socket.")
        if not family.has_gender and self.gender:
            raise UnknownKey(f"{family.name} has no plug and socket.")

    @property
    def family(self) -> Connector:
        """The family of the connector."""
        return connector_of(self.connector)

    @property
    def words(self) -> str:
        """As it is spoken of: barrel 5.5/2.1 mm socket, reversed."""
        name = f"{self.family.name} {self.gender}".strip()
        return f"{name}, reversed" if self.is_reversed else name

    def shells_mate(self, other: End) -> bool:
        """Whether the two can be pushed together, right or wrong."""
        return (
            self.connector == other.connector and OPPOSITE[self.gender] == other.gender
        )

    def mates(self, other: End) -> bool:
        """Whether the two fit, with plus on plus."""
        return self.shells_mate(other) and self.is_reversed == other.is_reversed
