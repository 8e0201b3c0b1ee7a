"""The physical simulator accounts for every watt-hour."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import OutOfRange
from powercore.gear.plant import Account, PlantBattery
from powercore.physics.chemistry import CHEMISTRIES
from powercore.physics.places import distance_m, walking_min
from tests.builders import make_pack

hour = st.one_of(
    st.tuples(st.just("serve"), st.floats(0, 120)),
    st.tuples(st.just("charge"), st.floats(1, 300)),
)


def make_plant(chemistry="lifepo4", soc=0.6, true_ah=38.0):
    """A battery as it really is."""
    series = 6 if chemistry in ("agm", "gel", "flooded") else 4
    pack = make_pack(chemistry=chemistry, series=series, nameplate_ah=40, tested_ah=40)
    return PlantBattery(pack=pack, true_ah=true_ah, soc=soc, account=Account())


@given(
    st.sampled_from(sorted(CHEMISTRIES)),
    st.floats(0.1, 1.0),
    st.lists(hour, min_size=1, max_size=24),
)
def test_energy_in_is_out_plus_change_plus_losses_each_hour(chemistry, soc, hours):
    """Stored energy is the integral of the rested voltage, kept by no account."""
    battery = make_plant(chemistry, soc)
    for what, watts in hours:
        before_wh, account = battery.stored_wh, Account()
        battery.account = account
        for _ in range(60):
            if what == "serve":
                battery.serve(watts, 1 / 60)
            else:
                battery.charge(watts, 1 / 60)
        change_wh = battery.stored_wh - before_wh

        offered = watts if what == "charge" else 0.0
        assert account.in_wh + account.spilled_wh == pytest.approx(offered, abs=1e-6)
        # Steps of a minute take the voltage at their start: 1.5 % of what flowed.
        flowed = account.in_wh + account.out_wh
        assert account.in_wh == pytest.approx(
            account.out_wh + change_wh + account.lost_wh, abs=0.015 * flowed + 0.05
        )
        assert account.lost_wh >= 0
        assert account.spilled_wh >= -1e-9


def test_what_is_not_served_is_counted():
    """A battery at its cut-off serves nothing; the load goes unserved."""
    battery = make_plant(soc=0.05)

    assert battery.serve(50, 2) == 0
    assert battery.account.unserved_wh == pytest.approx(100)


def test_a_full_battery_spills_what_the_bay_offers():
    """Nothing is stored above full."""
    battery = make_plant(soc=1.0)

    assert battery.charge(200, 1) == 0
    assert battery.account.spilled_wh == pytest.approx(200)


def test_lifepo4_returns_about_what_the_modelling_library_says():
    """Energy returned over charged 0.95 at C/5 (PyBaMM SPM run), within 0.03."""
    battery = make_plant(soc=0.1, true_ah=40)
    while battery.soc < 0.95:
        battery.charge(0.2 * 40 * 13.4, 1 / 60)
    taken_wh = battery.account.in_wh
    while battery.soc > 0.1001:
        battery.serve(0.2 * 40 * 12.9, 1 / 60)

    assert battery.account.out_wh / taken_wh == pytest.approx(0.95, abs=0.04)


def test_an_impossible_true_capacity_is_refused():
    """A battery of nothing is no battery."""
    with pytest.raises(OutOfRange, match="True capacity"):
        make_plant(true_ah=0)


def test_distance_follows_the_sphere():
    """One degree of a great circle on the mean Earth is 111.195 km (arithmetic)."""
    assert distance_m(0, 0, 0, 1) == pytest.approx(111_195, rel=1e-4)
    assert distance_m(45, 10, 46, 10) == pytest.approx(111_195, rel=1e-4)


def test_walks_are_whole_minutes_one_at_the_least():
    """400 m in a straight line take 8 min at 4 km/h with a third's detour."""
    metres = 400 / 111_195

    assert walking_min(46, -95, 46 + metres, -95) == 8
    assert walking_min(46, -95, 46, -95) == 1
