"""Charge-by against a search of all orders, and the laws of a timetable."""

from dataclasses import replace
from itertools import permutations, product

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from powercore.gear.chargeby import Watch, charge_by
from powercore.gear.fits import hours_to_full
from powercore.gear.things import Charger
from tests.powercore.gear.kits import CHARGER, agm, battery

#: A supply whose volts don't fill a LiFePO4 pack.
FIXED = Charger(tag="S", role="supply", max_a=9, absorb_v=13.8)


def fits_by_search(hours, chargers, hours_left):
    """Whether some order on some chargers ends all charges in one long watch."""
    for order in permutations(range(len(hours))):
        for places in product(range(chargers), repeat=len(hours)):
            used = [0.0] * chargers
            for one in order:
                used[places[one]] += hours[one]
            if max(used) <= hours_left + 1e-9:
                return True
    return False


@settings(max_examples=40)
@given(
    st.lists(st.floats(0.05, 0.95), min_size=1, max_size=4),
    st.integers(1, 2),
    st.floats(2, 20),
)
def test_what_it_plans_is_possible_and_what_fits_one_by_one_is_planned(
    charges, count, hours_left
):
    """Never a plan that no order allows; on one charger each plan that one allows."""
    packs = [battery(f"K{n}") for n in range(len(charges))]
    chargers = [replace(CHARGER, tag=f"G{n}") for n in range(count)]
    hours = [
        hours_to_full(CHARGER, pack, soc)
        for pack, soc in zip(packs, charges, strict=True)
    ]
    table = charge_by(
        packs,
        chargers,
        soc={pack.tag: soc for pack, soc in zip(packs, charges, strict=True)},
        hours_left=hours_left,
        watches=(Watch(from_h=hours_left, to_h=0),),
    )

    is_possible = fits_by_search(hours, count, hours_left)
    if not table.cant:
        assert is_possible
    if count == 1 and is_possible:
        assert not table.cant


def test_a_watch_that_ends_early_moves_the_charge_before_it():
    """Departure 12 h away, the watch ends 9 h before: full with 9 h to spare."""
    table = charge_by(
        [battery("K07")],
        [CHARGER],
        soc={"K07": 0.8},
        hours_left=12,
        watches=(Watch(from_h=12, to_h=9),),
    )

    (slot,) = table.slots
    assert slot.end_h == pytest.approx(9)
    assert slot.start_h == pytest.approx(9 + hours_to_full(CHARGER, battery(), 0.8))


def test_lead_acid_may_charge_unwatched_and_lithium_may_not():
    """Nobody watches: the AGM is planned, the LiFePO4 is named."""
    lead = replace(CHARGER, tag="G2", setting="agm")
    table = charge_by(
        [agm("A1"), battery("K1")],
        [CHARGER, lead],
        soc={"A1": 0.9, "K1": 0.9},
        hours_left=30,
        watches=(),
    )

    assert [slot.battery for slot in table.slots] == ["A1"]
    assert [tag for tag, _ in table.cant] == ["K1"]


def test_the_setting_to_change_stands_in_the_plan():
    """A charger set for something else fits with its switch."""
    (slot,) = charge_by(
        [agm("A1")],
        [CHARGER],
        soc={"A1": 0.9},
        hours_left=40,
        watches=(),
    ).slots

    assert slot.setting == "set it for AGM lead-acid (jumper)"


@pytest.mark.parametrize(
    ("pack", "chargers", "why"),
    [
        (battery("K1"), [], "no charger fits it"),
        (battery("K1", hold="swollen"), [CHARGER], "no charger fits it"),
        (battery("K1"), [replace(CHARGER, setting="", settings=())], "no charger fits"),
        (battery("K1"), [FIXED], "what fits it never fills it"),
    ],
)  # fmt: skip
def test_a_battery_without_a_charger_is_named(pack, chargers, why):
    """On hold, no charger, no setting, a supply of other volts."""
    table = charge_by(
        [pack], chargers, soc={}, hours_left=50, watches=(Watch(from_h=50, to_h=0),)
    )

    assert table.slots == ()
    assert table.cant[0][1].startswith(why)


def test_what_is_ended_by_hand_is_charged_while_somebody_watches():
    """Lead-acid on its own charger at any time; not on a supply or above its float."""
    evening = (Watch(from_h=40, to_h=30),)
    own = replace(CHARGER, setting="agm")

    def ends(charger):
        table = charge_by(
            [agm("A1")], [charger], soc={"A1": 0.9}, hours_left=40, watches=evening
        )
        return table.slots[0].end_h

    assert ends(own) == pytest.approx(0)
    assert ends(replace(own, float_v=14.4)) == pytest.approx(30)
    supply = replace(own, role="supply", setting="", low_v=5.0, high_v=15.0)
    assert ends(supply) == pytest.approx(30)


def test_a_full_battery_is_neither_planned_nor_named():
    """At 99.5 % there is nothing to do."""
    table = charge_by(
        [battery("K1")], [CHARGER], soc={"K1": 1.0}, hours_left=5, watches=()
    )

    assert (table.slots, table.cant) == ((), ())
