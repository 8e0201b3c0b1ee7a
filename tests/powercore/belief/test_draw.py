"""A station's real draw, learned from turns, and what it does to the time left."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.belief.draw import DrawFactor, Observed, learned
from powercore.belief.estimate import SocEstimate
from powercore.belief.runtime import time_left
from powercore.errors import OutOfRange
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import TimeGrid
from tests.builders import make_pack

stretch = st.builds(
    Observed,
    planned_ah=st.floats(0.5, 30),
    used_ah=st.floats(0.5, 40),
    sd_ah=st.floats(0.1, 5),
)


def test_one_counter_weighs_against_the_plan_by_hand():
    """13 Ah of 10 planned, ± 1 Ah, against 1 ± 0.15: 100 to 44.4, so 1.208 ± 0.083."""
    found = learned(0.15, [Observed(planned_ah=10, used_ah=13, sd_ah=1)])

    assert found.mean == pytest.approx((44.444 + 130) / 144.444, abs=1e-3)
    assert found.sd == pytest.approx(144.444**-0.5, abs=1e-4)
    assert (found.turns, found.is_news) == (1, True)
    assert not learned(0.15, []).is_news
    with pytest.raises(OutOfRange):
        learned(0.15, [Observed(planned_ah=10, used_ah=13, sd_ah=0)])


@given(st.lists(stretch, max_size=8), st.randoms())
def test_it_is_a_kalman_filter_of_a_constant(seen, random):
    """Step by step, in any order: gain = P h / (h² P + R)."""
    mean, variance = 1.0, 0.2**2
    steps = list(seen)
    random.shuffle(steps)
    for one in steps:
        gain = variance * one.planned_ah / (one.planned_ah**2 * variance + one.sd_ah**2)
        mean += gain * (one.used_ah - one.planned_ah * mean)
        variance *= 1 - gain * one.planned_ah

    found = learned(0.2, seen)

    assert found.mean == pytest.approx(min(10, max(0.1, mean)), rel=1e-6)
    assert found.sd == pytest.approx(variance**0.5, rel=1e-6)


def test_the_band_of_the_time_left_holds_what_comes():
    """2,000 batteries, charge and draw as unsure as believed: 8 in 10 lie inside."""
    rng = np.random.default_rng(11)
    pack, grid = make_pack(nameplate_ah=20, tested_ah=20), TimeGrid.covering(48 * 60)
    amps, soc_sd, draw = 1.5, 0.05, DrawFactor(mean=1.2, sd=0.12, turns=2)
    soc = SocEstimate(
        typical=0.7, low=0.7 - ONE_IN_TEN * soc_sd, high=0.7 + ONE_IN_TEN * soc_sd
    )
    left = time_left(
        pack,
        soc,
        to_soc=0.2,
        grid=grid,
        demand_w=np.full(grid.count, amps * 12.8),
        from_min=0,
        draw=draw,
    )

    charge = rng.normal(0.7, soc_sd, 2000)
    factor = rng.normal(draw.mean, draw.sd, 2000)
    hours = (charge - 0.2) * 20 / (amps * factor)

    assert left.typical_h == pytest.approx(0.5 * 20 / 1.8, abs=0.01)
    assert 0.07 < np.mean(hours < left.bad_h) < 0.13
    assert 0.07 < np.mean(hours > left.good_h) < 0.13
    exact = time_left(
        pack,
        soc,
        to_soc=0.2,
        grid=grid,
        demand_w=np.full(grid.count, amps * 12.8),
        from_min=0,
    )
    # A draw taken as exact, and as planned: the end comes before its bad case far
    # more often than 1 time in 10.
    assert np.mean(hours < exact.bad_h) > 0.3
