"""
Bench tests: what a battery gave, corrected, and how far to trust it.

A test counts as a measurement only from full to empty. With an end missing it
still bounds the capacity from below, and says so.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
from numpy.typing import ArrayLike
from scipy.optimize import brentq

from powercore.errors import PowercoreError
from powercore.gear.things import Meter, PowerBank
from powercore.limits import PEUKERT
from powercore.physics.battery import Pack
from powercore.values import in_range

#: What remains unknown of a meter that was compared within a year, and of one
#: that was not: share of what it counts, and amps at rest. Common practice.
_CHECKED_SD = (0.01, 0.02)
_UNCHECKED_SD = (0.03, 0.10)
#: Uncertainty of where full and empty lie, and of a corrected rate. [share]
_ENDS_SD, _RATE_SD = 0.015, 0.02
#: A test at this or above is one in a room. [°C]
ROOM_C = 15.0
#: Capacity over print below which a pack is due to be retired. [share]
RETIRE_SHARE = 0.7
#: A fall between two tests that asks for a third. [share]
SUDDEN_FALL = 0.1


class NoLoad(PowercoreError):
    """A test in which nothing flowed says nothing."""


class Bound(StrEnum):
    """What a test says: the capacity, or only that it is no less."""

    MEASURED = "measured"
    AT_LEAST = "at least"


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One typed or logged line of a test."""

    #: Since the start. [min]
    minute: float
    amps: float
    volts: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Given:
    """What flowed in a test, after the meter's faults are taken off."""

    ah: float
    wh: float | None
    hours: float
    #: Terminal volts at the end. [V]
    end_v: float | None = None

    @property
    def mean_a(self) -> float:
        """Mean current. [A]"""
        return self.ah / self.hours if self.hours > 0 else 0.0


def given_by_rows(rows: Sequence[Row], meter: Meter | None = None) -> Given:
    """
    Integrate a test from its lines by the trapezoidal rule.

    Raises
    ------
    NoLoad
        If there are fewer than two lines, time does not pass, or nothing flows
        once the meter's zero is taken off.
    """
    meter = meter or Meter(tag="")
    hours = np.array([row.minute for row in rows]) / 60
    amps = np.array([meter.true_a(row.amps) for row in rows])
    volts = np.array([row.volts for row in rows])
    if len(rows) < 2 or hours[-1] <= hours[0] or (np.diff(hours) < 0).any():
        raise NoLoad("A test needs two lines or more, in the order of their time.")
    given = Given(
        ah=float(np.trapezoid(amps, hours)),
        wh=float(np.trapezoid(amps * volts, hours)),
        hours=float(hours[-1] - hours[0]),
        end_v=float(volts[-1]),
    )
    return _some(given)


def given_by_counter(
    shown_ah: float,
    hours: float,
    meter: Meter | None = None,
    end_v: float | None = None,
) -> Given:
    """
    Take the meter's faults off an amp-hour count.

    Raises
    ------
    NoLoad
        If nothing is left once the meter's zero is taken off.
    OutOfRange
        If the hours make no sense.
    """
    in_range("Duration of the test", hours, low=0.01, high=2000, unit="h")
    meter = meter or Meter(tag="")
    ah = meter.true_ah(shown_ah, hours)
    return _some(Given(ah=ah, wh=None, hours=hours, end_v=end_v))


def _some(given: Given) -> Given:
    if given.ah <= 0:
        raise NoLoad(
            f"Without the meter's zero {given.ah:.2f} Ah flowed in "
            f"{given.hours:.1f} h; the test says nothing."
        )
    return given


@dataclass(frozen=True, slots=True, kw_only=True)
class Result:
    """What a test proposes to trust."""

    #: At the rated current and 25 °C. [Ah]
    ah: float
    #: One standard deviation. [Ah]
    sd_ah: float
    bound: Bound
    #: Each step from the count to the result, in words.
    steps: tuple[str, ...]


def capacity_of(
    pack: Pack,
    given: Given,
    *,
    meter: Meter | None = None,
    temp_c: float = 25.0,
    was_full: bool,
    was_emptied: bool,
) -> Result:
    """
    Turn what a battery gave into a capacity at its rated current and 25 °C.

    Lead-acid that gave C at a current above its rated one holds more at that one:
    from Peukert's law t = H (Cr / (I H))^k follows Cr = I H (t / H)^(1/k) [1]_.
    Cold is taken off by the chemistry's table.

    Parameters
    ----------
    pack : Pack
        The battery tested.
    given : Given
        What flowed, already without the meter's faults.
    meter : Meter, optional
        Its age of calibration widens the result.
    temp_c : float
        Temperature of the battery. [°C]
    was_full, was_emptied : bool
        Whether it began full (absorption and tail reached) and ended at its
        disconnect; if not, the result is a lower bound.

    References
    ----------
    .. [1] W. Peukert, Elektrotechnische Zeitschrift 20, 1897.
    """
    in_range("Temperature", temp_c, low=-30, high=60, unit="°C")
    chem = pack.chem
    steps = [f"{given.ah:.2f} Ah in {given.hours:.1f} h, {given.mean_a:.2f} A mean"]
    ah, rate_sd = given.ah, 0.0
    rated_ah = _rated_ah(pack, given)
    if rated_ah is not None:
        steps.append(f"{rated_ah:.2f} Ah at the {chem.rated_h:g} h rate (Peukert)")
        rate_sd = _RATE_SD * min(3.0, rated_ah / ah)
        ah = rated_ah
    # A test in a room is what is trusted: lithium gives all of itself there.
    is_room = chem.is_lithium and temp_c >= ROOM_C
    share = 1.0 if is_room else chem.capacity_share(temp_c)
    if abs(share - 1) > 1e-9:
        ah /= share
        rate_sd = math.hypot(rate_sd, (1 - share) * 0.3)
        steps.append(f"{ah:.2f} Ah at 25 °C ({share:.0%} is there at {temp_c:g} °C)")
    gain_sd, zero_sd_a = _meter_sd(meter)
    sd_ah = math.hypot(
        gain_sd * ah, zero_sd_a * given.hours, _ENDS_SD * ah, rate_sd * ah
    )
    bound = Bound.MEASURED
    if not (was_full and was_emptied):
        bound = Bound.AT_LEAST
        missing = [] if was_full else ["it was not proved full before"]
        missing += [] if was_emptied else ["it was not run to its disconnect"]
        steps.append("at least this much: " + " and ".join(missing))
    return Result(ah=ah, sd_ah=sd_ah, bound=bound, steps=tuple(steps))


def _rated_ah(pack: Pack, given: Given) -> float | None:
    """Lead-acid at its rated current, where it was tested above that. [Ah]"""
    chem = pack.chem
    if not chem.is_lead:
        return None

    def over(rated_ah: float) -> float:
        """What such a capacity gives at that current, over what was given."""
        trusted = replace(pack, tested_ah=rated_ah)
        return float(trusted.ah_at(given.mean_a)) - given.ah

    if over(given.ah) >= 0:
        return None
    return float(brentq(over, given.ah, 50 * given.ah))


#: Two tests say an exponent where their currents differ so much. Common practice, no
#: source.
_APART = 1.5


def exponent_of(one: tuple[float, float], other: tuple[float, float]) -> float | None:
    """
    Peukert's exponent from two full discharges: ln(t1 / t2) / ln(I2 / I1) [1]_.

    Parameters
    ----------
    one, other : (float, float)
        Amp-hours and hours of each. [Ah], [h]

    Returns
    -------
    float or None
        1 to 1.6; None where the currents are too near each other, or it lies beyond:
        then a test is not what it was taken for.

    References
    ----------
    .. [1] W. Peukert, Elektrotechnische Zeitschrift 20, 1897.
    """
    if min(*one, *other) <= 0:
        return None
    (slow_ah, slow_h), (fast_ah, fast_h) = sorted(
        (one, other), key=lambda x: x[0] / x[1]
    )
    ratio = (fast_ah / fast_h) / (slow_ah / slow_h)
    if ratio < _APART:
        return None
    found = math.log(slow_h / fast_h) / math.log(ratio)
    return found if PEUKERT.low <= found <= PEUKERT.high else None


def _meter_sd(meter: Meter | None) -> tuple[float, float]:
    if meter is None or meter.checked_days is None or meter.checked_days > 365:
        return _UNCHECKED_SD
    return _CHECKED_SD


def capacity_by_recharge(
    pack: Pack, given: Given, *, was_empty: bool, was_filled: bool
) -> Result:
    """
    Capacity from what a charge took: the charge put in times its efficiency.

    Parameters
    ----------
    pack : Pack
        What was charged; its chemistry says which share of a charge stays.
    given : Given
        What went in.
    was_empty, was_filled : bool
        Whether it went from its disconnect, and to its tail; else the result is a
        lower bound.

    Returns
    -------
    Result
        Its spread is 3 % for lithium, 6 % for others: common practice, no source.
    """
    ah = given.ah * pack.chem.coulombic
    steps = [
        f"{given.ah:.2f} Ah went in in {given.hours:.1f} h",
        f"{ah:.2f} Ah of it stay ({pack.chem.coulombic:.0%})",
    ]
    bound = Bound.MEASURED
    if not (was_empty and was_filled):
        bound = Bound.AT_LEAST
        steps.append("at least this much: it did not go from empty to full")
    spread = 0.03 if pack.chem.is_lithium else 0.06
    return Result(ah=ah, sd_ah=spread * ah, bound=bound, steps=tuple(steps))


def resistance_from_sag(current_a: ArrayLike, sag_v: ArrayLike) -> float:
    """
    Internal resistance from the sag under one or more loads. [Ω]

    The least-squares slope of sag over current through the origin [1]_.

    Parameters
    ----------
    current_a, sag_v : array_like
        Current of each load, and rested minus loaded volts. [A], [V]

    Raises
    ------
    NoLoad
        If no load draws any current.

    References
    ----------
    .. [1] Ohm's law; least squares without intercept, any textbook of statistics.
    """
    amps, sags = np.asarray(current_a, float), np.asarray(sag_v, float)
    squared = float(amps @ amps)
    if squared == 0:
        raise NoLoad("Resistance needs a load with current.")
    return float(amps @ sags) / squared


def bank_capacity(
    bank: PowerBank, volts: float, amps: float, hours: float
) -> tuple[float, float]:
    """
    Energy a power bank gave [Wh], and its share of what its cells hold.

    Parameters
    ----------
    bank : PowerBank
    volts, amps, hours : float
        At its output, until it switched off. [V], [A], [h]

    Raises
    ------
    OutOfRange
        If the run time is none that a bank has.
    NoLoad
        If nothing flowed.
    """
    in_range("Run time", hours, low=0.01, high=2000, unit="h")
    wh = volts * amps * hours
    if wh <= 0:
        raise NoLoad("The bank gave nothing.")
    return wh, wh / bank.cell_wh


def finishing(pack: Pack, end_v: float, end_a: float, *, is_off: bool) -> list[str]:
    """
    Say what is wrong with how a charger ended; an empty list means all is well.

    Full is the absorption voltage reached and the current fallen to the tail.
    """
    wrong = []
    tail_a = pack.chem.tail_c * pack.nameplate_ah
    if end_v < pack.absorb_v - 0.05 * pack.series / 4:
        wrong.append(f"ended at {end_v:.2f} V, {pack.absorb_v:.2f} V is full")
    if end_v > pack.highest_charge_v + 0.05:
        wrong.append(f"went to {end_v:.2f} V, above {pack.highest_charge_v:.2f} V")
    if end_a > tail_a * 1.2 and is_off:
        wrong.append(f"stopped at {end_a:.2f} A, the tail is {tail_a:.2f} A")
    if not is_off and pack.chem.float_v is None:
        wrong.append("still on, and this chemistry is not floated")
    return wrong


@dataclass(frozen=True, slots=True, kw_only=True)
class Health:
    """What several tests say of a battery."""

    #: "fine", "retest" or "retire".
    verdict: str
    reasons: tuple[str, ...]
    #: Change of the capacity in a year; None with fewer than two tests. [Ah/a]
    per_year_ah: float | None


def health(
    pack: Pack, tests: Sequence[tuple[float, float]], test_days: float | None
) -> Health:
    """
    Judge a battery by its accepted tests.

    Parameters
    ----------
    pack : Pack
        With what is printed on it.
    tests : sequence of (float, float)
        Years (any zero) and capacity of each test, oldest first. [a], [Ah]
    test_days : float or None
        Days since the last one.
    """
    if not tests:
        return Health(verdict="retest", reasons=("never tested",), per_year_ah=None)
    years, ahs = np.array(tests, float).T
    per_year = None
    if len(tests) > 1 and float(np.ptp(years)) > 0.05:
        per_year = float(np.polyfit(years, ahs, 1)[0])
    retire, retest = [], []
    share = ahs[-1] / pack.nameplate_ah
    if share < RETIRE_SHARE:
        retire.append(f"gives {share:.0%} of what is printed")
    typical = pack.typical_ohm
    if pack.measured_ohm is not None and pack.measured_ohm > 2.5 * typical:
        retire.append(f"its resistance is {pack.measured_ohm / typical:.1f} × typical")
    if len(ahs) > 1 and ahs[-1] < (1 - SUDDEN_FALL) * ahs[-2]:
        retest.append(f"fell from {ahs[-2]:.1f} to {ahs[-1]:.1f} Ah since last time")
    if share > 1.15:
        retest.append("more than printed: look at the meter")
    if test_days is not None and test_days > pack.chem.test_days:
        retest.append(f"the last test is {test_days:.0f} days old")
    if (
        per_year is not None
        and per_year < 0
        and ahs[-1] + per_year < RETIRE_SHARE * pack.nameplate_ah <= ahs[-1]
    ):
        retest.append(f"loses {-per_year:.1f} Ah a year: due to be retired next year")
    verdict = "retire" if retire else "retest" if retest else "fine"
    return Health(verdict=verdict, reasons=tuple(retire + retest), per_year_ah=per_year)
