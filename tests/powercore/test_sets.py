"""Batteries side by side, and how many of them a station takes for ever."""

from __future__ import annotations

import pytest

from powercore.errors import UnknownKey
from powercore.rotation.problem import Problem
from powercore.sets import chargers_needed, parallel_set, sets_needed
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
