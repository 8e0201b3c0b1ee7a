"""Charging: constant current, then an exponential fall to the tail."""

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

from powercore.physics.charging import ChargeModel, recharge
from tests.builders import make_pack


@pytest.mark.parametrize(
    ("capacity", "start", "bulk", "tail", "hours"),
    [  # tcc = (Q - tau (I0 - It)) / I0, tcv = tau ln(I0 / It), by hand
        (100, 20, 20, 5, 4.31815),
        (50, 15, 10, 2.5, 3.81815),
    ],
)
def test_time_to_full_is_bulk_and_tail(capacity, start, bulk, tail, hours):
    """100 Ah from 20 % at 20 A: 3.625 h and 0.693 h."""
    model = ChargeModel(capacity=capacity, bulk=bulk, tail=tail, taper_h=0.5)

    assert model.hours_to(start, capacity) == pytest.approx(hours, rel=1e-5)


def test_simple_charge_times_of_the_trade():
    """5 A into 6 Ah: 1.20 h; with a 1.23 A load 1.59 h (common practice, no source)."""
    alone = ChargeModel(capacity=6, bulk=5, tail=5, taper_h=1)
    loaded = ChargeModel(capacity=6, bulk=5 - 1.23, tail=5, taper_h=1)

    assert alone.hours_to(0, 6) == pytest.approx(1.20)
    assert loaded.hours_to(0, 6) == pytest.approx(1.59, abs=0.005)


def test_a_charge_that_starts_in_the_tail_takes_no_negative_time():
    """When the tail is longer than what is missing, it starts there."""
    model = ChargeModel(capacity=10, bulk=20, tail=1, taper_h=1)

    assert model.knee < 0
    assert model.hours_to(9.5, 10) == pytest.approx(math.log(1.5))
    assert model.hours_to(10, 10) == 0


def test_no_charger_never_finishes():
    """A rate of nothing takes for ever, and stores nothing."""
    model = ChargeModel(capacity=10, bulk=0, tail=1, taper_h=1)

    assert model.hours_to(5, 10) == math.inf
    assert model.after(5, 3) == 5


charge = st.builds(
    ChargeModel,
    capacity=st.floats(1, 200),
    bulk=st.floats(0.1, 60),
    tail=st.floats(0.05, 5),
    taper_h=st.floats(0.05, 3),
)


@given(charge, st.floats(0, 1), st.floats(0, 1))
def test_time_and_amount_are_one_formula(model, first, second):
    """Charging for the time to a target reaches the target."""
    start, target = sorted((first * model.capacity, second * model.capacity))
    assume(target < model.capacity * 0.9999)

    assert model.after(start, model.hours_to(start, target)) == pytest.approx(
        target, rel=1e-6, abs=1e-9
    )


@given(charge, st.lists(st.tuples(st.floats(0, 1), st.floats(0, 20)), min_size=1))
def test_many_at_once_are_charged_as_each_alone(model, every):
    """What is used for whole beliefs is what plans use for one battery."""
    stored = np.array([share for share, _ in every]) * model.capacity
    hours = np.array([hours for _, hours in every])
    each = [model.after(*one) for one in zip(stored, hours, strict=True)]

    assert model.after_each(stored, hours) == pytest.approx(each, rel=1e-9, abs=1e-9)


@given(charge, st.floats(0, 0.95), st.floats(0.01, 5))
def test_closed_form_equals_the_integrated_rate(model, start, hours):
    """Against SciPy's integration of the rate, until full."""
    begin = start * model.capacity
    assume(model.hours_to(begin, model.capacity) > hours)
    found = solve_ivp(
        lambda _, y: [model.rate_at(min(y[0], model.capacity * (1 - 1e-12)))],
        (0, hours),
        [begin],
        rtol=1e-8,
        atol=1e-9,
        max_step=hours / 20,
    )

    assert model.after(begin, hours) == pytest.approx(found.y[0, -1], rel=2e-4)


@pytest.mark.parametrize(
    ("amps", "load_a", "hours"), [(10, 0, 1.42), (10, 6, 3.54), (10, 10, math.inf)]
)
def test_a_load_that_runs_leaves_the_battery_less(amps, load_a, hours):
    """20 Ah LiFePO4 from 20 to 90 %: 14 Ah over what is left, stored at 99 %."""
    pack = make_pack(nameplate_ah=20, tested_ah=20)
    found = recharge(pack, amps, load_a=load_a, from_soc=0.2)

    assert found.amps == amps - load_a
    assert found.to_most_h == pytest.approx(hours, abs=0.01)
    assert found.to_full_h >= found.to_most_h
    if found.amps:
        # The last tenth, 2 Ah, takes longer than at the full current.
        assert found.to_full_h - found.to_most_h > 2 / (0.99 * found.amps)


def test_an_old_pack_is_trusted_with_less_until_it_is_tested():
    """A fifth in its usual life, at least half; a test says more."""
    young, old, ancient = (
        make_pack(
            chemistry="agm", series=6, nameplate_ah=100, tested_ah=None, years=years
        )
        for years in (None, 5, 40)
    )

    assert old.trusted_ah == pytest.approx(0.8 * young.trusted_ah)
    assert ancient.trusted_ah == pytest.approx(0.5 * young.trusted_ah)
    assert "80% of that at 5 years" in old.trusted_why
    assert replace(old, tested_ah=91.0).trusted_ah == 91.0
