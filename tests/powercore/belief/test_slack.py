"""Slack: the chance that power ends before relief is there."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.belief.runtime import FOR_EVER_H, hours_left
from powercore.belief.slack import as_planned, slack_of
from powercore.values import TimeGrid
from tests.builders import make_pack

hours = st.lists(st.floats(0, 40), min_size=1, max_size=30).map(np.array)


def test_the_chance_is_that_of_throwing_dice():
    """200,000 ends of power and walks late as drawn, against the sum (Monte Carlo)."""
    rng = np.random.default_rng(4)
    ends = rng.normal(6.0, 0.5, 200_000)
    late_h = np.minimum(rng.exponential(20, ends.size), 80) / 60

    found = slack_of(ends, 5.5, 20)

    assert found.chance == pytest.approx(np.mean(5.5 + late_h > ends), abs=0.003)
    assert found.minutes == pytest.approx(10.0, abs=0.3)
    assert found.bad_min == pytest.approx(60 * (6 - 1.2816 * 0.5 - 5.5), abs=1)


def test_a_plan_s_own_chance_is_that_of_its_spreads():
    """12 h at 1 A from 20 Ah down to 40 %, known to 15 %: 1 in 2 at its own time."""
    pack, grid = make_pack(), TimeGrid.covering(48 * 60)
    ends = hours_left(
        pack,
        as_planned(1.0, 0.15, 0.0),
        to_soc=0.4,
        grid=grid,
        demand_w=np.full(grid.count, pack.nominal_v),
        from_min=0,
    )

    assert slack_of(ends, 11.5, 0).chance == pytest.approx(0.5, abs=0.06)
    assert slack_of(ends, 8.0, 0).chance < 0.03
    assert slack_of(np.full(5, FOR_EVER_H), None, 10).chance == 0.0
    assert slack_of(np.full(5, FOR_EVER_H), None, 10).minutes is None


@given(hours, st.floats(0, 30), st.floats(0.1, 5), st.floats(0, 60))
def test_later_relief_is_never_safer(ends, arrive_h, later_h, lateness_min):
    """Whatever the ends of power; and a usual lateness makes it no safer either."""
    now = slack_of(ends, arrive_h, lateness_min)

    assert 0 <= now.chance <= 1
    assert slack_of(ends, arrive_h + later_h, lateness_min).chance >= now.chance
    assert slack_of(ends, arrive_h, lateness_min + 5).chance >= now.chance
