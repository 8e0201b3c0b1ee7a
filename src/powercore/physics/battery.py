"""
A battery (a pack with its protection): what it can really give, and until when.

Two ends are told apart everywhere: the reserve, which is a promise, and the
disconnect, where power really ends.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from enum import StrEnum

import numpy as np

from powercore.errors import PowerBeyondPack
from powercore.limits import PEUKERT
from powercore.physics.chemistry import Chemistry, chemistry_of
from powercore.values import FloatArray, in_range

#: Two voltages nearer than this are the same. [V]
SAME_V = 0.051
#: Lead-acid on the volts that only hold it full takes so long to be full, at the
#: least. [h] Common practice, no source: a day or more.
SLOW_LEAD_H = 24.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Pack:
    """A battery as the computation sees it."""

    chemistry: str
    series: int
    parallel: int = 1
    #: Capacity printed on the pack. [Ah]
    nameplate_ah: float
    #: Capacity of an accepted test; None when never tested. [Ah]
    tested_ah: float | None = None
    #: Promised lowest state of charge; None means the chemistry's practice.
    reserve: float | None = None
    #: Measured resistance with leads and protection; None means typical. [Ω]
    measured_ohm: float | None = None
    #: The maker's limit of the charging voltage; None means the chemistry's. [V]
    max_charge_v: float | None = None
    #: Charging, floating and disconnect voltage of this pack; None means its
    #: chemistry's practice. [V]
    charge_v: float | None = None
    float_v: float | None = None
    disconnect_v: float | None = None
    #: Peukert's exponent, found in tests at two currents; None: its chemistry's.
    peukert: float | None = None
    #: Where its protection board cuts off, low and high; None: its chemistry's usual
    #: one, or none. [V]
    board_low_v: float | None = None
    board_high_v: float | None = None
    #: Lowest temperature at which its maker lets it be charged; None: its chemistry's.
    #: [°C]
    charge_low_c: float | None = None
    #: Whole years since it was built or bought; None: not known.
    years: int | None = None

    def __post_init__(self) -> None:
        chemistry_of(self.chemistry)
        in_range(
            "Cells in series", self.series, low=1, high=120, why="a pack has cells"
        )
        in_range("Cells in parallel", self.parallel, low=1, high=200)
        in_range(
            "Nameplate capacity", self.nameplate_ah, low=0.05, high=5000, unit="Ah"
        )
        if self.tested_ah is not None:
            in_range("Tested capacity", self.tested_ah, low=0.01, high=5000, unit="Ah")
        if self.reserve is not None:
            in_range("Reserve", self.reserve, low=0, high=0.95)
        for name, volts in (
            ("Board's low cut-off", self.board_low_v),
            ("Board's high cut-off", self.board_high_v),
        ):
            if volts is not None:
                in_range(
                    name,
                    volts,
                    low=0.5 * self.nominal_v,
                    high=1.5 * self.nominal_v,
                    unit="V",
                    why=f"{self.series} cells of {self.chem.name}",
                )
        if self.charge_low_c is not None:
            in_range(
                "Coldest to charge at", self.charge_low_c, low=-60, high=30, unit="°C"
            )
        if self.years is not None:
            in_range("Age", self.years, low=0, high=100, unit="years")
        if self.peukert is not None:
            PEUKERT.check("Peukert's exponent", self.peukert)
        if self.measured_ohm is not None:
            in_range("Resistance", self.measured_ohm, low=1e-5, high=10, unit="Ω")
        self._check_profile()

    def _check_profile(self) -> None:
        low_v, high_v = (v * self.series for v in self.chem.charge_range_v)
        if self.max_charge_v is not None:
            in_range(
                "Maker's charging limit",
                self.max_charge_v,
                low=low_v * 0.9,
                high=high_v * 1.1,
                unit="V",
                why=f"{self.series} cells of {self.chem.name}",
            )
            high_v = self.max_charge_v
        if self.charge_v is not None:
            in_range(
                "Charging voltage",
                self.charge_v,
                low=min(low_v, high_v),
                high=high_v,
                unit="V",
                why=f"the maker's limits for {self.series} cells of {self.chem.name}",
            )
        if self.float_v is not None:
            in_range(
                "Float voltage",
                self.float_v,
                low=self.nominal_v * 0.9,
                high=self.charge_v or self.absorb_v,
                unit="V",
                why="a float is not above the charging voltage",
            )
        if self.disconnect_v is not None:
            in_range(
                "Disconnect voltage",
                self.disconnect_v,
                low=float(self.chem.curve_v[0]) * self.series,
                high=self.rested_v(0.9),
                unit="V",
                why="between an empty and a nearly full pack",
            )

    @property
    def absorb_v(self) -> float:
        """Charging voltage: this pack's own, else its chemistry's. [V]"""
        return self.charge_v or self.chem.charge_v * self.series

    @property
    def top_v(self) -> float:
        """
        Highest voltage seen on it: at the end of a charge and fresh off it. [V]

        This pack's own charging voltage, else its chemistry's top within its maker's
        limit.
        """
        if self.charge_v is not None:
            return self.charge_v
        top_v = self.chem.top_v * self.series
        return top_v if self.max_charge_v is None else min(top_v, self.max_charge_v)

    @property
    def most_float_v(self) -> float | None:
        """Highest voltage it may be kept at; None: it is not floated. [V]"""
        chem_v = self.chem.float_most_v or self.chem.float_v
        return self.float_v or (chem_v * self.series if chem_v else None)

    def fills_slowly_at(self, volts: float) -> bool:
        """Whether it still fills, held at what is too little to end a charge."""
        float_v = self.chem.float_v
        if float_v is None or not (self.chem.is_lithium or self.chem.is_lead):
            return False
        return volts >= float_v * self.series - SAME_V

    @property
    def slow_h(self) -> float:
        """What filling it so takes at the least. [h]"""
        return SLOW_LEAD_H if self.chem.is_lead else 0.0

    @property
    def highest_charge_v(self) -> float:
        """Voltage that charging must not pass: the maker's, else usual. [V]"""
        return self.max_charge_v or self.chem.charge_range_v[1] * self.series

    @property
    def cut_off_v(self) -> float:
        """Low-voltage disconnect: this pack's own, else its chemistry's. [V]"""
        return self.disconnect_v or self.chem.disconnect_v * self.series

    @property
    def chem(self) -> Chemistry:
        """The pack's chemistry."""
        return chemistry_of(self.chemistry)

    @property
    def nominal_v(self) -> float:
        """Nominal voltage. [V]"""
        return self.series * self.chem.cell_nominal_v

    @property
    def trusted_ah(self) -> float:
        """Capacity that plans use: the accepted test, else the derated print. [Ah]"""
        if self.tested_ah is not None:
            return self.tested_ah
        return self.nameplate_ah * self.chem.untested_share * self.age_share

    @property
    def age_share(self) -> float:
        """
        What its age leaves of an untested pack, at least half.

        A fifth is lost in its chemistry's usual life, evenly; common practice, no
        source. A test says more.
        """
        if self.years is None:
            return 1.0
        return max(0.5, 1.0 - 0.2 * self.years / self.chem.life_years)

    def ah_at(self, current_a: FloatArray | float) -> FloatArray:
        """
        Capacity at steady currents, of lead-acid less at more. [Ah]

        Trusted at the rated current and below. Above it by its own exponent, as its
        tests gave it: C (I r / C)^(1 - k), where r is the rated time, which is what
        `peukert_hours` lasts, times the current; without one by its makers' tables,
        where an exponent that fits slow rates promises too much at fast ones.

        Parameters
        ----------
        current_a : float or array
            Mean current, not key down. [A]

        Returns
        -------
        array
            Of the same shape.
        """
        if not self.chem.is_lead:
            return np.asarray(self.trusted_ah * np.ones_like(current_a, dtype=float))
        if self.peukert is not None:
            return _peukert_ah(
                self.trusted_ah, self.chem.rated_h, self.peukert, current_a
            )
        over = np.maximum(np.asarray(current_a, dtype=float) / self.trusted_ah, 1e-9)
        rates, shares = np.log(self.chem.rate_c), np.log(self.chem.rate_share)
        last = (shares[-1] - shares[-2]) / (rates[-1] - rates[-2])
        beyond = np.maximum(np.log(over) - rates[-1], 0.0)
        share = np.interp(np.log(over), rates, shares) + last * beyond
        return np.asarray(self.trusted_ah * np.exp(share))

    def charge_limit_a(self, makers_a: float | None) -> float:
        """Highest charging current: the maker's, else its chemistry's practice. [A]"""
        if makers_a is not None:
            return makers_a
        return self.chem.max_charge_c * self.nameplate_ah

    def is_too_cold(self, cell_c: float, *, is_heated: bool = False) -> bool:
        """Whether it must not be charged at a temperature of its cells."""
        return not is_heated and cell_c <= self.cold_charge_c

    def cold_charge_a(self, cell_c: float, *, is_heated: bool = False) -> float:
        """Highest charging current by the cold: none, a gentle one, or any. [A]"""
        if self.is_too_cold(cell_c, is_heated=is_heated):
            return 0.0
        gentle_c = self.chem.gentle_c
        if gentle_c is None or is_heated or cell_c >= gentle_c:
            return float("inf")
        return self.chem.gentle_rate * self.nameplate_ah

    @property
    def protection_v(self) -> float:
        """Where its board cuts off a discharge; 0 where none is known. [V]"""
        if self.board_low_v is not None:
            return self.board_low_v
        return self.chem.protection_v * self.series

    @property
    def cold_charge_c(self) -> float:
        """At and below what it is never charged. [°C]"""
        own = self.charge_low_c
        return self.chem.cold_charge_c if own is None else own

    @property
    def on_charge_v(self) -> float:
        """
        Volts of it while a panel charges it. [V]

        A quarter of the way from half full at rest to its charging voltage; common
        practice, no source.
        """
        return 0.75 * self.rested_v(0.5) + 0.25 * self.absorb_v

    @property
    def trusted_why(self) -> str:
        """Where the trusted capacity comes from, in words."""
        if self.tested_ah is not None:
            return "accepted test"
        share = f"untested: {self.chem.untested_share:.0%} of the nameplate"
        if self.age_share < 1.0:
            share += f", {self.age_share:.0%} of that at {self.years} years"
        return share

    @property
    def nameplate_wh(self) -> float:
        """Nameplate capacity at the nominal voltage. [Wh]"""
        return self.nameplate_ah * self.nominal_v

    @property
    def trusted_wh(self) -> float:
        """Trusted capacity at the nominal voltage. [Wh]"""
        return self.trusted_ah * self.nominal_v

    @property
    def reserve_soc(self) -> float:
        """State of charge that is promised not to be gone below."""
        return self.chem.reserve_soc if self.reserve is None else self.reserve

    @property
    def resistance_ohm(self) -> float:
        """Resistance from rested to loaded voltage. [Ω]"""
        if self.measured_ohm is not None:
            return self.measured_ohm
        return self.typical_ohm

    @property
    def typical_ohm(self) -> float:
        """Typical resistance for its size, with protection and leads. [Ω]"""
        return typical_ohm(self.chem, self.series, self.nameplate_ah)

    def rested_v(self, soc: float) -> float:
        """Rested voltage at a state of charge. [V]"""
        return float(self.chem.rested_v(soc)) * self.series

    def loaded_v(self, soc: float, current_a: float) -> float:
        """Terminal voltage while a current flows out (negative: in). [V]"""
        return self.rested_v(soc) - current_a * self.resistance_ohm

    def mean_v(self, from_soc: float, to_soc: float, current_a: float) -> float:
        """Mean terminal voltage while discharging between two states. [V]"""
        soc = np.linspace(min(from_soc, to_soc), max(from_soc, to_soc), 101)
        mean = float(np.mean(self.chem.rested_v(soc))) * self.series
        return mean - current_a * self.resistance_ohm

    def usable_wh(
        self, from_soc: float, to_soc: float, current_a: float = 0.0
    ) -> float:
        """
        Energy given at the terminals between two states of charge. [Wh]

        Amp-hours times the mean terminal voltage; 0 when there is nothing above
        `to_soc`.
        """
        if from_soc <= to_soc:
            return 0.0
        charge_ah = (from_soc - to_soc) * self.trusted_ah
        return charge_ah * self.mean_v(from_soc, to_soc, current_a)


def typical_ohm(chem: Chemistry, series: int, nameplate_ah: float) -> float:
    """
    Typical resistance of a pack for its size, with protection and leads. [Ω]

    A fixed part and that of its cells, which falls with the capacity; small cells
    have less of it than one over the capacity says. Common practice, no source: good
    within a factor of three, so nothing is forbidden by it alone.
    """
    share = (100 + chem.small_ah) / (nameplate_ah + chem.small_ah)
    return chem.fixed_ohm + series * chem.cell_ohm_100ah * share


def current_for_power(rested_v: float, resistance_ohm: float, power_w: float) -> float:
    """
    Current that a constant-power load draws through a resistance. [A]

    The smaller root of P = (V - R I) I [1]_, in the form that loses no digits to
    cancellation; beyond V²/(4 R) there is none.

    Parameters
    ----------
    rested_v : float
        Rested voltage. [V]
    resistance_ohm : float
        Resistance between it and the load. [Ω]
    power_w : float
        Power at the load. [W]

    Raises
    ------
    PowerBeyondPack
        If the load asks for more than the resistance lets through.

    References
    ----------
    .. [1] Maximum power transfer, any textbook of circuit theory.
    """
    most_w = rested_v**2 / (4 * resistance_ohm)
    if power_w > most_w:
        raise PowerBeyondPack(
            f"{power_w:g} W can't be drawn from {rested_v:g} V through "
            f"{resistance_ohm * 1000:g} mΩ; {most_w:.1f} W is the most."
        )
    root = math.sqrt(rested_v**2 - 4 * resistance_ohm * power_w)
    return 2 * power_w / (rested_v + root)


@dataclass(frozen=True, slots=True, kw_only=True)
class Feeding:
    """How a battery feeds a station: its currents, its leads, its devices' limits."""

    #: Mean current. [A]
    mean_a: float
    #: Highest current that lasts seconds. [A]
    peak_a: float
    #: Resistance of fuse, leads and connectors, both ways. [Ω]
    path_ohm: float = 0.012
    #: Lowest voltage the most demanding device works at. [V]
    device_min_v: float = 0.0
    #: Highest voltage any device stands. [V]
    device_max_v: float = 1000.0
    #: Automatic disconnect at the station, None where there is none. [V]
    disconnect_v: float | None = None


#: What acts on the mean current: it waits out transmit peaks.
DISCONNECT = "low-voltage disconnect"
#: A battery that ends above this is of no use there. (0 to 1)
WEAK_SOC = 0.95


@dataclass(frozen=True, slots=True, kw_only=True)
class Disconnect:
    """Where power really ends, and by which limit."""

    soc: float
    cause: str
    #: The limit itself; 0 where none is met. [V]
    limit_v: float = 0.0
    #: Whether a peak meets it, or else what is drawn on average.
    is_at_peak: bool = False

    def amps(self, feeding: Feeding) -> float:
        """The current that meets the limit. [A]"""
        return feeding.peak_a if self.is_at_peak else feeding.mean_a


def disconnect_of(pack: Pack, feeding: Feeding) -> Disconnect:
    """
    Find where power really ends: at the first limit a discharge meets.

    The low-voltage disconnect acts on the mean current (it waits out transmit
    peaks); protection and the device's minimum act at the peak. Where no limit is
    met, power ends with the charge.
    """
    limits = [
        (
            DISCONNECT,
            feeding.disconnect_v or pack.cut_off_v,
            feeding.mean_a * pack.resistance_ohm,
        ),
        (
            "the pack's protection",
            pack.protection_v,
            feeding.peak_a * pack.resistance_ohm,
        ),
        (
            "the device's minimum voltage at peak",
            feeding.device_min_v,
            feeding.peak_a * (pack.resistance_ohm + feeding.path_ohm),
        ),
    ]
    found = Disconnect(soc=0.0, cause="the end of its charge")
    for name, limit_v, drop_v in limits:
        if limit_v <= 0:
            continue
        at = float(pack.chem.soc_at((limit_v + drop_v) / pack.series))
        if at > found.soc:
            found = Disconnect(
                soc=at, cause=name, limit_v=limit_v, is_at_peak=name != DISCONNECT
            )
    return found


def refusal(pack: Pack, feeding: Feeding) -> str | None:
    """Say why a battery can't feed a station, or None when it can."""
    if pack.top_v > feeding.device_max_v + SAME_V:
        return (
            f"off the charger it gives {pack.top_v:.1f} V, above the "
            f"{feeding.device_max_v:g} V a device there can take"
        )
    end = disconnect_of(pack, feeding)
    if end.soc >= WEAK_SOC:
        return f"too low there: even full it ends at {end.cause}, {end.limit_v:g} V"
    return None


def peukert_hours(
    capacity_ah: float, rated_h: float, exponent: float, current_a: float
) -> float:
    """
    Hours that a battery lasts at a steady current, by Peukert's law. [h]

    t = H (C / (I H))^k [1]_, and never more amp-hours than the rated ones: at
    currents below the rated one the law would promise charge that is not there.

    Parameters
    ----------
    capacity_ah, rated_h : float
        Capacity and the hours for which it is given. [Ah], [h]
    exponent : float
        Peukert's exponent, 1 or more.
    current_a : float
        Steady current. [A]

    Raises
    ------
    OutOfRange
        If a value makes no sense; the current must be above zero.

    References
    ----------
    .. [1] W. Peukert, "Über die Abhängigkeit der Kapazität von der
       Entladestromstärke bei Bleiakkumulatoren", Elektrotechnische Zeitschrift
       20, 1897.
    """
    in_range("Capacity", capacity_ah, low=1e-6, unit="Ah")
    in_range("Rated time", rated_h, low=0.01, unit="h")
    in_range("Peukert's exponent", exponent, low=1, high=2)
    in_range("Current", current_a, low=1e-6, unit="A")
    return float(_peukert_ah(capacity_ah, rated_h, exponent, current_a)) / current_a


def _peukert_ah(
    capacity_ah: float, rated_h: float, exponent: float, current_a: FloatArray | float
) -> FloatArray:
    """What comes out at steady currents: all of it at the rated one and below. [Ah]"""
    over = np.asarray(current_a, dtype=float) * rated_h / capacity_ah
    return np.asarray(capacity_ah * np.maximum(over, 1.0) ** (1 - exponent))


class AirBand(StrEnum):
    """How a battery may travel in a passenger's hands."""

    CARRY_ON = "carry-on"
    APPROVAL = "with the airline's approval"
    NO = "not on a passenger aircraft"


#: Spare lithium batteries of more than 100 Wh, and spares of lead-acid, a passenger
#: may have: 49 CFR 175.10(a)(18), from memory.
MOST_SPARES = 2


def air_band(wh: Decimal, chemistry: str = "lifepo4", volts: float = 12.0) -> AirBand:
    """
    Say how a battery may fly with a passenger, by its chemistry's own rule.

    Lithium: up to and with 100 Wh carried on, up to and with 160 Wh with the
    airline's approval, more not at all. Lead-acid: non-spillable (AGM, gel) up to
    12 V and 100 Wh; spillable not at all. Dry cells (NiMH, alkaline) without a
    limit [1]_. Airlines add rules of their own: ask them.

    Parameters
    ----------
    wh : Decimal
        From volts and amp-hours as typed, not after rounding. [Wh]
    chemistry : str
        Key of the chemistry.
    volts : float
        Nominal voltage of the pack. [V]

    References
    ----------
    .. [1] 49 CFR 175.10(a)(18) and IATA Dangerous Goods Regulations 2.3.5, both
       from memory.
    """
    chem = chemistry_of(chemistry)
    if chem.is_lead:
        is_small = volts <= 12 and wh <= 100
        return AirBand.CARRY_ON if is_small and not chem.spills else AirBand.NO
    if not chem.is_lithium or wh <= 100:
        return AirBand.CARRY_ON
    return AirBand.APPROVAL if wh <= 160 else AirBand.NO


def shared_currents_a(
    rested_v: Sequence[float], resistance_ohm: Sequence[float], load_a: float
) -> list[float]:
    """
    Share a load current among packs in parallel. [A]

    Each pack gives (E - V) / R at the common voltage V that makes the sum the
    load (Millman's theorem); a pack with a lower voltage takes current in, shown
    as a negative share.

    Parameters
    ----------
    rested_v, resistance_ohm : sequence of float
        Rested voltage and resistance with its lead, one each a pack. [V], [Ω]
    load_a : float
        Current out of the set. [A]
    """
    conductances = [1 / ohm for ohm in resistance_ohm]
    pushed = sum(v * g for v, g in zip(rested_v, conductances, strict=True))
    common_v = (pushed - load_a) / sum(conductances)
    return [(v - common_v) * g for v, g in zip(rested_v, conductances, strict=True)]
