"""A bay with a charger of the shelf."""

from __future__ import annotations

import pytest

from powercore.event.bays import on_charger
from powercore.event.plans import BatteryPlan, BayPlan
from powercore.event.problem import Problem
from powercore.gear.fits import Verdict, fit_of
from powercore.gear.things import SUPPLY, Battery, Charger
from tests.builders import make_pack, make_scenario

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
