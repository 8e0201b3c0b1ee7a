"""What fits what, which lead, what is due, may it leave, when must it charge."""

from dataclasses import replace
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import OutOfRange
from powercore.gear.capacity import Given, capacity_of
from powercore.gear.chargeby import Watch, charge_by
from powercore.gear.checks import STOP, findings_of
from powercore.gear.departure import ChargeEnd, Evidence, Rested, Seen, gate
from powercore.gear.fits import Verdict, fit_of, hours_to_full
from powercore.gear.leads import find_join
from powercore.gear.powerpath import Charge, Kit, Member
from powercore.gear.refill import refills
from powercore.gear.things import Charger, Lead, Meter, Panel, Port, level_for
from powercore.gear.upkeep import charge_due, days_until, drain, kept_share
from powercore.gear.upkeep import test_due as capacity_test_due
from powercore.physics.chemistry import CHEMISTRIES
from powercore.physics.wiring import PLUG, SOCKET, End
from tests.builders import make_pack
from tests.powercore.gear.kits import CHARGER, SUPPLY, agm, battery, lipo

NMC = {"chemistry": "nmc", "series": 3}
BENCH = Charger(tag="S2", role="supply", max_a=20, low_v=10, high_v=16)
ALKALINE = {"chemistry": "alkaline", "series": 8, "nameplate_ah": 2.5}


@pytest.mark.parametrize(
    ("charger", "pack", "verdict", "words"),
    [
        (CHARGER, battery(), Verdict.FITS, "as it is set"),
        (CHARGER, agm(), Verdict.WITH_SETTING, "set it for AGM lead-acid (jumper)"),
        (CHARGER, lipo(), Verdict.NEVER, "doesn't balance"),
        (CHARGER, battery(pack=ALKALINE), Verdict.NEVER, "primary"),
        (replace(CHARGER, series=(8,)), battery(), Verdict.NEVER, "8 cells"),
        (replace(CHARGER, absorb_v=14.8), battery(), Verdict.NEVER, "14.8 V"),
        (replace(CHARGER, absorb_v=13.6), battery(), Verdict.NEVER, "stops at 13.6"),
        (BENCH, battery(), Verdict.WITH_SETTING, "set 14.4 V"),
        (
            replace(SUPPLY, absorb_v=13.8),
            battery(),
            Verdict.WITH_SETTING,
            "to about 95%",
        ),
        (
            replace(SUPPLY, absorb_v=27.6),
            battery(pack={"series": 8}),
            Verdict.WITH_SETTING,
            "95%",
        ),
        (replace(SUPPLY, absorb_v=13.0), battery(), Verdict.NEVER, "supply of 13.0"),
        (
            replace(CHARGER, setting="nmc", absorb_v=12.6),
            battery(pack=NMC, protection=""),
            Verdict.WITH_SETTING,
            "find out first",
        ),
        (CHARGER, battery(hold="swollen"), Verdict.NEVER, "swollen"),
    ],
)
def test_each_charger_fits_or_not_and_says_why(charger, pack, verdict, words):
    """Rules of the trade, cell by cell of the matrix."""
    found = fit_of(charger, pack)

    assert found.verdict == verdict
    assert words in found.why


def test_hours_to_full_are_the_closed_form():
    """tcc + tcv with Qcv = τ (I0 - It): 20 to 100 % of 100 Ah at 20 A."""
    # By hand for LiFePO4: I0 = 19.8, It = 4.95, τ = 0.1: Qcv 1.485 Ah, tcv 0.1386 h.
    pack = battery(pack={"nameplate_ah": 100, "tested_ah": 100}, max_charge_a=20)
    by_hand = (80 - 1.485) / 19.8 + 0.1 * 1.3862944

    assert hours_to_full(replace(CHARGER, max_a=30), pack, 0.2) == pytest.approx(
        by_hand
    )


def lead(tag, a, b, **values):
    """A lead with two ends."""
    return Lead(tag=tag, end_a=a, end_b=b, **values)


G30, RING = End(connector="genderless-30"), End(connector="ring")
PLUG_21 = End(connector="barrel-5521", gender=PLUG)
SOCKET_21 = End(connector="barrel-5521", gender=SOCKET)
REVERSED = replace(PLUG_21, is_reversed=True)
OUT = Port(owner="K07", name="outlet", end=G30, low_v=11.5, high_v=14.4, max_a=30)
RADIO = Port(
    owner="R2", name="supply", end=SOCKET_21, flow="in", low_v=9, high_v=15, max_a=1
)


def test_the_shortest_chain_of_leads_is_found_and_polarity_is_kept():
    """Two pieces; the one with the wrong polarity is never used."""
    owned = [
        lead("L1", G30, RING),
        lead("L2", RING, PLUG_21),
        lead("L3", G30, REVERSED),
    ]

    found = find_join(OUT, RADIO, owned)

    assert [piece.tag for piece, _ in found.leads] == ["L1", "L2"]
    assert found.missing is None
    assert not found.stops


def test_what_is_missing_is_named_by_its_two_ends():
    """Nothing owned makes it: the ends of the lead to make or buy."""
    found = find_join(OUT, RADIO, [lead("L3", G30, REVERSED)])

    assert found.missing is not None
    assert [end.words for end in found.missing] == [
        "genderless pair, 30 A",
        "barrel 5.5/2.1 mm plug",
    ]


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"high_v": 20.0}, "gives up to 20 V"),
        ({"flow": "in"}, "it gives none"),
    ],
)
def test_a_lead_that_fits_may_still_be_forbidden(changes, words):
    """Volts above what the device stands; two inputs."""
    found = find_join(replace(OUT, **changes), RADIO, [lead("L1", G30, PLUG_21)])

    assert words in " ".join(found.stops)


def test_the_weakest_piece_of_a_chain_is_named():
    """20 A through a barrel of 5 A."""
    found = find_join(OUT, replace(RADIO, max_a=20), [lead("L1", G30, PLUG_21)])

    assert "this way is good for 5 A" in found.cautions[0]


def test_charge_lost_at_rest_compounds_and_doubles_with_heat():
    """3 % a month: 83.297 % after 6; at 35 °C 6 %: 68.987 %. Arithmetic by hand."""
    three = replace(make_pack().chem, self_discharge_month=0.03)
    half_a_year = 6 * 365.25 / 12

    assert kept_share(three, half_a_year) == pytest.approx(0.83297, abs=1e-5)
    assert kept_share(three, half_a_year, 35) == pytest.approx(0.68987, abs=1e-5)
    assert days_until(three, 1, 0.83297) == pytest.approx(half_a_year, rel=1e-4)


@pytest.mark.parametrize(
    ("pack", "soc", "days", "what"),
    [
        (agm().pack, 1.0, 10, []),
        (agm().pack, 0.75, 0, ["top up"]),
        (battery().pack, 0.95, 60, ["storage"]),
        (battery().pack, 0.55, 60, []),
        (battery().pack, 0.25, 1, ["top up"]),
    ],
)
def test_storage_follows_the_chemistry(pack, soc, days, what):
    """Lead full, lithium near the middle."""
    assert [due.what for due in charge_due(pack, soc, days)] == what


def test_a_drain_is_suspected_only_beyond_doubt():
    """30 % in a month is not self-discharge; nor is 3 %, nor a wide reading."""
    chem = battery().pack.chem

    assert drain(chem, before=0.9, after=0.6, sd=0.05, days=30) is not None
    assert drain(chem, before=0.9, after=0.87, sd=0.02, days=30) is None
    assert drain(chem, before=0.9, after=0.6, sd=0.2, days=30) is None


def test_a_test_is_due_by_its_age():
    """Never, long ago, lately."""
    pack = battery().pack

    assert capacity_test_due(pack, None).in_days < 0
    assert capacity_test_due(pack, 500).in_days < 0
    assert capacity_test_due(pack, 30) is None


OFF = {"switches_off": True, "load_off": True}
TAIL = ChargeEnd(volts=14.4, amps=2.0)
REST = Rested(volts=13.4, minutes=60)


@pytest.mark.parametrize(
    ("evidence", "is_full", "missing"),
    [
        (Evidence(charge_end=TAIL, **OFF), True, ""),
        (Evidence(charge_end=TAIL), False, "switches are off"),
        (Evidence(charge_end=replace(TAIL, amps=9), **OFF), False, "the tail is"),
        (Evidence(charge_end=replace(TAIL, volts=13.7), **OFF), False, "below 14.32"),
        (Evidence(charge_end=replace(TAIL, days=90), **OFF), False, "90 days since"),
        (Evidence(rested=REST, **OFF), False, "a count is needed"),
        (Evidence(rested=REST, out_since_full_ah=0.3, **OFF), True, ""),
        (Evidence(rested=REST, out_since_full_ah=8, **OFF), False, "counted out"),
        (Evidence(rested=replace(REST, minutes=3), **OFF), False, "30 min are needed"),
        (Evidence(**OFF), False, "no charge to the end"),
    ],
)  # fmt: skip
def test_a_battery_leaves_as_full_only_on_evidence(evidence, is_full, missing):
    """Absorption and tail, or rested volts with a count; else what is missing."""
    found = gate(battery().pack, evidence)

    assert found.is_full == is_full
    assert missing in " ".join(found.missing)


@pytest.mark.parametrize(
    ("pack", "seen", "words"),
    [
        (make_pack(), Seen(days=1, words="it was used"), "it was used"),
        (make_pack(), Seen(days=1, volts=13.05), "it read 13.05 V; full is 13.30 V"),
        (make_pack(series=8), Seen(days=1, volts=26.2), "26.20 V; full is 26.60 V"),
        (make_pack(), Seen(days=1, volts=13.3), ""),
        (make_pack(), Seen(days=1, volts=13.1, amps=10), ""),  # 10 A through 40 mΩ
        (make_pack(), Seen(days=1, volts=0.0), "it read 0.00 V"),
        (make_pack(), Seen(days=1, out_ah=0.7), "0.7 Ah were counted out"),
        (make_pack(), Seen(days=1, gauge=0.9), "its gauge showed 90%"),
        (make_pack(), Seen(days=1, gauge=1.0, out_ah=-0.2), ""),
        (make_pack(), Seen(days=3, gauge=0.3), ""),  # before it was charged
        (agm().pack, Seen(days=1, volts=12.5), "it read 12.50 V; full is 12.77 V"),
    ],
)
def test_anything_below_full_seen_later_closes_the_gate(pack, seen, words):
    """A charge two days old is no proof against what was seen since."""
    end = ChargeEnd(volts=pack.absorb_v, amps=0.0, days=2)

    found = gate(pack, Evidence(charge_end=end, seen=(seen,), **OFF))

    assert found.is_full == (words == "")
    assert words in " ".join(found.missing)


def test_a_full_reading_does_not_outlive_the_use_after_it():
    """Rested at 12.85 V, then used: the reading proves nothing any more."""
    rested = Rested(volts=12.85, minutes=300, days=2)
    used = Seen(days=1, words="it was used")

    assert not gate(agm().pack, Evidence(rested=rested, seen=(used,), **OFF)).is_full
    again = replace(rested, days=0.5)
    assert gate(agm().pack, Evidence(rested=again, seen=(used,), **OFF)).is_full


def test_rested_volts_alone_prove_lead_acid_full():
    """After four hours; its volts tell its charge."""
    rested = Rested(volts=12.85, minutes=300)

    assert gate(agm().pack, Evidence(rested=rested, **OFF)).is_full
    early = Evidence(rested=replace(rested, minutes=60), **OFF)
    assert not gate(agm().pack, early).is_full


EVENING = (Watch(from_h=16, to_h=12), Watch(from_h=4, to_h=0))


def test_batteries_start_as_late_as_chargers_and_people_allow():
    """One charger, two packs, two watches: one in each, none unattended."""
    packs = [battery("K07"), battery("K08")]

    table = charge_by(
        packs, [CHARGER], soc={"K07": 0.7, "K08": 0.7}, hours_left=16, watches=EVENING
    )

    assert not table.cant
    assert sorted(slot.end_h for slot in table.slots)[0] == pytest.approx(0)
    for slot in table.slots:
        assert any(
            w.from_h >= slot.start_h and slot.end_h >= w.to_h - 1e-9 for w in EVENING
        )


def test_a_battery_that_can_t_be_full_in_time_is_named_with_the_reason():
    """From 20 % it needs 4 h; a watch of 3 h is too short."""
    table = charge_by(
        [battery("K07")],
        [replace(CHARGER, max_a=5)],
        soc={},
        hours_left=10,
        watches=(Watch(from_h=3, to_h=0),),
    )

    assert table.slots == ()
    assert "while somebody watches" in table.cant[0][1]


@given(
    st.lists(st.floats(0, 1), min_size=1, max_size=6),
    st.integers(1, 3),
    st.floats(1, 40),
)
def test_no_charger_is_used_twice_at_once_and_every_charge_ends_in_time(
    charges, count, hours_left
):
    """Whatever the shelf: inside the time, one battery on a charger at a time."""
    packs = [battery(f"K{n}") for n in range(len(charges))]
    chargers = [replace(CHARGER, tag=f"G{n}") for n in range(count)]
    table = charge_by(
        packs,
        chargers,
        soc={f"K{n}": soc for n, soc in enumerate(charges)},
        hours_left=hours_left,
        watches=(Watch(from_h=hours_left, to_h=0),),
    )

    for charger in chargers:
        spans = sorted(
            (s.end_h, s.start_h) for s in table.slots if s.charger == charger.tag
        )
        assert all(a[1] <= b[0] + 1e-6 for a, b in pairwise(spans))
    assert all(-1e-9 <= s.end_h <= s.start_h <= hours_left + 1e-9 for s in table.slots)
    named = {s.battery for s in table.slots} | {tag for tag, _ in table.cant}
    assert named == {f"K{n}" for n, soc in enumerate(charges) if soc < 0.995}


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"voc_v": 22, "isc_a": 6, "vmp_v": 23, "imp_a": 5}, "below the open-circuit"),
        ({"voc_v": 22, "isc_a": 6, "vmp_v": 18, "imp_a": 7}, "below the short-circuit"),
        ({"voc_v": 0, "isc_a": 6, "vmp_v": 18, "imp_a": 5}, "Open-circuit voltage"),
    ],
)
def test_a_panel_that_can_t_be_is_refused(fields, words):
    """Maximum power lies between open and short."""
    with pytest.raises(OutOfRange, match=words):
        Panel(tag="P", **fields)


def test_a_meter_s_faults_are_taken_off_in_the_right_order():
    """It shows zero + gain × true, of amps and of a count over hours."""
    meter = Meter(tag="A", zero_a=0.45, gain=1.02)

    assert meter.true_a(0.45 + 1.02 * 3) == pytest.approx(3)
    assert meter.true_ah(10 * 0.45 + 1.02 * 20, 10) == pytest.approx(20)


def test_levels_of_usb_power_are_found_by_their_volts():
    """20 V is a level, 12 V is none unless a maker adds it."""
    levels = ((5.0, 3.0), (9.0, 3.0), (20.0, 3.25))

    assert level_for(levels, 20) == (20.0, 3.25)
    assert level_for(levels, 12) is None


@given(st.floats(0.05, 0.95), st.floats(0.05, 0.95), st.floats(0, 36))
def test_days_until_undoes_the_loss(from_soc, to_soc, temp_c):
    """After the days it takes to a level, that level is what is left."""
    chem = agm().pack.chem
    days = days_until(chem, from_soc, to_soc, temp_c)

    if from_soc <= to_soc:
        assert days == 0
    else:
        assert from_soc * kept_share(chem, days, temp_c) == pytest.approx(to_soc)


@given(st.floats(0, 0.98), st.floats(0, 0.98))
def test_more_charge_never_takes_longer_to_fill(one, other):
    """Hours to full fall with the charge that is in."""
    low, high = min(one, other), max(one, other)

    assert hours_to_full(CHARGER, battery(), high) <= hours_to_full(
        CHARGER, battery(), low
    )


@pytest.mark.parametrize(
    ("charger", "words"),
    [
        (replace(CHARGER, max_a=40), "limit it to 25.0 A"),
        (replace(CHARGER, float_v=13.8), "unplug when full"),
    ],
)
def test_what_to_mind_with_a_charger_that_fits(charger, words):
    """Current above the pack's limit, float above its own."""
    assert words in fit_of(charger, battery()).mind


#: Findings that say a charger must not charge a battery as it is set.
WRONG = {"charge-chemistry", "charge-volts-high", "primary-cell", "unbalanced-charge"}


@given(
    chemistry=st.sampled_from(sorted(CHEMISTRIES)),
    series=st.integers(1, 16),
    setting=st.sampled_from(["", *sorted(CHEMISTRIES)]),
    volts=st.one_of(st.none(), st.floats(-0.4, 0.4)),
    makers_share=st.one_of(st.none(), st.floats(0.96, 1.04)),
    protection=st.sampled_from(["", "none", "common"]),
    balances=st.booleans(),
)
def test_fit_and_findings_say_the_same(
    chemistry, series, setting, volts, makers_share, protection, balances
):
    """What fits as it is set has no stop; a stop for the charger is no fit."""
    full_v = CHEMISTRIES[chemistry].charge_v * series
    pack = {"chemistry": chemistry, "series": series}
    if makers_share and CHEMISTRIES[chemistry].is_rechargeable:
        pack["max_charge_v"] = full_v * makers_share
    one = battery(pack=pack, protection=protection)
    charger = replace(
        CHARGER,
        setting=setting,
        settings=tuple(CHEMISTRIES),
        absorb_v=None if volts is None else full_v + volts,
        balances=balances,
    )
    kit = Kit(
        members=(Member(battery=one),), charges=(Charge(key="c", source=charger),)
    )
    wrong = {f.rule.id for f in findings_of(kit) if f.severity == STOP} & WRONG

    fit = fit_of(charger, one)

    if fit.verdict == Verdict.FITS:
        assert not wrong
    if setting == chemistry and wrong:
        assert fit.verdict != Verdict.FITS
    if fit.verdict == Verdict.NEVER and setting == chemistry:
        assert findings_of(kit)


def test_lead_acid_on_a_13_8_v_supply_fills_slowly_in_kit_and_matrix_alike():
    """A day or more, not 5 h and not never."""
    supply, pack = replace(SUPPLY, absorb_v=13.8, low_v=None, high_v=None), agm()
    found = fit_of(supply, pack)

    assert found.verdict == Verdict.WITH_SETTING
    assert "slowly, in a day or more" in found.why
    assert found.hours >= 24
    kit = Kit(
        members=(Member(battery=pack),),
        parts=(),
        charges=(Charge(key="c", source=supply),),
    )
    (refill,) = refills(kit)
    assert refill.alone.to_full_h >= 24


def test_a_lithium_test_in_a_room_is_trusted_as_it_is():
    """8.0 Ah counted at 20 °C are 8.0 Ah, not 8.14."""
    given = Given(ah=8.0, wh=None, hours=5.0)
    pack = make_pack(nameplate_ah=10, tested_ah=None)
    found = capacity_of(pack, given, was_full=True, was_emptied=True, temp_c=20.0)

    assert found.ah == 8.0


def test_what_a_panel_was_measured_at_counts_in_a_kit():
    """5 A printed and 4 A measured through a plain controller: a fifth less."""
    panel = Panel(tag="P1", voc_v=22, isc_a=6, vmp_v=18, imp_a=5.5)
    weak = replace(panel, measured_a=4.8)

    assert weak.real_watts == pytest.approx(0.8 * panel.watts)
