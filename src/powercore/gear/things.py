"""
What a club owns beside batteries: one value for each kind of thing.

Each holds what its computation needs and nothing else; defaults are common
practice, no source, unless one is named.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from powercore.errors import OutOfRange
from powercore.physics.battery import Pack
from powercore.physics.loads import Draw
from powercore.physics.wiring import End
from powercore.values import in_range

#: Temperature for which panels are printed. [°C]
STANDARD_C = 25.0
#: How far a level may lie from its name: 5 %, from memory of the standard. [share]
PD_TOLERANCE = 0.05


@dataclass(frozen=True, slots=True, kw_only=True)
class Battery:
    """A battery as something that is joined to others."""

    tag: str
    pack: Pack
    #: The maker's limits; None where nobody knows them. [A]
    max_charge_a: float | None = None
    max_discharge_a: float | None = None
    #: "none", "common" (one port both ways), "separate" (a port for charging), or ""
    #: where nobody noted it.
    protection: str = ""
    #: Whether it warms its cells by itself before charging.
    is_heated: bool = False
    mass_kg: float | None = None
    #: Days since its capacity was last tested; None when never. [d]
    tested_days: int | None = None
    #: What is printed: volts and milliamp-hours as typed, where they are known.
    printed_wh: float | None = None
    was_deep_discharged: bool = False
    was_left_on: bool = False
    hold: str = ""
    #: Where it stands in words of charge. (0 to 1)
    soc: float | None = None

    @property
    def discharge_limit_a(self) -> float:
        """Highest current out: the maker's, else the chemistry's practice. [A]"""
        if self.max_discharge_a is not None:
            return self.max_discharge_a
        return self.pack.chem.max_discharge_c * self.pack.nameplate_ah

    @property
    def charge_limit_a(self) -> float:
        """Highest charging current: the maker's, else practice. [A]"""
        return self.pack.charge_limit_a(self.max_charge_a)

    @property
    def wants_balancing(self) -> bool:
        """Whether its charger must balance its cells, for all that is known."""
        is_string = self.pack.chem.needs_balance and self.pack.series > 1
        return is_string and self.protection in ("", "none")


@dataclass(frozen=True, slots=True, kw_only=True)
class PowerBank:
    """A USB power bank."""

    tag: str
    #: Cell capacity as printed, at the volts of its cells. [mAh], [V]
    cell_mah: float
    cell_v: float = 3.7
    #: Share of the cells' energy that comes out. (0 to 1)
    efficiency: float = 0.85
    #: Levels it offers: (volts, amps). [V], [A]
    levels: tuple[tuple[float, float], ...] = ((5.0, 3.0),)
    #: Switches itself off below this current. [A]
    auto_off_a: float = 0.08
    #: Ah that somebody claims at its output, where they do. [Ah]
    claimed_ah: float | None = None
    claimed_v: float = 5.0

    def __post_init__(self) -> None:
        in_range("Cell capacity", self.cell_mah, low=100, high=1_000_000, unit="mAh")
        in_range("Efficiency", self.efficiency, low=0.3, high=1)

    @property
    def cell_wh(self) -> float:
        """Energy in its cells. [Wh]"""
        return self.cell_mah / 1000 * self.cell_v

    def given_ah(self, volts: float) -> float:
        """Amp-hours that come out at a voltage. [Ah]"""
        return self.cell_wh * self.efficiency / volts


@dataclass(frozen=True, slots=True, kw_only=True)
class Panel:
    """A solar panel, as printed at 1000 W/m² and 25 °C."""

    tag: str
    voc_v: float
    isc_a: float
    vmp_v: float
    imp_a: float
    #: Change of the open-circuit voltage and of the power, share per °C. [1/°C]
    voc_per_c: float = -0.003
    power_per_c: float = -0.004
    #: Of how many like panels in series it consists.
    in_series: int = 1
    #: Short-circuit current that was measured in full sun; None: never. [A]
    measured_a: float | None = None
    mass_kg: float | None = None

    def __post_init__(self) -> None:
        in_range("Open-circuit voltage", self.voc_v, low=1, high=200, unit="V")
        in_range("Short-circuit current", self.isc_a, low=0.01, high=60, unit="A")
        in_range(
            "Voltage at maximum power",
            self.vmp_v,
            low=0.5,
            high=self.voc_v,
            unit="V",
            why="it lies below the open-circuit voltage",
        )
        in_range(
            "Current at maximum power",
            self.imp_a,
            low=0.01,
            high=self.isc_a,
            unit="A",
            why="it lies below the short-circuit current",
        )
        in_range("Panels in series", self.in_series, low=1, high=10)

    @property
    def watts(self) -> float:
        """Printed power of the string. [W]"""
        return self.vmp_v * self.imp_a * self.in_series

    @property
    def real_isc_a(self) -> float:
        """Short-circuit current: as measured in full sun, else as printed. [A]"""
        return self.isc_a if self.measured_a is None else self.measured_a

    @property
    def real_watts(self) -> float:
        """Power of the string by that current. [W]"""
        return self.watts * self.real_isc_a / self.isc_a

    @property
    def string_voc_v(self) -> float:
        """Open-circuit voltage of the string at 25 °C. [V]"""
        return self.voc_v * self.in_series

    def cold_voc_v(self, temp_c: float) -> float:
        """Open-circuit voltage of the string at a temperature. [V]"""
        return self.string_voc_v * (1 + self.voc_per_c * (temp_c - STANDARD_C))


PWM, MPPT = "pwm", "mppt"


@dataclass(frozen=True, slots=True, kw_only=True)
class Controller:
    """A solar charge controller."""

    tag: str
    #: "pwm" or "mppt".
    method: str = PWM
    max_a: float
    #: Highest panel voltage it stands. [V]
    max_v: float
    #: The chemistry it is set for, "" when nobody looked.
    setting: str = ""
    #: Chemistries it can be set for.
    settings: tuple[str, ...] = ()
    absorb_v: float | None = None
    float_v: float | None = None
    #: Whether it corrects the voltage for the battery's temperature.
    is_compensated: bool = False


CHARGER, SUPPLY = "charger", "supply"


@dataclass(frozen=True, slots=True, kw_only=True)
class Charger:
    """A charger, or a DC supply used as one."""

    tag: str
    #: "charger" ends by itself, "supply" holds its voltage.
    role: str = CHARGER
    max_a: float
    #: What it gives when set as it stands; a supply's range if adjustable. [V]
    absorb_v: float | None = None
    float_v: float | None = None
    low_v: float | None = None
    high_v: float | None = None
    #: The chemistry it is set for, and those it can be set for (jumper, menu).
    setting: str = ""
    settings: tuple[str, ...] = ()
    #: How the setting is changed: "jumper J2", "menu".
    how_set: str = ""
    #: Cells in series it charges; empty where the volts alone decide.
    series: tuple[int, ...] = ()
    #: Whether it balances the cells of a series string.
    balances: bool = False
    #: Whether it wakes a pack whose protection has tripped.
    wakes_tripped: bool = False
    is_compensated: bool = False
    #: Whether it starts again by itself after its supply was away.
    resumes: bool = True
    efficiency: float = 0.85
    power_factor: float = 0.65
    #: Whether a battery behind it can feed back into it when it is dead.
    is_isolated: bool = False

    def __post_init__(self) -> None:
        in_range("Charging current", self.max_a, low=0.01, high=500, unit="A")
        in_range("Efficiency", self.efficiency, low=0.3, high=1)
        in_range("Power factor", self.power_factor, low=0.3, high=1)

    def input_va(self, volts: float) -> float:
        """Apparent power it asks of its source at full current. [VA]"""
        return volts * self.max_a / self.efficiency / self.power_factor


@dataclass(frozen=True, slots=True, kw_only=True)
class Generator:
    """A generator."""

    tag: str
    rated_w: float
    rated_va: float | None = None
    #: Fuel at a quarter and at full load. [L/h]
    quarter_l_h: float = 0.35
    full_l_h: float = 0.9
    tank_l: float = 2.0
    #: Watts of what else hangs on it. [W]
    other_w: float = 0.0

    @property
    def limit_va(self) -> float:
        """Apparent power it gives. [VA]"""
        return self.rated_va if self.rated_va is not None else self.rated_w


BUCK, INVERTER, USB_PD = "buck", "inverter", "usb_pd"


@dataclass(frozen=True, slots=True, kw_only=True)
class Converter:
    """A converter between a battery and a load."""

    tag: str
    #: "buck", "boost", "inverter" or "usb_pd".
    method: str = BUCK
    in_min_v: float = 9.0
    in_max_v: float = 30.0
    out_v: float = 12.0
    max_w: float
    #: Efficiency at a fifth of its power and at full power. (0 to 1)
    efficiency_low: float = 0.85
    efficiency_full: float = 0.9
    #: What it draws with nothing connected. [W]
    idle_w: float = 0.3
    #: Below this it switches off. [W]
    min_load_w: float = 0.0
    #: A buck's output falls once its input is not this much above. [V]
    headroom_v: float = 0.5
    #: Levels of USB power delivery: (volts, amps).
    levels: tuple[tuple[float, float], ...] = ()
    #: Ports, and what one gives when all are in use; None: not shared. [W]
    ports: int = 1
    shared_w: float | None = None

    def __post_init__(self) -> None:
        in_range("Converter power", self.max_w, low=0.1, high=10_000, unit="W")
        for name in ("efficiency_low", "efficiency_full"):
            in_range("Efficiency", getattr(self, name), low=0.3, high=1)
        in_range("Lowest input", self.in_min_v, low=0.5, high=self.in_max_v, unit="V")

    def input_w(self, output_w: float) -> float:
        """
        Power it takes for a power it gives. [W]

        A straight line through its two points of efficiency, and never less than
        it draws idle; a boost or buck in range keeps to it whatever its input.
        """
        if output_w <= 0:
            return self.idle_w
        low_w = 0.2 * self.max_w
        low_in, full_in = low_w / self.efficiency_low, self.max_w / self.efficiency_full
        slope = (full_in - low_in) / (self.max_w - low_w)
        return max(low_in + slope * (output_w - low_w), output_w + self.idle_w)

    def output_v(self, input_v: float) -> float:
        """Voltage it gives at an input voltage; 0 below its lowest. [V]"""
        if input_v < self.in_min_v:
            return 0.0
        if self.method == BUCK:
            return min(self.out_v, input_v - self.headroom_v)
        return self.out_v


def stated_v(nominal_v: float, min_v: float, max_v: float) -> float:
    """
    Volts that the amps of a device belong to. [V]

    Those it is made for; where it does not work at them (nobody changed the usual
    ones), the middle of those it works at.
    """
    return nominal_v if min_v <= nominal_v <= max_v else (min_v + max_v) / 2


@dataclass(frozen=True, slots=True, kw_only=True)
class Device:
    """A radio or another load."""

    tag: str
    draw: Draw
    #: Draw at its low power step, where it has one.
    low_draw: Draw | None = None
    min_v: float = 11.0
    max_v: float = 15.8
    #: Voltage it is made for. [V]
    nominal_v: float = 13.8
    #: The fuse that its maker gives. [A]
    maker_fuse_a: float | None = None
    #: Transmit power at full and low step. [W]
    tx_w: float | None = None
    low_tx_w: float | None = None
    #: Output rises with the supply, and with it the heat (small radios).
    rises_with_volts: bool = False
    #: Input it needs by USB power delivery: volts and watts. [V], [W]
    pd_v: float | None = None
    pd_w: float | None = None
    #: Mean draw as a share of key-down while transmitting (duty of its mode).
    duty: float = 0.4
    transmit_share: float = 0.3

    def __post_init__(self) -> None:
        in_range(
            "Highest voltage of the device",
            self.max_v,
            low=self.min_v,
            high=500,
            unit="V",
            why="it lies above the lowest",
        )

    @property
    def stated_v(self) -> float:
        """Volts that its amps belong to. [V]"""
        return stated_v(self.nominal_v, self.min_v, self.max_v)

    @property
    def stands_v(self) -> float:
        """Highest voltage it stands; by USB power delivery its own level too. [V]"""
        return max(self.max_v, (self.pd_v or 0.0) * (1 + PD_TOLERANCE))

    @property
    def needs_v(self) -> float:
        """Lowest voltage it works at, down to its own level of power delivery. [V]"""
        if self.pd_v is None:
            return self.min_v
        return min(self.min_v, self.pd_v * (1 - PD_TOLERANCE))

    @property
    def is_transmitter(self) -> bool:
        """Whether it transmits."""
        return self.draw.key_down_a > self.draw.receive_a


@dataclass(frozen=True, slots=True, kw_only=True)
class Meter:
    """A current meter with its faults."""

    tag: str
    #: What it shows with nothing flowing. [A]
    zero_a: float = 0.0
    #: What it shows over what flows. [ratio]
    gain: float = 1.0
    #: Days since it was compared with another; None when never. [d]
    checked_days: int | None = None

    def __post_init__(self) -> None:
        in_range("Zero offset", self.zero_a, low=-10, high=10, unit="A")
        in_range("Gain", self.gain, low=0.5, high=2)

    def true_a(self, shown_a: float) -> float:
        """Current that flows when it shows some. [A]"""
        return (shown_a - self.zero_a) / self.gain

    def true_ah(self, shown_ah: float, hours: float) -> float:
        """Charge that flowed when it counted some in some hours. [Ah]"""
        return (shown_ah - self.zero_a * hours) / self.gain


@dataclass(frozen=True, slots=True, kw_only=True)
class Lead:
    """A lead or adapter: two ends, a length, a wire, perhaps a fuse."""

    tag: str
    end_a: End
    end_b: End
    length_m: float = 0.5
    awg: int | None = None
    area_mm2: float | None = None
    fuse_a: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Port:
    """A port of a thing: what mates with it, which way power goes."""

    owner: str
    name: str
    end: End
    #: "out", "in" or "both".
    flow: str = "out"
    #: Voltage it gives, or the range it takes. [V]
    low_v: float = 0.0
    high_v: float = 0.0
    max_a: float | None = None
    #: Whether its pins carry voltage while nothing is plugged in.
    is_live: bool = False

    def __post_init__(self) -> None:
        if self.high_v < self.low_v:
            raise OutOfRange(
                "Highest voltage of the port", self.high_v, low=self.low_v, unit="V"
            )


@dataclass(frozen=True, slots=True, kw_only=True)
class AntennaPart:
    """An antenna, tuner, balun or feed line: only its power rating."""

    tag: str
    #: What it stands, continuous carrier. [W]
    max_w: float


def level_for(
    levels: Sequence[tuple[float, float]], volts: float
) -> tuple[float, float] | None:
    """Return the level of USB power delivery at a voltage, None if there is none."""
    return next((level for level in levels if abs(level[0] - volts) < 0.26), None)
