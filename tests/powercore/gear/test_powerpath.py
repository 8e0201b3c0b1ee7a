"""Volts and amps along a kit, against circuit theory and an independent solver."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import brentq

from powercore.errors import PowerBeyondPack
from powercore.gear.powerpath import (
    Cable,
    Converts,
    Feeds,
    Kit,
    Member,
    PathError,
    hours_given,
    key_down,
    lowest_soc_for,
    receiving,
    solve,
    weakest_link,
)
from powercore.gear.things import Converter, Device, Panel
from powercore.physics.battery import current_for_power, shared_currents_a
from powercore.physics.loads import Draw
from powercore.physics.wiring import Wire
from tests.powercore.gear.kits import LAPTOP, PARTS, PD, battery, good, part


def behind_converter(watts, milliohm, efficiency=1.0):
    """A converter that gives a power through a wire of a resistance."""
    converter = Converter(
        tag="C", method="boost", in_min_v=1, in_max_v=60, out_v=10, max_w=watts,
        efficiency_low=efficiency, efficiency_full=efficiency, idle_w=0,
    )  # fmt: skip
    length_m = milliohm / 1000 / 2 / Wire(length_m=1, awg=12).ohm_per_m
    load = Draw(receive_a=watts / 10, transmit_idle_a=watts / 10, key_down_a=watts / 10)
    return Kit(
        members=(Member(battery=battery(pack={"measured_ohm": 1e-5}), lead_ohm=1e-9),),
        parts=(
            Cable(key="w", wire=Wire(length_m=length_m, awg=12)),
            Converts(key="c", after="w", converter=converter),
            Feeds(
                key="d",
                after="c",
                device=Device(tag="D", draw=load, min_v=1, max_v=20),
            ),
        ),
    )


@pytest.mark.parametrize(("watts", "milliohm"), [(200, 50), (150, 30), (30, 400)])
def test_a_constant_power_load_finds_the_smaller_root(watts, milliohm):
    """I = (V - √(V² - 4RP)) / 2R, the closed form of circuit theory."""
    kit = behind_converter(watts, milliohm)
    rested_v = kit.set_v(0.8)

    found = solve(kit, 0.8, key_down)

    expected = current_for_power(rested_v, milliohm / 1000 + 1e-5, watts)
    assert found.total_a == pytest.approx(expected, rel=1e-4)


def test_more_power_than_the_way_lets_through_is_refused():
    """500 W from about 13 V through 90 mΩ: V²/4R is under 480 W."""
    with pytest.raises(PowerBeyondPack):
        solve(behind_converter(500, 90), 0.8, key_down)


@pytest.mark.parametrize("soc", [0.25, 0.6, 0.95])
def test_the_whole_kit_agrees_with_an_independent_solver(soc):
    """Kirchhoff by SciPy's root finder on the block voltage of the demo kit."""
    kit = good()
    ohm = {p.key: p.ohm for p in PARTS}
    rested_v, inner = kit.set_v(soc), kit.set_ohm

    def total_a(block_v):
        usb_v = block_v
        watts = PD.input_w(20.0)
        usb_ohm = ohm["f-usb"] + ohm["w-usb"]
        usb_a = brentq(lambda a: a * (usb_v - a * usb_ohm) - watts, 0, 20)
        return 21.0 + usb_a

    def mismatch(block_v):
        amps = total_a(block_v)
        way = inner + sum(ohm[key] for key in ("main", "feed", "switch", "block"))
        return rested_v - amps * way - block_v

    block_v = brentq(mismatch, 8, 15, xtol=1e-10)
    radio_v = block_v - 21 * (ohm["f-radio"] + ohm["w-radio"] + ohm["j-radio"])

    found = solve(kit, soc, key_down)

    assert found.at["block"].out_v == pytest.approx(block_v, abs=1e-5)
    assert found.at["radio"].in_v == pytest.approx(radio_v, abs=1e-5)
    assert found.total_a == pytest.approx(total_a(block_v), abs=1e-5)


@given(st.floats(0, 1), st.floats(0, 20))
def test_power_out_of_the_battery_is_used_or_lost(soc, amps):
    """Energy balance: what leaves the terminals arrives or warms the way."""
    kit = good(
        parts=tuple(p for p in PARTS if p.key not in ("usb", "laptop")),
    )
    found = solve(kit, soc, lambda part: amps)
    out_w = found.terminal_v * found.total_a
    used_w = sum(found.at[p.key].in_v * amps for p in kit.parts if isinstance(p, Feeds))
    lost_w = sum(found.at[p.key].lost_w for p in kit.parts if not isinstance(p, Feeds))

    assert out_w == pytest.approx(used_w + lost_w, abs=1e-5)


def test_an_open_switch_passes_nothing_and_takes_nothing():
    """Behind it 0 V; the battery gives nothing."""
    found = solve(good(**part("switch", is_on=False)), 0.9, key_down)

    assert found.total_a == 0
    assert found.at["radio"].in_v == 0


def test_the_weakest_link_is_the_one_nearest_its_rating():
    """21 A on a 25 A radio fuse before 24 A on a 40 A main."""
    kit = good()
    link = weakest_link(kit, solve(kit, 0.5, key_down))

    assert link is not None
    assert (link.part.key, round(link.share, 2)) == ("f-radio", 0.84)


def test_the_lowest_charge_is_where_the_volts_cross():
    """At the charge found the device gets its minimum, just below it not."""
    kit = good(**part("radio", device=replace(PARTS[7].device, min_v=12.3)))
    lowest = lowest_soc_for(kit, "radio", 12.3, key_down)

    assert solve(kit, lowest, key_down).at["radio"].in_v >= 12.3
    assert solve(kit, lowest - 0.002, key_down).at["radio"].in_v < 12.3


def test_twenty_watts_behind_a_converter_last_as_practice_says():
    """20 W ÷ 0.9 ÷ 12.8 V = 1.74 A; 50 Ah last 28.8 h. Common practice."""
    kit = behind_converter(20, 0.1, efficiency=0.9)
    whole = battery(
        pack={"nameplate_ah": 50, "tested_ah": 50, "reserve": 0, "measured_ohm": 1e-5}
    )
    kit = Kit(members=(Member(battery=whole),), parts=kit.parts)

    at_its_own_volts = 28.8 * kit.set_v(0.5) / 12.8
    assert hours_given(kit, receiving) == pytest.approx(at_its_own_volts, rel=0.005)


def test_parallel_packs_share_by_their_resistance():
    """Two equal sources: 3:1 by 10 and 30 mΩ (Kirchhoff); unequal: one charges."""
    assert shared_currents_a([13, 13], [0.01, 0.03], 20) == pytest.approx([15, 5])
    assert shared_currents_a([13.3, 13.0], [0.03, 0.03], 0) == pytest.approx([5, -5])


def test_three_packs_on_a_block_share_a_radio():
    """22 A on 3 × 2.85 Ah is 2.57 C, on one 7.72 C. Common practice, no source."""
    share = shared_currents_a([13.2] * 3, [0.05] * 3, 22)

    assert share[0] / 2.85 == pytest.approx(2.57, abs=0.01)
    assert pytest.approx(7.72, abs=0.01) == 22 / 2.85


def test_a_kit_that_hangs_on_nothing_is_refused():
    """A part after itself, after a stranger, or without a battery."""
    with pytest.raises(PathError, match="is fed by nothing"):
        Kit(parts=(Cable(key="w", after="w", wire=None),))
    with pytest.raises(PathError, match="no battery"):
        solve(Kit(), 0.5, receiving)


def test_converter_losses_follow_its_two_points():
    """85 % at a fifth, 90 % at full, idle with nothing on it."""
    given_w = np.array([0, 12, 60])

    assert [PD.input_w(w) for w in given_w] == pytest.approx([0.3, 12 / 0.85, 60 / 0.9])
    assert LAPTOP.pd_w == 45


def test_cold_panels_stand_higher():
    """22.0 V, -0.30 %/°C, -20 °C: 24.97 V; two in series 49.94 V."""
    panel = Panel(tag="P", voc_v=22, isc_a=6, vmp_v=18, imp_a=5.5)

    assert panel.cold_voc_v(-20) == pytest.approx(24.97)
    assert replace(panel, in_series=2).cold_voc_v(-20) == pytest.approx(49.94)


@given(
    st.lists(
        st.tuples(st.floats(12, 14), st.floats(0.005, 0.2)), min_size=2, max_size=5
    ),
    st.floats(0, 60),
)
def test_shares_solve_the_circuit_s_equations(packs, load_a):
    """Against NumPy's linear solver on Kirchhoff's laws: E - I R = V, ΣI = load."""
    volts, ohms = zip(*packs, strict=True)
    size = len(packs)
    matrix = np.zeros((size + 1, size + 1))
    matrix[:size, :size] = np.diag(ohms)
    matrix[:size, size] = 1
    matrix[size, :size] = 1
    by_hand = np.linalg.solve(matrix, [*volts, load_a])[:size]

    assert shared_currents_a(volts, ohms, load_a) == pytest.approx(by_hand, abs=1e-6)


@given(st.floats(0.05, 1), st.floats(0.05, 1))
def test_more_charge_never_leaves_less_volts(one, other):
    """At every part of the kit, key down."""
    low, high = min(one, other), max(one, other)
    kit = good()
    empty, full = solve(kit, low, key_down), solve(kit, high, key_down)

    assert all(full.at[k].in_v >= at.in_v - 1e-6 for k, at in empty.at.items())


@given(st.floats(0, 20), st.floats(0, 20))
def test_more_load_never_leaves_more_volts(one, other):
    """The same battery, the same wires, a larger current."""
    small, large = min(one, other), max(one, other)
    kit = good(parts=tuple(p for p in PARTS if p.key not in ("usb", "laptop")))
    light = solve(kit, 0.6, lambda part: small)
    heavy = solve(kit, 0.6, lambda part: large)

    assert heavy.at["radio"].in_v <= light.at["radio"].in_v + 1e-9
    assert heavy.terminal_v <= light.terminal_v + 1e-9
