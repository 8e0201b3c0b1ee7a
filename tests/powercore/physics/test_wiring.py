"""Wire, fuses and connectors against standards' tables and worked examples."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import OutOfRange, UnknownKey
from powercore.physics.wiring import (
    BUNDLES,
    CONNECTORS,
    INSULATIONS,
    NO_GENDER,
    PLUG,
    SOCKET,
    End,
    Wire,
    awg_area_mm2,
    awg_diameter_mm,
    fuse_for,
    smallest_awg,
    voltage_drop_v,
)


@pytest.mark.parametrize(
    ("awg", "diameter_mm", "area_mm2", "at_20", "at_50", "at_75"),
    [  # ASTM B258 diameters; IEC 60028 copper, in mΩ/m
        (18, 1.0237, 0.8230, 20.948, 23.418, 25.476),
        (16, 1.2908, 1.3087, 13.174, 14.727, 16.022),
        (14, 1.6277, 2.0809, 8.2853, 9.2622, 10.076),
        (12, 2.0525, 3.3088, 5.2107, 5.8250, 6.3370),
        (10, 2.5882, 5.2612, 3.2770, 3.6634, 3.9854),
        (8, 3.2636, 8.3656, 2.0609, 2.3039, 2.5064),
        (6, 4.1154, 13.302, 1.2961, 1.4490, 1.5763),
        (4, 5.1894, 21.151, 0.8152, 0.9113, 0.9913),
    ],
)
def test_gauges_have_their_size_and_resistance(
    awg, diameter_mm, area_mm2, at_20, at_50, at_75
):
    """Diameter, area and resistance at three temperatures."""
    assert awg_diameter_mm(awg) == pytest.approx(diameter_mm, rel=1e-4)
    assert awg_area_mm2(awg) == pytest.approx(area_mm2, rel=1e-4)
    for temp_c, milliohm in ((20, at_20), (50, at_50), (75, at_75)):
        wire = Wire(length_m=1, awg=awg, temp_c=temp_c)
        assert wire.ohm_per_m * 1000 == pytest.approx(milliohm, rel=1e-4)


@pytest.mark.parametrize(
    ("size", "length_m", "amps", "temp_c", "drop_v"),
    [  # V = 2 L r I; the last by IEC 60228 class 5, 2.5 mm²
        ({"awg": 10}, 3, 20, 20, 0.39324),
        ({"awg": 12}, 3, 20, 20, 0.62528),
        ({"awg": 14}, 1.5, 5, 20, 0.12428),
        ({"awg": 12}, 10, 5.56, 50, 0.64774),
        ({"awg": 8}, 2, 22, 20, 0.18136),
        ({"area_mm2": 2.5}, 3, 10, 20, 0.4788),
    ],
)
def test_drop_counts_the_way_there_and_back(size, length_m, amps, temp_c, drop_v):
    """Worked examples."""
    wire = Wire(length_m=length_m, temp_c=temp_c, **size)

    assert voltage_drop_v(wire, amps) == pytest.approx(drop_v, rel=1e-4)


def test_sixty_five_feet_at_five_amps():
    """65 ft one way at 5 A: 1.03, 0.65, 0.41 V. Common practice, no source."""
    drops = [voltage_drop_v(Wire(length_m=65 * 0.3048, awg=n), 5) for n in (12, 10, 8)]

    assert drops == pytest.approx([1.03, 0.65, 0.41], abs=0.005)


def test_the_thinnest_wire_that_will_do():
    """3 m, 20 A, 13.8 V, 3 %: at least 4.997 mm², so AWG 10."""
    assert smallest_awg(3, 20, 13.8) == 10
    assert smallest_awg(60, 30, 13.8) is None


@pytest.mark.parametrize(
    ("sustained_a", "rating_a"), [(4, 5), (8, 10), (12, 15), (20, 25), (24, 30)]
)
def test_sustained_current_asks_for_a_fifth_more_than_four(sustained_a, rating_a):
    """Rating of at least I / 0.8. Common practice, no source."""
    assert fuse_for(sustained_a, sustained_a) == rating_a


def test_a_radio_is_right_on_its_fuse_and_the_wire_may_forbid_it():
    """22 A key down, 9 A on the mean: 25 A; not on AWG 14, which carries 20 A."""
    assert fuse_for(9, 22) == 25
    assert fuse_for(9, 22, Wire(length_m=1, awg=14).ampacity_a) is None


@pytest.mark.parametrize(
    ("awg", "insulation", "bundle", "low_a", "high_a"),
    [
        # A usual rule of clubs for wire in a box: common practice, no source.
        (16, "ordinary", "box", 15, 15),
        (14, "ordinary", "box", 20, 20),
        (12, "ordinary", "box", 25, 30),
        (10, "ordinary", "box", 40, 40),
        # ABYC E-11, from memory: a single conductor of 105 °C insulation, and 70 and
        # 60 % of that for two or three and for four to six together.
        (10, "hot", "free", 60, 60),
        (10, "hot", "box", 42, 42),
        (12, "hot", "bundle", 27, 27),
        (0, "hot", "free", 285, 285),
        (0, "ordinary", "box", 200, 240),  # 1/0 ends not at AWG 4
        (10, "ordinary", "free", 40, 40),
    ],
)
def test_what_a_wire_carries_hangs_on_insulation_and_bundle(
    awg, insulation, bundle, low_a, high_a
):
    """The tables; ordinary wire in a box is not taken down again."""
    wire = Wire(length_m=1, awg=awg, insulation=insulation, bundle=bundle)

    assert low_a - 0.01 <= wire.ampacity_a <= high_a + 0.01


kinds = st.tuples(
    st.sampled_from(sorted(INSULATIONS)), st.sampled_from(sorted(BUNDLES))
)


@given(st.floats(0.05, 120), st.floats(0.05, 120), kinds)
def test_more_copper_carries_more(one, other, kind):
    """Ampacity rises with the cross-section, its resistance falls, to the end."""
    thin, thick = (
        Wire(length_m=1, area_mm2=area, insulation=kind[0], bundle=kind[1])
        for area in sorted((one, other))
    )

    assert thick.ampacity_a >= thin.ampacity_a
    assert thick.resistance_ohm <= thin.resistance_ohm


@pytest.mark.parametrize(
    ("area_mm2", "ohm_km"), [(25, 0.780), (35, 0.554), (95, 0.206)]
)
def test_stranded_wire_follows_its_standard_beyond_25_mm2(area_mm2, ohm_km):
    """IEC 60228 class 5, highest resistance at 20 °C, from memory."""
    wire = Wire(length_m=500, area_mm2=area_mm2)

    assert wire.resistance_ohm == pytest.approx(ohm_km, rel=1e-6)


@pytest.mark.parametrize("area_mm2", [0.5, 1.5, 2.5, 4, 6, 10, 16, 35, 70, 120])
def test_stranded_wire_is_solid_copper_and_its_lay(area_mm2):
    """Strands lie askew and are a little thin: IEC 60028 copper and 10 to 16 %."""
    solid_ohm = 1.7241e-8 / (area_mm2 * 1e-6)

    share = Wire(length_m=0.5, area_mm2=area_mm2).resistance_ohm / solid_ohm

    assert 1.10 <= share <= 1.16


@pytest.mark.parametrize("awg", [18, 16, 14, 12, 10, 8, 6, 4, 2, 1, 0])
def test_a_table_is_near_what_warms_the_wire(awg):
    """
    Steady state in still air: I² R = h π D ΔT.

    h = 12 W/m²/K, half convection and half radiation; insulation of 0.8 to 2.2 mm and
    air of 30 °C: common practice, no source. Below AWG 10 ordinary wire's table is a
    rule of clubs, and cooler.
    """
    insulation_mm = 0.8 if awg >= 12 else 0.9 if awg >= 10 else 1.5 if awg >= 4 else 2
    outside_m = (1.13 * awg_diameter_mm(awg) + 2 * insulation_mm) / 1000
    carries = {}
    for kind, warmer_c in (("hot", 75), ("ordinary", 45)):
        copper = 1.7241e-8 * (1 + 0.00393 * (10 + warmer_c))
        ohm_m = 1.02 * copper / (awg_area_mm2(awg) * 1e-6)
        carries[kind] = (12 * math.pi * outside_m * warmer_c / ohm_m) ** 0.5

    hot, ordinary = (
        Wire(length_m=1, awg=awg, insulation=kind, bundle="free").ampacity_a
        for kind in ("hot", "ordinary")
    )
    assert hot == pytest.approx(carries["hot"], rel=0.21)
    assert 0.7 * carries["ordinary"] <= ordinary <= 1.08 * carries["ordinary"]


def test_ends_mate_by_shell_and_polarity():
    """A plug goes into a socket of its family; reversed it fits and must not."""
    plug = End(connector="barrel-5521", gender=PLUG)
    socket = End(connector="barrel-5521", gender=SOCKET)
    wrong = End(connector="barrel-5521", gender=SOCKET, is_reversed=True)

    assert plug.mates(socket)
    assert plug.shells_mate(wrong)
    assert not plug.mates(wrong)
    assert not plug.shells_mate(End(connector="barrel-5525", gender=SOCKET))


def test_a_wire_and_an_end_that_can_t_be_are_refused():
    """Both sizes, neither size, no gender, too much gender."""
    with pytest.raises(OutOfRange, match="AWG or its mm²"):
        Wire(length_m=1)
    with pytest.raises(UnknownKey, match="say plug or socket"):
        End(connector="vehicle")
    with pytest.raises(UnknownKey, match="no plug and socket"):
        End(connector="genderless-30", gender=PLUG)


connectors = st.sampled_from(sorted(CONNECTORS))


@given(connectors, connectors, st.booleans(), st.booleans())
def test_mating_is_mutual_and_never_joins_unlike_polarity(one, other, flip, turn):
    """If a goes into b, b goes onto a; a reversed end mates with a reversed one."""
    a = End(
        connector=one,
        gender=PLUG if CONNECTORS[one].has_gender else NO_GENDER,
        is_reversed=flip,
    )
    b = End(
        connector=other,
        gender=SOCKET if CONNECTORS[other].has_gender else NO_GENDER,
        is_reversed=turn,
    )

    assert a.mates(b) == b.mates(a)
    assert a.mates(b) == (one == other and flip == turn)
    assert not a.shells_mate(a) or not CONNECTORS[one].has_gender


@given(st.floats(0.1, 120), st.floats(0.1, 120))
def test_an_advised_fuse_carries_the_load_and_spares_the_wire(mean_a, peak_a):
    """For whatever currents: at most the wire's, at least what flows."""
    wire = Wire(length_m=1, awg=8)
    size = fuse_for(min(mean_a, peak_a), peak_a, wire.ampacity_a)

    if size is not None:
        assert size <= wire.ampacity_a
        assert size >= peak_a
        assert 0.8 * size >= min(mean_a, peak_a)
