"""A bay with a charger of the shelf."""

from __future__ import annotations

import pytest

from powercore.event.bays import on_charger
from powercore.event.plans import BatteryPlan, BayPlan
from powercore.event.problem import Leg, Problem
from powercore.gear.fits import Verdict, fit_of
from powercore.gear.things import SUPPLY, Battery, Charger
from powercore.rotation.verify import verify
from powercore.sun.sources import Fuel, SourcePlan
from powercore.values import Window
from tests.builders import DAY, make_battery, make_pack, make_scenario

BAY = BayPlan(key="bay", name="Bay", source="mains", max_w=1, chemistries=())
PACKS = {
    "four": make_pack(),
    "eight": make_pack(series=8),
    "agm": make_pack(chemistry="agm", series=6),
    "held": make_pack(),
}


def problem_of(charger, refusal=""):
    """An event with those packs, and one bay on which the charger stands."""
    things = {
        key: [Battery(tag=key, pack=pack, protection="common")]
        for key, pack in PACKS.items()
    }
    plan = make_scenario()
    source = plan.sources[0]
    bay = on_charger(
        BayPlan(
            key="bay", name="Bay", source=source.key, max_w=1, chemistries=("nimh",)
        ),
        charger,
        things,
        refusal=refusal,
    )
    batteries = tuple(
        BatteryPlan(key=key, tag=key, pack=pack, is_on_hold=key == "held")
        for key, pack in PACKS.items()
    )
    scenario = make_scenario(batteries=batteries, bays=(bay,))
    return Problem(scenario), things


@pytest.mark.parametrize(
    "charger",
    [
        Charger(tag="C1", max_a=10, setting="lifepo4", series=(4,)),
        Charger(tag="C2", max_a=5, setting="agm", settings=("lifepo4",), series=(4, 6)),
        Charger(tag="C3", max_a=8, setting="agm"),
        Charger(tag="C4", role=SUPPLY, max_a=20, low_v=12, high_v=15),
        Charger(tag="C5", role=SUPPLY, max_a=20, absorb_v=13.8),
    ],
)
def test_a_bay_charges_what_its_charger_fits_and_nothing_else(charger):
    """The rule of the shelf and of the plan is one: 24 V packs, lead-acid, supplies."""
    problem, things = problem_of(charger)
    bay = problem.bays["bay"]

    for key, (battery,) in things.items():
        fit = fit_of(charger, battery)
        refused = problem.bay_refusal("bay", key)
        assert (refused is None) == (fit.verdict != Verdict.NEVER)
        if refused is not None:
            assert refused == f"{charger.tag}: {fit.why}"
            continue
        model = problem.charge_model("bay", key)
        assert model.bulk <= charger.max_a
        drawn_w = problem.bay_w(key, model.bulk)
        assert drawn_w <= bay.max_w * (1 + 1e-9)
    assert bay.ends_itself == (charger.role != SUPPLY)


def test_the_charger_s_amps_hold_for_every_voltage():
    """10 A are 10 A: a 24 V pack of 50 Ah takes twice the watts of a 12 V one."""
    charger = Charger(tag="C1", max_a=10, setting="lifepo4")
    big = {
        "four": [
            Battery(
                tag="four",
                pack=make_pack(nameplate_ah=50, tested_ah=50),
                protection="common",
            )
        ],
        "eight": [
            Battery(
                tag="eight",
                pack=make_pack(nameplate_ah=50, tested_ah=50, series=8),
                protection="common",
            )
        ],
    }
    bay = on_charger(BAY, charger, big)
    # 10 A at 3.6 V a cell, the chemistry's own charging voltage, of eight cells
    assert bay.max_w == pytest.approx(10 * 8 * make_pack().chem.charge_v)
    assert bay.max_a == 10
    assert bay.refuses == ()


def test_a_charger_on_hold_charges_nothing():
    """Each battery is told why; the bay says the charger's tag."""
    problem, things = problem_of(
        Charger(tag="C1", max_a=10, setting="lifepo4"), "on hold: smells"
    )
    assert {problem.bay_refusal("bay", key) for key in things} == {
        "C1: on hold: smells"
    }


def test_a_charger_asks_more_of_its_source_than_it_gives():
    """Two of 300 W at 85 % ask 706 W; of 600 W at most 510 W arrive (by hand)."""
    bays = tuple(
        BayPlan(
            key=f"bay{number}",
            name=f"Bay {number}",
            source="engine",
            max_w=300,
            chemistries=("lifepo4",),
            efficiency=0.85,
        )
        for number in (1, 2)
    )
    whole = (Window(start_min=0, end_min=DAY),)
    fuel = Fuel(quarter_l_h=0.4, full_l_h=1.0, tank_l=50.0, on_hand_l=50.0)

    def problem(max_w):
        engine = SourcePlan(
            key="engine", name="engine", kind="generator", max_w=max_w, windows=whole,
            fuel=fuel,
        )  # fmt: skip
        packs = tuple(make_battery(f"k{n}", ah=100, start_soc=0.2) for n in range(3))
        return Problem(make_scenario(bays=bays, sources=(engine,), batteries=packs))

    small = problem(600)
    assert small.most_asked_w(small.scenario.sources[0]) == 600  # all that it has
    large = problem(2000)
    assert large.most_asked_w(large.scenario.sources[0]) == pytest.approx(706, abs=0.5)
    assert small.sources["engine"].max_w == pytest.approx(510)
    legs = [
        Leg(kind="serve", battery="k0", place="esker", start_min=0, end_min=DAY),
        Leg(kind="charge", battery="k1", place="bay1", start_min=0, end_min=60),
        Leg(kind="charge", battery="k2", place="bay2", start_min=0, end_min=60),
    ]
    broken = verify(small, legs).broken
    assert "source_overloaded" in {one.rule for one in broken}
    # What it burns for batteries follows what is asked of it: 706 W for 600 W out.
    report = verify(large, legs).outcome
    burnt = report.fuel_l - float(fuel.burns_l_h(0.0)) * report.engine_min / 60
    asked_w = report.engine_min / 60 * 600 / 0.85
    assert burnt == pytest.approx(fuel.slope_l_h * asked_w / 2000, rel=0.03)
