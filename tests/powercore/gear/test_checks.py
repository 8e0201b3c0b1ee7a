"""Every rule fires where it should and is silent where it should be."""

import json
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.__main__ import main
from powercore.gear.checks import CAUTION, NOTE, RULES, STOP, findings_of
from powercore.gear.checks.fusing import advised_a
from powercore.gear.checks.order import FIRE, NO_POWER, OVER_VOLTS, SAID_BY
from powercore.gear.fits import fit_of
from powercore.gear.powerpath import Cable, Charge, Feeds, Fuse, Kit, Member, Temporary
from powercore.gear.things import Charger, Converter, Device, Panel
from powercore.physics.loads import Draw
from powercore.physics.wiring import (
    BUNDLES,
    CONNECTORS,
    INSULATIONS,
    NO_GENDER,
    PLUG,
    SOCKET,
    End,
    Wire,
    connector_of,
)
from tests.powercore.gear.kits import (
    BANK,
    CHARGER,
    GENERATOR,
    LAPTOP,
    METER,
    MPPT,
    PAIR,
    PANEL,
    PARTS,
    PD,
    PWM,
    RADIO,
    SMALL,
    SUPPLY,
    TUNER,
    agm,
    at,
    battery,
    changed,
    charged,
    device,
    good,
    lipo,
    member,
    part,
    port,
    without,
)

SAFETY = Path(__file__).resolve().parents[3] / "docs" / "safety.md"
ALKALINE = battery(
    pack={"chemistry": "alkaline", "series": 8, "nameplate_ah": 2.5, "tested_ah": None}
)
FOUR_NMC = battery(
    pack={"chemistry": "nmc", "series": 4, "nameplate_ah": 20, "tested_ah": 20}
)
BUCK = Converter(tag="C2", method="buck", out_v=20, max_w=60, in_max_v=32)
TWIN = (battery("K07"), battery("K08"))
#: Of 128 Wh each.
TEN = tuple(battery(f"K{n}", pack={"nameplate_ah": 10}) for n in range(20, 25))
UNJOINED = (Member(battery=battery(), soc=0.9), Member(battery=battery("K08"), soc=0.4))
ALIKE = (Member(battery=battery(), soc=0.9), Member(battery=battery("K08"), soc=0.88))
FLAT = End(connector="two-pin-flat", gender=PLUG)
FLAT_SOCKET = End(connector="two-pin-flat", gender=SOCKET)


def rules(**changes):
    """Ids of the rules that fire, with their severities."""
    found = findings_of(good(**changes))
    return {finding.rule.id: finding.severity for finding in found}


#: Rule: (a kit in which it fires, how hard, a near miss in which it is silent).
TABLE = {
    "charge-chemistry": (charged(replace(CHARGER, setting="agm")), STOP, {}),
    "charge-setting-unknown": (charged(replace(CHARGER, setting="")), CAUTION, charged(SUPPLY)),
    "charge-volts-high": (charged(replace(CHARGER, absorb_v=14.8)), STOP, charged(replace(CHARGER, absorb_v=14.6))),
    "charge-volts-low": (charged(replace(CHARGER, absorb_v=13.8)), CAUTION, charged(replace(CHARGER, absorb_v=14.0))),
    "float-above-limit": (charged(replace(CHARGER, float_v=13.8)), CAUTION, charged(replace(CHARGER, float_v=13.6))),
    "primary-cell": (member(ALKALINE), STOP, {}),
    "charge-current": (charged(replace(CHARGER, max_a=30)), STOP, charged(replace(CHARGER, max_a=25))),
    "cold-charge": (at(low_c=0), STOP, at(low_c=0) | member(battery(is_heated=True))),
    "heat": (at(high_c=50), CAUTION, at(high_c=45)),
    "panel-no-controller": (charged(PANEL), STOP, charged(PANEL, controller=MPPT)),
    "controller-voc": (charged(replace(PANEL, in_series=2), controller=MPPT) | at(low_c=-20), STOP, charged(PANEL, controller=MPPT) | at(low_c=-20)),
    "controller-amps": (charged(PANEL, controller=replace(PWM, max_a=7)), CAUTION, charged(PANEL, controller=replace(PWM, max_a=8))),
    "panel-too-low": (charged(replace(PANEL, vmp_v=15.5), controller=MPPT), CAUTION, charged(PANEL, controller=MPPT)),
    "panel-weak": (charged(replace(PANEL, measured_a=0.7 * PANEL.isc_a), controller=MPPT), NOTE, charged(replace(PANEL, measured_a=0.9 * PANEL.isc_a), controller=MPPT)),
    "board-high": (member(battery(pack={"board_high_v": 14.2})), CAUTION, member(battery(pack={"board_high_v": 15.2}))),
    "pwm-loss": (charged(PANEL, controller=PWM), NOTE, charged(PANEL, controller=MPPT)),
    "charge-through-outlet": (charged(through="load", enters_at="f-usb"), CAUTION, charged(enters_at="main")),
    "charge-behind-switch": (charged(enters_at="block"), CAUTION, charged(enters_at="feed")),
    "charge-shared-switch": (charged(shares_with="the tent light"), NOTE, {}),
    "separate-port-bypassed": (member(battery(protection="separate")) | charged(through="discharge"), STOP, member(battery(protection="separate"))),
    "no-compensation": (member(agm()) | charged(replace(CHARGER, setting="agm")) | at(low_c=2), NOTE, member(agm()) | charged(replace(CHARGER, setting="agm", is_compensated=True)) | at(low_c=2)),
    "tripped-pack": (charged(replace(CHARGER, wakes_tripped=False)), NOTE, member(battery(protection="none")) | charged(replace(CHARGER, wakes_tripped=False))),
    "unbalanced-charge": (member(lipo()), STOP, member(lipo()) | charged(replace(CHARGER, balances=True))),
    "charge-volts-device": (charged(replace(CHARGER, absorb_v=14.8)) | device(max_v=14.7), STOP, device(max_v=14.7)),
    "device-max-volts": (member(FOUR_NMC), STOP, {}),
    "device-min-volts": (device(min_v=12.4), CAUTION, device(min_v=11.7)),
    "power-rises": (device(rises_with_volts=True, nominal_v=12.0), CAUTION, device(rises_with_volts=True)),
    "power-falls": (changed({"w-radio": {"wire": Wire(length_m=4, awg=10)}, "radio": {"device": replace(RADIO, min_v=10)}}), NOTE, {}),
    "converter-input": (part("usb", converter=replace(PD, in_max_v=14.0)), STOP, part("usb", converter=replace(PD, in_max_v=15.0))),
    "converter-dropout": (part("usb", converter=BUCK), CAUTION, {}),
    "converter-output": (part("usb", converter=replace(PD, out_v=24)), STOP, {}),
    "fuse-missing": (without("main", "f-radio", "f-usb"), STOP, without("f-radio")),
    "fuse-open": (part("f-radio", amps=None), STOP, {}),
    "fuse-above-wire": (part("f-usb", amps=20), STOP, part("f-usb", amps=15)),
    "fuse-below-key-down": (part("f-radio", amps=20), CAUTION, part("f-radio", amps=25)),
    "fuse-sustained": (device(transmit_share=1.0, duty=1.0, maker_fuse_a=None), CAUTION, device(transmit_share=0.3, duty=0.4, maker_fuse_a=None)),
    "fuse-not-makers": (part("f-radio", amps=30), STOP, part("f-radio", amps=25)),
    "fuse-far": (part("main", from_battery_m=0.5), CAUTION, part("main", from_battery_m=0.178)),
    "main-below-outlets": (part("main", amps=30), NOTE, part("main", amps=40)),
    "fuse-interrupt": (member(battery(pack={"nameplate_ah": 200, "tested_ah": 200})), CAUTION, part("main", style="bolted") | member(battery(pack={"nameplate_ah": 200, "tested_ah": 200}))),
    "voltage-drop": (part("w-radio", wire=Wire(length_m=2.4, awg=12)), CAUTION, part("w-radio", wire=Wire(length_m=2.4, awg=8))),
    "wire-ampacity": (changed({"f-radio": {"amps": 2}, "w-radio": {"wire": Wire(length_m=0.1, awg=24)}}), STOP, part("w-radio", wire=Wire(length_m=0.2, awg=14))),
    "wire-unknown": (part("feed", wire=None), NOTE, {}),
    "weak-part": (part("j-radio", end=End(connector="genderless-15")), STOP, part("j-radio", end=End(connector="genderless-30"))),
    "switch-open": (part("switch", is_on=False), CAUTION, {}),
    "joint-mismatch": (part("j-radio", mate=End(connector="genderless-50")), STOP, {}),
    "polarity": (part("j-radio", mate=replace(PAIR, is_reversed=True)), STOP, {}),
    "polarity-free": (part("j-radio", end=End(connector="ring"), mate=None), NOTE, {}),
    "live-pins": (part("j-radio", end=FLAT, mate=FLAT_SOCKET, is_live=True), CAUTION, part("j-radio", end=FLAT_SOCKET, mate=FLAT, is_live=True)),
    "look-alike": ({"ports": (port("out 1"), port("out 2", "barrel-5525"))}, CAUTION, {"ports": (port("out 1"), port("out 2"))}),
    "supply-overloaded": (charged(replace(SUPPLY, max_a=23)), STOP, charged(replace(SUPPLY, max_a=60))),
    "backfeed": (charged(replace(SUPPLY, is_isolated=False)), CAUTION, charged(SUPPLY)),
    "building": (at(feeds_building=True), STOP, {}),
    "generator-va": ({"generators": (replace(GENERATOR, rated_w=300),)}, CAUTION, {"generators": (GENERATOR,)}),
    "no-resume": ({"generators": (GENERATOR,)} | charged(replace(CHARGER, resumes=False)), CAUTION, {"generators": (GENERATOR,)}),
    "generator-place": ({"generators": (GENERATOR,)}, CAUTION, {}),
    "discharge-rate": (member(battery(max_discharge_a=20)), STOP, member(battery(max_discharge_a=30))),
    "parallel-chemistry": (member(battery(), agm()), STOP, member(*TWIN)),
    "parallel-charge": ({"members": UNJOINED}, CAUTION, {"members": ALIKE}),
    "parallel-fuse": (member(*TWIN, fuse_a=None), STOP, member(*TWIN)),
    "parallel-share": (member(*TWIN, fuse_a=10), CAUTION, member(*TWIN)),
    "parallel-loss": (member(*(replace(b, max_discharge_a=20) for b in TWIN)), CAUTION, member(*TWIN)),
    "parallel-protection": (member(TWIN[0], battery("K08", protection="none")), CAUTION, member(*TWIN)),
    "no-protection": (member(lipo()), CAUTION, {}),
    "protection-unknown": (member(battery(protection="")), NOTE, member(agm(protection=""))),
    "lead-gas": (member(agm()), NOTE, member(agm()) | {"charges": ()}),
    "pd-level": (part("usb", converter=replace(PD, levels=((5, 3), (9, 3)))), STOP, {}),
    "pd-shared": (part("usb", converter=replace(PD, ports=2, shared_w=30)), CAUTION, part("usb", converter=replace(PD, ports=2))),
    "pd-cable": (part("laptop", device=replace(LAPTOP, pd_w=90)), NOTE, {}),
    "pd-not-a-level": (part("usb", converter=replace(PD, levels=((12, 3), (20, 3)))), NOTE, {}),
    "converter-overload": (part("usb", converter=replace(PD, max_w=15)), STOP, {}),
    "converter-idle": (part("usb", converter=replace(PD, idle_w=8)), NOTE, {}),
    "converter-min-load": (part("usb", converter=replace(PD, min_load_w=25)), CAUTION, part("usb", converter=replace(PD, min_load_w=20))),
    "bank-auto-off": ({"banks": (replace(BANK, auto_off_a=0.12),)} | part("radio", device=SMALL), CAUTION, {"banks": (BANK,)} | part("radio", device=SMALL)),
    "bank-capacity": ({"banks": (replace(BANK, claimed_ah=10, claimed_v=5),)}, CAUTION, {"banks": (replace(BANK, claimed_ah=6.2, claimed_v=5),)}),
    "meter-offset": ({"meters": (replace(METER, zero_a=0.45),)}, CAUTION, {"meters": (METER,)}),
    "meter-gain": ({"meters": (replace(METER, gain=1.1),)}, NOTE, {"meters": (METER,)}),
    "meter-unchecked": ({"meters": (replace(METER, checked_days=None),)}, NOTE, {"meters": (METER,)}),
    "printed-energy": (member(battery(printed_wh=185)), CAUTION, member(battery(printed_wh=640))),
    "output-above-input": (device(tx_w=300), STOP, {}),
    "amps-as-amp-hours": (member(agm(max_charge_a=75)), CAUTION, member(agm(max_charge_a=20))),
    "antenna-power": ({"antennas": (replace(TUNER, max_w=50),)}, STOP, {"antennas": (TUNER,)}),
    "air": (at(travels="air"), STOP, {"members": ()} | at(travels="air")),
    "air-spares": ({"spares": TEN[:3]} | at(travels="air"), STOP, {"spares": TEN[:3]} | at(travels="air", people=2)),
    "terminals-covered": (at(travels="air"), CAUTION, {}),
    "lift": (member(battery(mass_kg=28)), CAUTION, {}),
    "restraint": (at(is_restrained=False), CAUTION, {}),
    "rain": (at(cover="none"), CAUTION, at(cover="splash")),
    "hours-short": (at(hours=500) | {"charges": ()}, CAUTION, at(hours=500)),
    "on-hold": (member(battery(hold="swollen")), STOP, {}),
    "capacity-unproved": (member(battery(pack={"tested_ah": None})), CAUTION, {}),
    "test-old": (member(battery(tested_days=400)), NOTE, {}),
    "capacity-low": (member(battery(pack={"tested_ah": 30})), CAUTION, member(battery(pack={"tested_ah": 36}))),
    "resistance-high": (member(battery(pack={"measured_ohm": 0.06})), CAUTION, member(battery(pack={"measured_ohm": 0.02}))),
    "deep-discharged": (member(battery(was_deep_discharged=True)), CAUTION, {}),
    "left-on": (member(battery(was_left_on=True)), CAUTION, {}),
    "not-fastened": (at(is_fastened=False), CAUTION, {}),
    "temporary-overdue": ({"temporary": (Temporary(name="tape", overdue_days=3),)}, CAUTION, {"temporary": (Temporary(name="tape", overdue_days=-30),)}),
    "primary-in-kit": (member(ALKALINE), NOTE, {}),
}  # fmt: skip


def test_the_table_holds_every_rule():
    """At least forty rules, each with its line."""
    assert set(TABLE) | {"no-steady-voltage"} == set(RULES)
    assert len(RULES) >= 40
    for one in RULES.values():
        assert all((one.name, one.why, one.remedy, one.source, one.check.__doc__))


def test_a_sound_kit_has_no_stop_and_no_caution():
    """The kit from which every case differs: only a travel note."""
    assert set(rules()) == {"air"}


@pytest.mark.parametrize("rule", sorted(TABLE))
def test_rule_fires_and_is_silent(rule):
    """One change makes it fire as hard as stated; a near miss doesn't."""
    fires, severity, silent = TABLE[rule]

    assert rules(**fires).get(rule) == severity
    assert rule not in rules(**silent)


def test_no_voltage_at_all_is_a_stop_with_reason():
    """A converter that asks for more than the way lets through is refused, not NaN."""
    greedy = replace(
        LAPTOP, draw=Draw(receive_a=190, transmit_idle_a=190, key_down_a=190)
    )
    parts = tuple(
        replace(p, device=greedy)
        if p.key == "laptop"
        else (replace(p, converter=replace(PD, max_w=4000)) if p.key == "usb" else p)
        for p in PARTS
    )

    assert rules(parts=parts)["no-steady-voltage"] == STOP
    assert "no-steady-voltage" not in rules()


def test_an_unprotected_panel_names_the_volts_the_load_would_see():
    """About 21 V open circuit reach the radio when protection opens."""
    warm = good(**charged(PANEL), **at(low_c=25))
    (found,) = [f for f in findings_of(warm) if f.rule.id == "panel-no-controller"]

    assert "R1 would get 22.3 V" in found.words


def test_the_makers_fuse_is_right_as_it_is():
    """A 22 A radio on its 25 A fuse warns of nothing, though 22 > 0.8 × 25."""
    keyed = Draw(receive_a=1, transmit_idle_a=22, key_down_a=22)
    makers = device(draw=keyed, transmit_share=1.0, duty=1.0)
    anybodys = device(draw=keyed, transmit_share=1.0, duty=1.0, maker_fuse_a=None)

    on_radio = {f.rule.id for f in findings_of(good(**makers)) if f.where == "f-radio"}
    assert not on_radio
    assert "fuse-sustained" in rules(**anybodys)


def test_supply_with_radio_and_charger_is_nine_amps_over():
    """22 A radio + 10 A charger on a 23 A supply: 9 A over. Common practice."""
    keyed = device(draw=Draw(receive_a=1, transmit_idle_a=2, key_down_a=22))
    parts = tuple(p for p in keyed["parts"] if p.key not in ("laptop", "usb"))
    kit = good(
        parts=parts,
        **charged(replace(SUPPLY, max_a=23)),
        **member(battery(max_charge_a=10)),
    )
    (found,) = [f for f in findings_of(kit) if f.rule.id == "supply-overloaded"]

    assert "9.0 A over" in found.words


gauges = st.sampled_from([18, 16, 14, 12, 10, 8, 6, 4])
MAKERS_LEAD = Wire(length_m=1.5, awg=12)


def plain(fuse_a=25.0, wire=MAKERS_LEAD, **radio) -> Kit:
    """A 100 Ah pack, a fuse, the maker's lead, a 22 A radio."""
    draw = Draw(receive_a=1.2, transmit_idle_a=3, key_down_a=22)
    return good(
        **member(battery(pack={"nameplate_ah": 100, "tested_ah": 95})),
        parts=(
            Fuse(key="f", amps=fuse_a),
            Cable(key="w", after="f", wire=wire),
            Feeds(key="r", after="w", device=replace(RADIO, **{"draw": draw} | radio)),
        ),
    )


def test_a_radio_on_its_makers_lead_and_fuse_is_right():
    """22 A, AWG 12, 25 A. Common practice, no source."""
    assert {f.rule.id for f in findings_of(plain())} == {"air"}


@given(
    st.floats(0.5, 60), st.floats(0, 1), st.floats(0, 1), gauges,
    st.sampled_from(sorted(INSULATIONS)), st.sampled_from(sorted(BUNDLES)),
    st.none() | st.sampled_from([5.0, 10.0, 25.0, 30.0, 60.0]),
    st.sampled_from([None, 1.0, 150.0]),
)  # fmt: skip
def test_advice_on_a_fuse_once_followed_is_objected_to_by_no_rule(
    key_down_a, share, duty, awg, insulation, bundle, makers_a, fuse_a
):
    """Missing, too small or too large: the size advised suits radio, maker and wire."""
    wire = Wire(length_m=0.3, awg=awg, insulation=insulation, bundle=bundle)
    draw = Draw(receive_a=0.3, transmit_idle_a=0.4, key_down_a=key_down_a)
    radio = {
        "draw": draw, "maker_fuse_a": makers_a, "transmit_share": share, "duty": duty,
    }  # fmt: skip
    kit = plain(fuse_a, wire, **radio)
    sizes = {"fuse-missing", "fuse-open", "fuse-above-wire", "fuse-below-key-down"}
    sizes |= {"fuse-sustained", "fuse-not-makers"}

    size = advised_a(kit, kit.by_key["f"])
    if size is not None:
        after = plain(size, wire, **radio)
        assert not sizes & {f.rule.id for f in findings_of(after)}


def test_a_switch_that_is_off_is_its_own_finding_only():
    """Volts, fuses and wires are judged as the kit is used: with it on."""
    off = part("switch", is_on=False)

    assert set(rules(**off)) == {*rules(), "switch-open"}
    assert charged(enters_at="block") | off
    both = rules(**charged(enters_at="block") | off)
    assert both["charge-behind-switch"] == CAUTION


@pytest.mark.parametrize(
    ("own", "low_c", "is_cold"), [(5, 5, True), (5, 6, False), (-20, -5, False)]
)
def test_a_maker_s_own_cold_limit_is_the_one_that_counts(own, low_c, is_cold):
    """Not the chemistry's 0 °C, where the pack has a limit of its own."""
    kit = member(battery(pack={"charge_low_c": own})) | at(low_c=low_c)

    assert ("cold-charge" in rules(**kit)) == is_cold


def test_no_stop_rests_on_a_typical_resistance_alone():
    """Measured it is a stop; as usual for its size it is a caution that says so."""
    small = {"nameplate_ah": 6, "tested_ah": 6}
    radio = device(min_v=12.7)
    usual = good(**member(battery(pack=small)), **radio)
    (found,) = [f for f in findings_of(usual) if f.rule.id == "device-min-volts"]

    assert found.severity == CAUTION
    assert "measure it" in found.words
    measured = member(battery(pack=small | {"measured_ohm": 0.065}))
    assert rules(**measured, **radio)["device-min-volts"] == STOP


@pytest.mark.parametrize(
    ("changes", "stops"),
    [
        # Off its charger a LiPo cell has 4.2 V: four are 16.8 V.
        (member(lipo(series=4)) | device(max_v=16.5), True),
        (member(lipo(series=4)) | device(max_v=16.8), False),
        (device(max_v=14.4), True),  # 14.6 V off a LiFePO4 charger
        # A laptop on its own 20 V level stands it, whatever its other input does.
        (part("laptop", device=replace(LAPTOP, min_v=11, max_v=15.8)), False),
    ],
)
def test_devices_are_judged_by_the_top_of_the_charge(changes, stops):
    """Fresh off the charger, not rested at full. Common practice, no source."""
    found = rules(**changes, charges=())

    assert (STOP in (found.get("device-max-volts"), found.get("converter-output"))) == (
        stops
    )


@pytest.mark.parametrize(
    ("changes", "stops"),
    [
        ({"spares": TEN[:2]}, set()),  # two of 128 Wh
        ({"spares": TEN[:1], "banks": (replace(BANK, cell_mah=30_000),) * 2}, {"air-spares"}),
        ({"spares": (battery("K20", pack={"nameplate_ah": 20}),)}, {"air"}),
        ({"spares": (agm(pack={"nameplate_ah": 7}),)}, set()),  # sealed, 84 Wh
        ({"spares": (agm(pack={"nameplate_ah": 7, "series": 12}),)}, {"air"}),  # 24 V
        ({"spares": (agm(pack={"nameplate_ah": 7, "chemistry": "flooded"}),)}, {"air"}),
        ({"spares": (battery(pack={"chemistry": "nimh", "series": 10, "nameplate_ah": 20}),)}, set()),
    ],
)  # fmt: skip
def test_each_chemistry_flies_by_its_own_rule(changes, stops):
    """Spares in the boxes count, two of more than 100 Wh a person."""
    found = rules(members=(), parts=(), charges=(), **changes, **at(travels="air"))

    assert {rule for rule, severity in found.items() if severity == STOP} == stops


def test_fire_comes_first_and_one_cause_is_said_once():
    """A thin wire behind a large fuse: said once, before volts and all else."""
    kit = good(
        **changed(
            {
                "f-usb": {"amps": 60},
                "w-radio": {"wire": Wire(length_m=0.3, awg=24)},
                "radio": {"device": replace(RADIO, max_v=14.0, min_v=13.9)},
            }
        )
    )
    stops = [f for f in findings_of(kit) if f.severity == STOP]
    hazards = [f.rule.hazard for f in stops]

    assert hazards == sorted(hazards)
    assert {0, 1} <= set(hazards)
    (one,) = [f for f in findings_of(kit) if f.where == "w-radio"]
    assert one.rule.id == "fuse-above-wire"
    assert "V lost in" in one.words


def test_the_order_of_findings_names_rules_that_there_are():
    """Its tables follow the rules."""
    named = {*FIRE, *OVER_VOLTS, *NO_POWER, *SAID_BY}
    named |= {other for others in SAID_BY.values() for other in others}

    assert named <= set(RULES)


def test_stops_come_first_and_causes_stay_together():
    """Order of a page: severity, then cause."""
    kit = good(
        **part("f-usb", amps=30), **member(battery(was_left_on=True)), **at(low_c=-5)
    )
    order = [f.severity for f in findings_of(kit)]

    assert order == sorted(order, key=[STOP, CAUTION, NOTE].index)


@given(gauges, gauges, st.floats(0.1, 12))
def test_more_copper_never_adds_a_drop_or_ampacity_finding(one, other, length_m):
    """Thicker wire can only take findings on that wire away."""
    thin, thick = max(one, other), min(one, other)

    def found(awg, rule):
        changes = part("w-radio", wire=Wire(length_m=length_m, awg=awg))
        hits = findings_of(good(**changes), only=[rule])
        return {f.rule.id for f in hits if f.where == "w-radio"}

    for rule in ("voltage-drop", "wire-ampacity", "fuse-above-wire"):
        assert found(thick, rule) <= found(thin, rule)


@given(st.floats(5, 90), st.floats(5, 90))
def test_more_capacity_never_adds_a_rate_finding(one, other):
    """A larger pack of one kind is never the one that is overloaded (it may add a
    lift or a transport finding)."""
    small, large = min(one, other), max(one, other)

    def found(ah):
        pack = battery(
            pack={"nameplate_ah": ah, "tested_ah": ah},
            max_charge_a=None,
            max_discharge_a=None,
        )
        wanted = ("discharge-rate", "charge-current", "device-min-volts")
        return {f.rule.id for f in findings_of(good(**member(pack)), only=wanted)}

    assert found(large) <= found(small)


@given(st.floats(1, 60), st.floats(1, 60))
def test_a_larger_fuse_never_adds_a_load_finding(one, other):
    """It may add one that says the wire is too thin for it."""
    small, large = min(one, other), max(one, other)

    def found(amps):
        wanted = ("fuse-below-key-down", "fuse-sustained")
        kit = (
            good(**device(maker_fuse_a=None))
            if amps is None
            else good(
                parts=tuple(
                    replace(p, amps=amps) if p.key == "f-radio" else p for p in PARTS
                )
            )
        )
        return {
            f.rule.id for f in findings_of(kit, only=wanted) if f.where == "f-radio"
        }

    assert found(large) <= found(small)


amps = st.floats(0.01, 60)
packs = st.builds(
    battery,
    tag=st.sampled_from(["K1", "K2"]),
    pack=st.fixed_dictionaries(
        {
            "chemistry": st.sampled_from(
                ["lifepo4", "nmc", "lipo", "agm", "gel", "flooded", "nimh", "alkaline"]
            ),
            "series": st.integers(1, 14),
            "nameplate_ah": st.floats(0.5, 400),
            "tested_ah": st.none() | st.floats(0.1, 400),
        }
    ),
    protection=st.sampled_from(["", "none", "common", "separate"]),
    max_charge_a=st.none() | amps,
    max_discharge_a=st.none() | amps,
    printed_wh=st.none() | st.floats(1, 5000),
)
ends = st.sampled_from(sorted(CONNECTORS)).flatmap(
    lambda key: st.builds(
        End,
        connector=st.just(key),
        gender=st.sampled_from([PLUG, SOCKET])
        if connector_of(key).has_gender
        else st.just(NO_GENDER),
        is_reversed=st.booleans(),
    )
)
sources = st.one_of(
    st.builds(
        Charger,
        tag=st.just("G"),
        role=st.sampled_from(["charger", "supply"]),
        max_a=amps,
        absorb_v=st.none() | st.floats(1, 60),
        float_v=st.none() | st.floats(1, 60),
        setting=st.sampled_from(["", "lifepo4", "agm", "nmc"]),
    ),
    st.builds(
        Panel,
        tag=st.just("P"),
        voc_v=st.floats(20, 60),
        isc_a=st.floats(5, 12),
        vmp_v=st.floats(5, 20),
        imp_a=st.floats(0.1, 5),
        in_series=st.integers(1, 4),
    ),
)


@st.composite
def kits(draw):
    """Any combination: any batteries, wires, fuses, ends, loads and chargers."""
    parts = []
    for p in PARTS:
        if isinstance(p, Fuse):
            p = replace(p, amps=draw(st.none() | amps))
        elif isinstance(p, Cable):
            p = replace(
                p,
                wire=draw(
                    st.none()
                    | st.builds(Wire, length_m=st.floats(0, 40), awg=st.integers(0, 30))
                ),
            )
        elif p.key == "j-radio":
            p = replace(p, end=draw(ends), mate=draw(st.none() | ends))
        elif p.key == "radio":
            low, high = sorted((draw(amps), draw(amps)))
            p = replace(
                p,
                device=Device(
                    tag="R",
                    draw=Draw(receive_a=low, transmit_idle_a=low, key_down_a=high),
                    min_v=draw(st.floats(1, 14)),
                    max_v=draw(st.floats(14, 40)),
                    tx_w=draw(st.none() | st.floats(0.1, 1500)),
                ),
            )
        elif p.key == "usb":
            p = replace(p, converter=replace(PD, max_w=draw(st.floats(1, 3000))))
        parts.append(p)
    charges = draw(st.lists(sources, max_size=2))
    members = draw(st.lists(packs, max_size=3))
    return Kit(
        members=tuple(
            Member(
                battery=b,
                fuse_a=draw(st.none() | amps),
                soc=draw(st.none() | st.floats(0, 1)),
            )
            for b in members
        ),
        parts=tuple(parts),
        charges=tuple(
            Charge(
                key=f"c{n}",
                source=source,
                controller=draw(st.none() | st.just(PWM)),
                enters_at=draw(st.sampled_from(["", "block", "radio"])),
                through=draw(st.sampled_from(["", "load", "discharge"])),
            )
            for n, source in enumerate(charges)
        ),
        banks=(BANK,),
        meters=(METER,),
        antennas=(TUNER,),
        generators=(GENERATOR,),
        ports=(port("one"),),
    )


@given(kits())
def test_findings_never_crash_on_any_combination(kit):
    """Whatever is joined to whatever, each rule answers in words."""
    for finding in findings_of(kit):
        assert finding.words
        assert "nan" not in finding.words.lower().split()


def test_the_command_and_the_safety_page_list_every_rule(capsys):
    """docs/safety.md holds the table that `rules --markdown` prints; JSON parses."""
    assert main(["rules", "--markdown"]) == 0
    table = capsys.readouterr().out
    assert table.strip() in SAFETY.read_text(encoding="utf-8")

    assert main(["rules", "--json"]) == 0
    assert {one["id"] for one in json.loads(capsys.readouterr().out)} == set(RULES)


@pytest.mark.parametrize("charger", ["as it is", "agm", "hot", "low"])
@pytest.mark.parametrize("pack", ["lifepo4", "agm", "lipo", "nmc", "alkaline"])
def test_the_matrix_and_the_findings_never_contradict_each_other(charger, pack):
    """What fits as it is set has no stop among the findings; what never fits by
    its volts or its chemistry has one."""
    chargers = {
        "as it is": CHARGER,
        "agm": replace(CHARGER, setting="agm", absorb_v=14.4),
        "hot": replace(CHARGER, absorb_v=15.4),
        "low": replace(CHARGER, absorb_v=12.0),
    }
    series = {"lifepo4": 4, "agm": 6, "lipo": 3, "nmc": 3, "alkaline": 8}[pack]
    one = battery(
        pack={"chemistry": pack, "series": series, "nameplate_ah": 50, "tested_ah": 48},
        protection="none" if pack == "lipo" else "common",
    )
    source = chargers[charger]
    kit = Kit(members=(Member(battery=one),), charges=(Charge(key="c", source=source),))
    stops = {
        f.rule.id for f in findings_of(kit) if f.severity == STOP and f.where == "c"
    }
    fit = fit_of(source, one)

    if fit.verdict == "fits":
        assert not stops
    if fit.verdict == "never" and "stops at" not in fit.why:
        assert stops


def test_connectors_of_one_look_inside_the_path_are_told_apart_by_their_volts():
    """A joint before a converter and one behind it: what fits gets plugged in."""
    joint = next(p for p in PARTS if type(p).__name__ == "Joint")
    assert joint.end.family.looks_like
    before = replace(joint, key="j1", name="battery side")
    behind = replace(joint, key="j2", name="load side", after="usb")
    apart = {
        f.where
        for f in findings_of(good(parts=(*PARTS, before, behind)))
        if f.rule.id == "look-alike"
    }
    alike = {
        f.where
        for f in findings_of(good(parts=(*PARTS, before)))
        if f.rule.id == "look-alike"
    }

    assert apart == {"its path, load side"}
    assert not alike
