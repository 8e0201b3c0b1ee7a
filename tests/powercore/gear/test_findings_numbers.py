"""What findings say in numbers, each worked out by hand or by its source."""

from dataclasses import replace

import pytest

from powercore.gear.checks import findings_of
from powercore.gear.powerpath import Charge, Kit, Member
from powercore.physics.chemistry import CHEMISTRIES, chemistry_of
from powercore.physics.loads import Draw
from powercore.physics.wiring import Wire
from tests.powercore.gear.kits import (
    BANK,
    CHARGER,
    GENERATOR,
    METER,
    MPPT,
    PANEL,
    PARTS,
    PD,
    PWM,
    RADIO,
    SUPPLY,
    agm,
    at,
    battery,
    charged,
    device,
    good,
    member,
    part,
    without,
)

BIG = Draw(receive_a=1, transmit_idle_a=2, key_down_a=22)


def said(rule, **changes):
    """What a rule says and advises about a kit."""
    found = [f for f in findings_of(good(**changes)) if f.rule.id == rule]
    assert found, f"{rule} is silent"
    return f"{found[0].words} {found[0].remedy}"


@pytest.mark.parametrize(
    ("rule", "changes", "words"),
    [
        # 22.3 V × (1 + 0.003 × 45) = 25.31 V each at -20 °C, two in series 50.6 V
        ("controller-voc", charged(replace(PANEL, in_series=2), controller=MPPT) | at(low_c=-20), "gives 50.6 V open; M1 can take 50 V"),
        # PWM gives panel amps at battery volts: 5.56 A × 13.08 V
        ("pwm-loss", charged(PANEL, controller=PWM), "printed 100 W; through M1 it gives about 77 W at 13.1 V"),
        # 0.45 A × 24 h: common practice, no source
        ("meter-offset", {"meters": (replace(METER, zero_a=0.45),)}, "10.8 Ah in 24 h"),
        # 10,000 mAh × 3.7 V = 37 Wh; × 0.85 ÷ 5 V = 6.29 Ah
        ("bank-capacity", {"banks": (replace(BANK, claimed_ah=10),)}, "hold 37 Wh, which is 6.29 Ah there"),
        # 14.4 V × 10 A ÷ 0.85 ÷ 0.65 = 260.6 VA
        ("generator-va", {"generators": (replace(GENERATOR, rated_w=300),)}, "261 VA of chargers"),
        # 20 A of one pack of 40 Ah is 0.5 C
        ("charge-current", charged(replace(CHARGER, max_a=20)) | member(battery(max_charge_a=10, pack={"nameplate_ah": 40})), "is 0.50 C"),
        # AGM: 14.4 V + 6 × -3.5 mV × (2 - 25) = 14.88 V
        ("no-compensation", member(agm()) | charged(replace(CHARGER, setting="agm")) | at(low_c=2), "needs 14.88 V instead of 14.40 V"),
        # V = 2 L r I = 2 × 2.4 m × 5.2107 mΩ/m × 21 A = 0.525 V; AWG 10 loses 0.330 V
        ("voltage-drop", part("w-radio", wire=Wire(length_m=2.4, awg=12)), "0.53 V lost in AWG 12, 2.4 m at 21.0 A. AWG 10 gains 0.19 V"),
        # ABYC E-11, from memory: AWG 16 carries 25 A
        ("fuse-above-wire", part("f-usb", amps=30), "carries 15 A; the fuse before it is 30 A"),
        # 185 Wh printed ÷ 12.8 V = 14.5 Ah of the 50 Ah printed
        ("printed-energy", member(battery(printed_wh=185)), "185 Wh is printed, which is 14.5 Ah"),
        # 13.8 V × 21 A = 289.8 W in
        ("output-above-input", device(tx_w=300), "300 W out of 289.8 W in"),
        # 50 Ah × 12.8 V
        ("air", {}, "640 Wh: not on a passenger aircraft"),
        # 12 V nominal; (13.29 ÷ 12)² = 1.23
        ("power-rises", device(rises_with_volts=True, nominal_v=12.0, tx_w=5), "23% more power and heat, about 6.1 W"),
        # 8 W × 24 h of 48 Ah at 13.06 V
        ("converter-idle", part("usb", converter=replace(PD, idle_w=8)), "draws 192 Wh in 24 h, 31% of the battery"),
        # 12.8 V of four LiFePO4 at 1C: 25 A of 20 Ah is 1.25 C of what is trusted
        ("discharge-rate", member(battery(max_discharge_a=20, pack={"nameplate_ah": 20, "tested_ah": 20})), "its maker allows 20.0 A"),
        # Two packs at 90 and 40 %: the flow between them is (ΔV ÷ ΣR)
        ("parallel-charge", {"members": (Member(battery=battery(), soc=0.9), Member(battery=battery("K8"), soc=0.4))}, "differ by 50%"),
        # 23 A supply, 22 A radio, 10 A charger, no laptop: 9 A over
        ("supply-overloaded", {"parts": tuple(p for p in device(draw=BIG)["parts"] if p.key not in ("usb", "laptop"))} | charged(replace(SUPPLY, max_a=23)) | member(battery(max_charge_a=10)), "9.0 A over the 23 A of S1"),
        # The maker's 25 A, which AWG 10 (60 A) allows; the laptop's wire: 4 A wants 5 A
        ("fuse-open", part("f-radio", amps=None), "Fit 25 A here"),
        ("fuse-missing", without("main", "f-radio", "f-usb"), "Nothing fuses the way to"),
        # 13.41 V ÷ (16 mΩ × 50 ÷ 200 + 3 mΩ)
        ("fuse-interrupt", member(battery(pack={"nameplate_ah": 200, "tested_ah": 200})), "gives about 1032 A"),
        # 20 V × 1 A of 15 W
        ("converter-overload", part("usb", converter=replace(PD, max_w=15)), "20 W hang on C1, which gives 15 W"),
    ],
)  # fmt: skip
def test_a_finding_says_the_number(rule, changes, words):
    """The arithmetic stands beside each case."""
    assert words in said(rule, **changes)


def test_the_flow_between_unequal_packs_is_ohm_s_law():
    """ΔV over the two resistances, both leads counted."""
    pair = (battery(), battery("K8"))
    volts = [p.pack.rested_v(soc) for p, soc in zip(pair, (0.9, 0.4), strict=True)]
    ohm = 2 * (pair[0].pack.resistance_ohm + 0.003)
    flow = (volts[0] - volts[1]) / ohm
    members = (Member(battery=pair[0], soc=0.9), Member(battery=pair[1], soc=0.4))

    assert f"up to {flow:.1f} A flow" in said("parallel-charge", members=members)


def test_a_device_that_quits_early_says_how_much_is_lost():
    """The share of usable charge below the crossing found by bisection."""
    words = said("device-min-volts", **device(min_v=12.4))

    lowest = float(words.split("quits at ")[1].split("%")[0]) / 100
    lost = float(words.split("with ")[1].split("%")[0]) / 100
    assert lost == pytest.approx((lowest - 0.2) / 0.8, abs=0.015)


@pytest.mark.parametrize("key", sorted(CHEMISTRIES))
def test_a_chemistry_s_numbers_belong_together(key):
    """Ends in order, charging inside the maker's span, cold never gives more."""
    chem = chemistry_of(key)
    low_v, high_v = chem.charge_range_v

    assert chem.disconnect_v < chem.rested_v(0.95)
    assert chem.protection_v <= chem.disconnect_v
    assert list(chem.cold_share) == sorted(chem.cold_share)
    assert chem.capacity_share(25) == 1
    assert chem.capacity_share(60) == 1
    assert 0 <= chem.top_up_soc <= chem.storage_soc <= 1
    assert chem.peukert >= 1
    if chem.is_rechargeable:
        assert low_v <= chem.charge_v <= high_v
        assert chem.float_v is None or chem.float_v < chem.charge_v
    else:
        assert chem.max_charge_c == 0
    assert chem.is_lithium is (key in ("lifepo4", "nmc", "lipo"))
    assert (chem.compensation_v_per_c < 0) is chem.is_lead


def test_lithium_s_caution_and_lead_s_are_said_where_they_apply():
    """Cold for lithium, gas for lead."""
    assert "0 °C" in chemistry_of("nmc").caution
    assert "explosive gas" in chemistry_of("gel").caution
    assert "Never charge it" in chemistry_of("alkaline").caution


def test_a_bare_battery_and_an_empty_kit_are_judged_without_a_path():
    """What has no loads and no charger has no findings about them."""
    causes = {f.rule.cause for f in findings_of(Kit(members=(Member(battery=agm()),)))}

    assert causes <= {"travel", "state of the gear", "batteries"}
    assert findings_of(Kit()) == []


def test_two_wrongs_of_one_rule_are_two_findings():
    """Each has its own place, so each can be accepted by itself."""
    kit = good(
        charges=(
            Charge(key="a", source=replace(CHARGER, setting="agm")),
            Charge(key="b", source=replace(CHARGER, tag="G2", setting="gel")),
        )
    )
    keys = [f.key for f in findings_of(kit, only=["charge-chemistry"])]

    assert keys == ["charge-chemistry:a", "charge-chemistry:b"]
    assert RADIO.maker_fuse_a == 25
    assert len(PARTS) == len({p.key for p in PARTS})
