"""Bench tests of batteries: corrected, bounded, judged."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.gear.capacity import (
    Bound,
    Given,
    NoLoad,
    Row,
    bank_capacity,
    capacity_by_recharge,
    capacity_of,
    finishing,
    given_by_counter,
    given_by_rows,
    health,
    resistance_from_sag,
)
from powercore.gear.things import Meter, PowerBank
from powercore.physics.battery import Pack, peukert_hours
from tests.builders import make_pack

AGM = Pack(chemistry="agm", series=6, nameplate_ah=100)
CHECKED = Meter(tag="A1", zero_a=0.45, gain=1.02, checked_days=20)


@given(st.floats(6, 60))
def test_peukert_is_undone(amps):
    """What a 100 Ah AGM gives at a current comes back as its 20 h capacity."""
    pack = replace(AGM, peukert=1.1)
    hours = peukert_hours(100, 20, 1.1, amps)

    found = capacity_of(
        pack,
        Given(ah=hours * amps, wh=None, hours=hours),
        was_full=True,
        was_emptied=True,
    )

    assert found.ah == pytest.approx(100, rel=1e-9)
    assert found.bound == Bound.MEASURED


def test_a_meter_with_an_offset_invents_charge_and_is_corrected():
    """0.45 A for 10 h invents 4.5 Ah; common practice, no source."""
    shown = 20 * 1.02 + 4.5

    found = given_by_counter(shown, 10, CHECKED)

    assert found.ah == pytest.approx(20)
    with pytest.raises(NoLoad, match="the test says nothing"):
        given_by_counter(4.4, 10, CHECKED)


def test_rows_are_integrated_like_numpy_does():
    """Amp-hours and watt-hours of an uneven series, the meter's faults off."""
    minutes = np.array([0, 10, 25, 60, 95])
    amps = np.array([5.0, 5.2, 4.9, 5.1, 5.0])
    volts = np.array([13.2, 13.1, 13.0, 12.6, 11.5])
    rows = [
        Row(minute=m, amps=a * 1.02 + 0.45, volts=v)
        for m, a, v in zip(minutes, amps, volts, strict=True)
    ]

    found = given_by_rows(rows, CHECKED)

    assert found.ah == pytest.approx(np.trapezoid(amps, minutes / 60))
    assert found.wh == pytest.approx(np.trapezoid(amps * volts, minutes / 60))
    assert found.end_v == 11.5


@pytest.mark.parametrize(
    "rows",
    [[], [(0, 1, 12)], [(0, 0, 12), (60, 0, 12)], [(9, 1, 1), (0, 1, 1)]],
)
def test_rows_that_say_nothing_are_refused(rows):
    """None, one, no current, time going backwards."""
    with pytest.raises(NoLoad):
        given_by_rows([Row(minute=m, amps=a, volts=v) for m, a, v in rows])


@pytest.mark.parametrize(
    ("was_full", "was_emptied", "words"),
    [
        (False, True, "not proved full before"),
        (True, False, "not run to its disconnect"),
        (False, False, "full before and it was not run"),
    ],
)
def test_a_test_with_an_end_missing_is_a_lower_bound_and_says_so(
    was_full, was_emptied, words
):
    """Never taken for a measurement."""
    found = capacity_of(
        make_pack(),
        Given(ah=12, wh=None, hours=4),
        was_full=was_full,
        was_emptied=was_emptied,
    )

    assert found.bound == Bound.AT_LEAST
    assert words in found.steps[-1]


def test_an_unchecked_meter_and_the_cold_widen_the_result():
    """The same count is worth less from a meter nobody compared."""
    flow = Given(ah=18, wh=None, hours=6)
    ends = {"was_full": True, "was_emptied": True}
    sharp = capacity_of(make_pack(), flow, meter=CHECKED, **ends)
    blunt = capacity_of(make_pack(), flow, meter=None, **ends)
    cold = capacity_of(make_pack(), flow, meter=CHECKED, temp_c=0, **ends)

    assert sharp.sd_ah < blunt.sd_ah
    assert cold.ah == pytest.approx(18 / 0.87)
    assert cold.sd_ah > sharp.sd_ah


def test_a_recharge_tells_the_capacity_by_its_efficiency():
    """50 Ah taken at 0.85 want 58.82 Ah; so 58.82 Ah in mean 50 Ah of 0.88 more."""
    flooded = Pack(chemistry="flooded", series=6, nameplate_ah=60)
    found = capacity_by_recharge(
        flooded, Given(ah=58.82, wh=None, hours=8), was_empty=True, was_filled=True
    )

    assert found.ah == pytest.approx(58.82 * 0.88)
    assert found.bound == Bound.MEASURED


def test_slope_matches_the_certified_value():
    """Resistance is the least-squares slope through the origin."""
    # NIST Statistical Reference Datasets, linear regression, "NoInt2":
    # certified B1 = 0.727272727272727 for x = 4, 5, 6 and y = 3, 4, 4.
    assert resistance_from_sag([4, 5, 6], [3, 4, 4]) == pytest.approx(
        0.727272727272727, rel=1e-14
    )
    with pytest.raises(NoLoad):
        resistance_from_sag([0, 0], [0.1, 0.2])


def test_a_bank_is_counted_at_the_volts_of_its_cells():
    """10,000 mAh at 3.7 V = 37 Wh; at 12 V and 0.85 2.62 Ah. Arithmetic by hand."""
    bank = PowerBank(tag="B", cell_mah=10_000)

    assert bank.cell_wh == pytest.approx(37)
    assert bank.given_ah(12) == pytest.approx(2.6208, abs=1e-4)
    assert bank_capacity(bank, 5, 1.0, 6.0) == pytest.approx((30, 30 / 37))


@pytest.mark.parametrize(
    ("volts", "amps", "is_off", "words"),
    [
        (14.4, 0.9, True, []),
        (13.8, 0.5, True, ["ended at 13.80 V"]),
        (14.4, 4.0, True, ["stopped at 4.00 A"]),
        (14.9, 0.5, True, ["above 14.60 V"]),
    ],
)
def test_how_a_charger_ended_is_judged(volts, amps, is_off, words):
    """Absorption reached and the current at the tail: 5 % of 20 Ah."""
    found = finishing(make_pack(), volts, amps, is_off=is_off)

    assert len(found) == len(words)
    assert all(part in line for part, line in zip(words, found, strict=True))


@pytest.mark.parametrize(
    ("tests", "days", "verdict", "words"),
    [
        ([], None, "retest", "never tested"),
        ([(0, 19.5), (1, 19.2)], 40, "fine", ""),
        ([(0, 19.5), (1, 16.9)], 40, "retest", "fell from 19.5 to 16.9"),
        ([(0, 19.5), (1, 13.5)], 40, "retire", "gives 68% of what is printed"),
        ([(0, 19.5)], 500, "retest", "500 days old"),
        ([(0, 24.5)], 40, "retest", "more than printed"),
        ([(0, 18.0), (1, 16.5), (2, 15.0)], 40, "retest", "loses 1.5 Ah a year"),
    ],
)
def test_a_battery_is_fine_or_retested_or_retired_with_the_reason(
    tests, days, verdict, words
):
    """By its share of the print, a sudden fall, age and trend."""
    found = health(make_pack(), tests, days)

    assert found.verdict == verdict
    assert words in " ".join(found.reasons)
