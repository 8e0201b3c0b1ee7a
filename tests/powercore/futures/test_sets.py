"""Batteries side by side, and how many of them a station takes for ever."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import UnknownKey
from powercore.event.joining import CannotJoin, join, left_of_flat
from powercore.event.problem import Problem
from powercore.futures.budget import endurance, no_sun
from powercore.futures.cures import cures
from powercore.futures.sets import chargers_needed, parallel_set, sets_needed
from powercore.futures.whatif import Change, what_if
from powercore.physics.battery import shared_currents_a
from powercore.rotation.construct import construct
from tests.builders import make_battery, make_pack, make_scenario, make_station


@pytest.mark.parametrize(
    ("serve_h", "charge_h", "handling_h", "sets", "chargers"),
    [
        # Worked by hand: ceil((8 + 5 + 0.5) / 8) = 2, ceil((4 + 10 + 1) / 4) = 4,
        # and (6 + 6) / 6 is 2 exactly: no third.
        (8, 5, 0.5, 2, 1),
        (4, 10, 1, 4, 3),
        (6, 6, 0, 2, 1),
    ],
)
def test_sets_and_chargers_for_ever(serve_h, charge_h, handling_h, sets, chargers):
    """One charger for each set that waits; chargers must keep up with emptying."""
    assert sets_needed(serve_h, charge_h, handling_h) == sets
    assert chargers_needed(serve_h, charge_h) == chargers


def test_two_alike_share_alike_and_last_twice():
    """Equal packs give half each; a loss puts all on the other."""
    problem = Problem(
        make_scenario(
            stations=(make_station(amps=2.0),),
            batteries=(
                make_battery("k01", 10, max_discharge_a=1.5),
                make_battery("k02", 10),
            ),
        )
    )
    found = parallel_set(problem, "esker", ["k01", "k02"], [1.0, 1.0])

    assert [member.mean_a for member in found.members] == pytest.approx([1.0, 1.0])
    # 20 Ah less a fifth at 2 A.
    assert found.to_reserve_h == pytest.approx(8.0, abs=0.2)
    assert found.between_a == pytest.approx(0, abs=1e-9)
    assert [member.loss_a for member in found.members] == pytest.approx([2.0, 2.0])
    assert found.faults == (
        "K01 would give 2.0 A at the peak if another dropped out, above its 1.5 A",
    )


def test_what_must_not_be_joined_is_named():
    """Unequal charge, other chemistry, and a pack that a loss would overload."""
    lead = make_battery("k03", 20)
    lead = type(lead)(key="k03", tag="K03", pack=make_pack(chemistry="agm", series=6))
    problem = Problem(
        make_scenario(
            stations=(make_station(amps=4.0),),
            batteries=(
                make_battery("k01", 10, max_discharge_a=3.0),
                make_battery("k02", 10, max_discharge_a=3.0),
                lead,
            ),
        )
    )
    uneven = parallel_set(problem, "esker", ["k01", "k02"], [1.0, 0.3])
    mixed = parallel_set(problem, "esker", ["k01", "k03"], [1.0, 1.0])

    assert uneven.between_a > 1
    assert any("change the whole set" in fault for fault in uneven.faults)
    assert any("above its 3 A" in fault for fault in uneven.faults)
    assert any("never in parallel" in fault for fault in mixed.faults)
    with pytest.raises(UnknownKey, match="two or more"):
        parallel_set(problem, "esker", ["k01", "k01"], [1.0, 1.0])


def test_a_joined_set_is_one_battery_that_may_lose_a_member():
    """Two of 10 Ah last as 20 Ah; what they may carry is what one alone may."""
    one, other = (
        make_battery(
            key, 10, max_discharge_a=6.0, max_charge_a=5.0, mass_kg=1.5, start_soc=soc
        )
        for key, soc in (("k01", 0.9), ("k02", 0.8))
    )
    found = join((one, other))

    assert (found.key, found.tag, found.singles) == ("k01", "K01+K02", (one, other))
    assert (found.max_discharge_a, found.max_charge_a) == (6.0, 5.0)
    assert (found.mass_kg, found.start_soc) == (3.0, 0.9)
    single = make_battery("k01", 20).pack
    assert found.pack.trusted_ah == single.trusted_ah
    assert found.pack.resistance_ohm == pytest.approx(one.pack.resistance_ohm / 2)
    # Independent errors of 4 % each: 4 % / sqrt(2) of the sum.
    assert found.capacity_sd == pytest.approx(0.04 / math.sqrt(2))
    assert left_of_flat(one) == 0
    assert left_of_flat(found) == pytest.approx(0.5)
    # The walk down of the two by their own volts ends where the one pack's does.
    problem = Problem(
        make_scenario(stations=(make_station(amps=2.0),), batteries=(one, other))
    )
    walked = parallel_set(problem, "esker", ["k01", "k02"], [1.0, 1.0])
    whole = Problem(
        make_scenario(stations=(make_station(amps=2.0),), batteries=(found,))
    )
    assert endurance(whole, "esker")[0].to_reserve_h == pytest.approx(
        walked.to_reserve_h, abs=0.2
    )


@given(
    st.lists(
        st.tuples(st.floats(2, 100), st.floats(1, 50), st.sampled_from((None, 0.02))),
        min_size=2,
        max_size=5,
    )
)
def test_a_loss_overloads_nobody(packs):
    """At a set's own limit each one left carries no more than its maker allows."""
    members = [
        make_battery(
            f"k{number}",
            pack=make_pack(nameplate_ah=ah, measured_ohm=ohm),
            max_discharge_a=limit_a,
        )
        for number, (ah, limit_a, ohm) in enumerate(packs)
    ]
    most_a = join(members).max_discharge_a
    worst = 0.0
    for lost in range(len(members)):
        left = [one for number, one in enumerate(members) if number != lost]
        shares = shared_currents_a(
            [13.0] * len(left), [one.pack.resistance_ohm for one in left], most_a
        )
        for one, share in zip(left, shares, strict=True):
            worst = max(worst, share / one.max_discharge_a)
    assert worst == pytest.approx(1.0)


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"pack": make_pack(chemistry="agm", series=6)}, "different chemistries"),
        ({"pack": make_pack(series=8)}, "cells in series"),
        ({"key": "k01"}, "2 to 6 different"),
        ({"members": (make_battery("k02"), make_battery("k03"))}, "a set already"),
    ],
)
def test_what_is_never_joined(values, words):
    """Unlike packs, a battery with itself, and a set with another are refused."""
    with pytest.raises(CannotJoin, match=words):
        join((make_battery("k01"), make_battery(**{"key": "k02"} | values)))


def test_another_such_set_and_one_more_single_battery_are_tried():
    """A set may wait as a spare; what would help is one more of its batteries."""
    packs = [make_battery(f"k0{number}", 10) for number in (1, 2, 3)]
    scenario = make_scenario(
        stations=(make_station(amps=4.0),),
        batteries=(join(packs[:2]), packs[2]),
        bays=(),
    )
    problem = Problem(scenario)
    legs = construct(problem)
    spare = Change(words="the set waits", kind="spare", what="k01")

    (gain,) = what_if(problem, legs, no_sun(problem), "esker", [spare])

    assert gain.on_air_h > 0
    helps = cures(problem, legs, no_sun(problem), passes=(0, 0)).cures
    assert "One more 10 Ah LiFePO4 pack" in {one.words for one in helps}
