"""What a battery can really give, and until when."""

from dataclasses import replace
from decimal import Decimal

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import quad

from powercore.belief.runtime import hours_at
from powercore.errors import OutOfRange, PowerBeyondPack, UnknownKey
from powercore.physics.battery import (
    Feeding,
    Pack,
    air_band,
    current_for_power,
    disconnect_of,
    peukert_hours,
    refusal,
)
from powercore.physics.chemistry import CHEMISTRIES, chemistry_of
from tests.builders import make_pack


@pytest.mark.parametrize(
    ("rested_v", "ohm", "watts", "amps", "loaded_v"),
    [  # I = (V - sqrt(V² - 4 R P)) / 2R, worked by hand
        (12.6, 0.050, 200, 17.0229, 11.7489),
        (13.2, 0.030, 150, 11.6733, 12.8498),
        (12.2, 0.080, 300, 30.8180, 9.7346),
    ],
)
def test_constant_power_draws_more_as_the_voltage_sags(
    rested_v, ohm, watts, amps, loaded_v
):
    """The current solves P = (V - R I) I."""
    found = current_for_power(rested_v, ohm, watts)

    assert found == pytest.approx(amps, rel=1e-5)
    assert rested_v - found * ohm == pytest.approx(loaded_v, rel=1e-5)


def test_power_beyond_the_pack_is_refused_not_nan():
    """12.2 V behind 80 mΩ gives 465.1 W at the most; 500 W is refused."""
    with pytest.raises(PowerBeyondPack, match=r"465\.1 W is the most"):
        current_for_power(12.2, 0.080, 500)


@pytest.mark.parametrize(
    ("amp_hours", "amps", "hours"),
    [  # common practice, no source: the arithmetic of the trade
        (8, 1.5, 5.33),
        (2 * 8 + 3 + 3, 1.5, 14.67),
        ((2 * 8 + 3 + 3) * 0.8, 1.5, 11.73),
        (6, 1.0, 6.0),
        (80 - 20, 5.5, 10.909),
        ((0.8 - 0.5) * 100, 4.2, 7.143),
    ],
)
def test_hours_are_amp_hours_over_amps(amp_hours, amps, hours):
    """What people work out in their heads comes out."""
    assert hours_at(amp_hours, amps) == pytest.approx(hours, abs=0.005)


def test_trusted_capacity_is_the_test_else_a_part_of_the_print():
    """Plans never use the nameplate of an untested pack as it stands."""
    tested, untested = make_pack(tested_ah=17.2), make_pack(tested_ah=None)

    assert (tested.trusted_ah, tested.trusted_why) == (17.2, "accepted test")
    assert untested.trusted_ah == pytest.approx(18)
    assert "untested: 90%" in untested.trusted_why


def test_nominal_energy_is_cells_times_volts_times_amp_hours():
    """30 Ah × 12.8 V = 384 Wh (common practice, no source)."""
    assert make_pack(tested_ah=30).trusted_wh == pytest.approx(384)


@pytest.mark.parametrize("chemistry", sorted(CHEMISTRIES))
def test_usable_energy_is_the_integral_of_the_voltage(chemistry):
    """Against SciPy's quadrature of the terminal voltage over the charge given."""
    pack = Pack(chemistry=chemistry, series=4, nameplate_ah=40, tested_ah=36)
    knots = [soc for soc in pack.chem.curve_soc if 0.3 < soc < 0.95]
    by_quad, _ = quad(
        lambda soc: 36 * pack.loaded_v(soc, 3.0), 0.3, 0.95, limit=200, points=knots
    )

    assert pack.usable_wh(0.95, 0.3, 3.0) == pytest.approx(by_quad, rel=2e-3)


@pytest.mark.parametrize(
    ("soc", "volts"),
    [  # PyBaMM, Prada2013 against the graphite of Ecker2015, four cells (computed once)
        (0.95, 13.297),
        (0.9, 13.288),
        (0.7, 13.157),
        (0.5, 13.106),
        (0.3, 12.954),
        (0.1, 12.657),
    ],
)
def test_lifepo4_rests_at_the_model_voltage(soc, volts):
    """Within 2 mV a cell of the published electrode curves."""
    assert make_pack().rested_v(soc) == pytest.approx(volts, abs=0.008)


@pytest.mark.parametrize(
    ("chemistry", "series", "soc", "low", "high"),
    [  # tables in common use, from memory: battery-council style for lead-acid
        ("flooded", 6, 0.5, 12.20, 12.28),
        ("flooded", 6, 1.0, 12.60, 12.70),
        ("agm", 6, 0.5, 12.25, 12.35),
        ("gel", 6, 0.25, 11.95, 12.05),
        ("lifepo4", 4, 1.0, 13.3, 13.6),
        ("lifepo4", 4, 0.8, 13.2, 13.3),
        ("lifepo4", 4, 0.5, 13.1, 13.2),
        ("lifepo4", 4, 0.2, 12.8, 12.95),
        ("lifepo4", 4, 0.1, 12.5, 12.85),
        ("lifepo4", 4, 0.05, 12.0, 12.6),
        ("lifepo4", 4, 0.0, 10.0, 11.5),
        ("nmc", 3, 0.5, 11.0, 11.5),
    ],
)
def test_rested_voltages_lie_in_the_tables_in_use(chemistry, series, soc, low, high):
    """Each chemistry's curve passes through the usual tables."""
    assert low <= float(chemistry_of(chemistry).rested_v(soc)) * series <= high


def test_an_11_5_v_disconnect_is_at_next_to_nothing_of_lifepo4():
    """Between 0 and 5 % by makers' tables, from memory; no reserve is seen by volts."""
    end = disconnect_of(make_pack(), Feeding(mean_a=0, peak_a=0, disconnect_v=11.5))

    assert 0.0 < end.soc < 0.05
    assert end.cause == "low-voltage disconnect"


@pytest.mark.parametrize(
    ("feeding", "cause"),
    [
        (Feeding(mean_a=1, peak_a=2, disconnect_v=12.5), "low-voltage disconnect"),
        (Feeding(mean_a=1, peak_a=30, device_min_v=11.7), "device's minimum"),
        (Feeding(mean_a=0, peak_a=60, disconnect_v=6), "protection"),
    ],
)
def test_power_ends_at_the_first_limit_and_says_which(feeding, cause):
    """The highest of the limits, each at the current it acts on."""
    end = disconnect_of(make_pack(nameplate_ah=50, tested_ah=50), feeding)

    assert cause in end.cause
    assert 0 < end.soc < 0.6


@given(st.floats(0, 40), st.floats(0, 40), st.floats(0, 13))
def test_a_heavier_peak_never_ends_later(lighter, heavier, device_min_v):
    """More current at the peak ends the power at the same charge or earlier."""
    lighter, heavier = sorted((lighter, heavier))
    ends = [
        disconnect_of(
            make_pack(), Feeding(mean_a=1, peak_a=peak, device_min_v=device_min_v)
        ).soc
        for peak in (lighter, heavier)
    ]

    assert ends[0] <= ends[1] + 1e-12


def test_a_pack_too_high_for_a_device_is_refused_with_the_reason():
    """Four Li-ion cells are often mistaken for a 12 V pack: 16.8 V full."""
    pack = Pack(chemistry="nmc", series=4, nameplate_ah=10)

    assert "above the 15.8 V" in (
        refusal(pack, Feeding(mean_a=1, peak_a=2, device_max_v=15.8)) or ""
    )
    assert refusal(make_pack(), Feeding(mean_a=1, peak_a=2, device_max_v=15.8)) is None


@pytest.mark.parametrize(
    ("feeding", "words"),
    [  # four LiFePO4 cells at a station of 24 V
        ({"disconnect_v": 22}, "low-voltage disconnect, 22 V"),
        ({"device_min_v": 20}, "device's minimum voltage at peak, 20 V"),
    ],
)
def test_a_pack_too_low_for_a_station_is_refused_by_what_ends_it(feeding, words):
    """The limit that a full pack is below is named, with its volts."""
    why = refusal(make_pack(), Feeding(mean_a=1, peak_a=2, **feeding)) or ""

    assert words in why


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"series": 0}, "Cells in series must be between 1 and 120"),
        ({"nameplate_ah": -5}, "Nameplate capacity must be between"),
        ({"nameplate_ah": float("nan")}, "Nameplate capacity"),
        ({"reserve": 0.99}, "Reserve must be between 0 and 0.95"),
    ],
)
def test_an_impossible_pack_says_what_is_possible(values, words):
    """Bad input is named with its range."""
    with pytest.raises(OutOfRange, match=words):
        make_pack(**values)


def test_an_unknown_chemistry_lists_those_there_are():
    """The error is enough to choose another."""
    with pytest.raises(UnknownKey, match="there are lifepo4"):
        make_pack(chemistry="unobtainium")


@pytest.mark.parametrize("chemistry", sorted(CHEMISTRIES))
def test_curves_rise_and_invert(chemistry):
    """Every curve is strictly rising, so a rested voltage has one state of charge."""
    chem = chemistry_of(chemistry)
    soc = np.linspace(0, 1, 101)

    assert (np.diff(chem.curve_v) > 0).all()
    assert chem.soc_at(chem.rested_v(soc)) == pytest.approx(soc, abs=1e-9)


@pytest.mark.parametrize(
    ("capacity_ah", "rated_h", "exponent", "amps", "hours"),
    [  # Peukert 1897, t = H (C / (I H))^k; the last is slower than rated
        (100, 20, 1.2, 10, 8.705506),
        (100, 20, 1.1, 25, 3.405360),
        (35, 20, 1.25, 7, 3.535534),
        (100, 20, 1.05, 20, 4.665165),
        (100, 20, 1.3, 2.5, 40.0),
        (100, 20, 1.25, 5, 20.0),
    ],
)
def test_peukert_gives_the_hours_and_never_more_than_the_print(
    capacity_ah, rated_h, exponent, amps, hours
):
    """Worked examples; at the rated current any exponent gives the rated hours."""
    found = peukert_hours(capacity_ah, rated_h, exponent, amps)

    assert found == pytest.approx(hours, rel=1e-6)


@pytest.mark.parametrize(
    ("volts", "milliamp_hours", "chemistry", "band"),
    [  # 49 CFR 175.10(a)(18) and IATA DGR 2.3.5, from memory; bands are inclusive
        ("12.8", "7800", "lifepo4", "carry-on"),
        ("12.8", "7812.5", "lifepo4", "carry-on"),
        ("3.6", "27780", "nmc", "with the airline's approval"),
        ("12.8", "12500", "nmc", "with the airline's approval"),
        ("14.8", "10900", "lifepo4", "not on a passenger aircraft"),
        ("12.8", "20000", "lifepo4", "not on a passenger aircraft"),
        ("12", "9000", "agm", "not on a passenger aircraft"),
        ("12.8", "7813", "nmc", "with the airline's approval"),  # 100.0064 Wh
    ],
)
def test_air_bands_are_judged_before_rounding(volts, milliamp_hours, chemistry, band):
    """Exactly 100 and exactly 160 pass; a hair more does not."""
    wh = Decimal(volts) * Decimal(milliamp_hours) / 1000

    assert air_band(wh, chemistry, float(volts)) == band


@pytest.mark.parametrize(
    ("chemistry", "series", "ah", "low_ohm", "high_ohm"),
    [  # with protection board and leads: common practice, no source
        ("lifepo4", 4, 6, 0.050, 0.080),
        ("lifepo4", 4, 3, 0.040, 0.060),
        ("lifepo4", 4, 100, 0.008, 0.030),
        ("agm", 6, 100, 0.003, 0.008),
        ("flooded", 6, 100, 0.005, 0.015),
        ("agm", 6, 7, 0.015, 0.035),
    ],
)
def test_resistance_is_typical_for_the_size(chemistry, series, ah, low_ohm, high_ohm):
    """Small packs are mostly protection and leads, and made for current."""
    pack = Pack(chemistry=chemistry, series=series, nameplate_ah=ah)

    assert low_ohm <= pack.resistance_ohm <= high_ohm


@pytest.mark.parametrize(
    ("values", "top_v"),
    [
        ({"chemistry": "lipo", "series": 4, "nameplate_ah": 5}, 16.8),
        ({"chemistry": "nmc", "series": 3, "nameplate_ah": 5}, 12.6),
        ({}, 14.6),
        ({"charge_v": 14.2}, 14.2),
        ({"max_charge_v": 14.4}, 14.4),
        ({"chemistry": "agm", "series": 12}, 28.8),  # a 24 V pack
    ],
)
def test_the_highest_volts_are_those_off_the_charger(values, top_v):
    """4.2 V a cell of Li-ion and LiPo, 3.65 V of LiFePO4, lead-acid at absorption."""
    pack = make_pack(**{"tested_ah": None} | values)

    assert pack.top_v == pytest.approx(top_v)
    radio = Feeding(mean_a=1, peak_a=5, device_max_v=top_v - 0.2)
    assert "off the charger" in (refusal(pack, radio) or "")


@pytest.mark.parametrize(
    ("base_v", "per_c", "temp_c", "volts"),
    [  # V + T compensation, arithmetic by hand
        (14.4, -0.003, 5, 14.76),
        (14.4, -0.004, 40, 14.04),
        (13.6, -0.005, 0, 14.35),
        (14.1, -0.004, 5, 14.58),
    ],
)
def test_charging_volts_follow_the_temperature(base_v, per_c, temp_c, volts):
    """Six cells; each default lies in the span of makers' figures."""
    cells = replace(chemistry_of("agm"), compensation_v_per_c=per_c)

    assert 6 * cells.charge_v_at(temp_c, base_v / 6) == pytest.approx(volts, abs=1e-9)


def test_lead_acid_loses_capacity_in_the_cold():
    """100 Ah at 10 °C: 91 Ah, as IEC 60896 has it; 60 to 70 at -15 °C; from memory."""
    chem = chemistry_of("agm")

    assert chem.capacity_share(10) == pytest.approx(0.91)
    assert 0.8 <= chem.capacity_share(0) <= 0.86
    assert 0.6 <= chem.capacity_share(-15) <= 0.7
    assert chemistry_of("lifepo4").capacity_share(-30) <= 0.55


@pytest.mark.parametrize(
    ("ah", "amps", "low_h", "high_h"),
    [
        (7, 4.2, 3.9 / 4.2, 4.7 / 4.2),  # its one-hour rate
        (100, 60, 0.85, 1.15),
        (100, 5, 19.5, 20.0),
        (100, 17, 4.6, 5.2),
    ],
)
def test_lead_acid_at_fast_rates_is_as_makers_tables_have_it(ah, amps, low_h, high_h):
    """Sheets of small and large AGM blocks, from memory; not one exponent for all."""
    pack = make_pack(chemistry="agm", series=6, nameplate_ah=ah, tested_ah=ah)

    assert low_h <= float(pack.ah_at(amps)) / amps <= high_h


def test_lithium_is_charged_gently_just_above_freezing():
    """A tenth of its capacity an hour up to 10 °C, unless it warms itself."""
    pack = make_pack(nameplate_ah=100, tested_ah=100)

    assert pack.cold_charge_a(0) == 0
    assert pack.cold_charge_a(3) == 10
    assert pack.cold_charge_a(3, is_heated=True) == float("inf")
    assert pack.cold_charge_a(12) == float("inf")


def test_a_profile_stays_within_the_makers_limits():
    """14.4 V under a 14.4 V limit is fine, 14.6 V is refused with the reason."""
    assert make_pack(max_charge_v=14.4, charge_v=14.4).absorb_v == 14.4
    with pytest.raises(OutOfRange, match="Charging voltage must be between 14 and 14"):
        make_pack(max_charge_v=14.4, charge_v=14.6)
    with pytest.raises(OutOfRange, match="Maker's charging limit"):
        make_pack(max_charge_v=29.2)


@pytest.mark.parametrize(
    ("amps", "hours"),
    [(2.5, 20.0), (5.0, 9.33), (10.0, 4.353), (25.0, 1.589)],
)
def test_lead_acid_lasts_as_peukert_says(amps, hours):
    """50 Ah at 20 h, exponent 1.1: t = 20 (50 / (20 I))^1.1, by hand; see `ah_at`."""
    pack = make_pack(
        chemistry="agm", series=6, nameplate_ah=50, tested_ah=50, peukert=1.1
    )

    assert float(pack.ah_at(amps)) / amps == pytest.approx(hours, rel=1e-3)
    assert float(pack.ah_at(amps)) / amps == pytest.approx(
        peukert_hours(50, 20, 1.1, amps)
    )
    assert float(pack.ah_at(0.5)) == 50  # no gain below the rated current
    assert float(make_pack(tested_ah=50).ah_at(amps)) == 50  # lithium: as it is


def test_a_board_s_own_cut_offs_and_cold_count_over_the_usual_ones():
    """Power ends where the board opens; a maker's cold limit is the pack's own."""
    usual, own = make_pack(), make_pack(board_low_v=12.4, charge_low_c=5)
    feeding = Feeding(mean_a=1.0, peak_a=20.0)

    assert own.protection_v == 12.4
    assert usual.protection_v == pytest.approx(2.6 * 4)
    assert disconnect_of(own, feeding).soc > disconnect_of(usual, feeding).soc
    assert disconnect_of(own, feeding).limit_v == 12.4
    assert (own.cold_charge_c, usual.cold_charge_c) == (5, 0)
    with pytest.raises(OutOfRange, match="Board's low cut-off"):
        make_pack(board_low_v=120)
