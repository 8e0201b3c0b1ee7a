"""What a station draws."""

import numpy as np
import pytest

from powercore.errors import OutOfRange
from powercore.loads import (
    Draw,
    Load,
    Opening,
    Pattern,
    converter_current_a,
    demand_w,
    mean_current_a,
    peak_current_a,
)
from powercore.runtime import hours_at
from powercore.values import TimeGrid
from tests.builders import make_draw


@pytest.mark.parametrize(
    ("transmit", "receive_a", "key_down_a", "duty", "idle_a", "mean_a"),
    [
        # Worked by hand from the formula of the mean current; duty factors after
        # FCC OET Bulletin 65 Supplement B, Table 2 (from memory).
        (0.25, 1.0, 20, 0.2, 2.0, 2.15),
        (0.5, 1.0, 20, 1.0, 2.0, 10.5),
        (0.3, 1.2, 22, 0.4, 3.0, 4.02),
        # With no idle current it is the simple form: 1.75 A.
        (0.25, 1.0, 20, 0.2, 0.0, 1.75),
        # Common practice, no source: 25 % at 2.5 A and 75 % at 0.5 A make 1.00 A.
        (0.25, 0.5, 2.5, 1.0, 0.0, 1.0),
        (0.3, 0.45, 1.9, 1.0, 0.0, 0.885),
    ],
)
def test_mean_current_mixes_receive_idle_and_key_down(
    transmit, receive_a, key_down_a, duty, idle_a, mean_a
):
    """Receive share × receive + transmit share × (idle + duty × (key-down - idle))."""
    draw = make_draw(receive_a, key_down_a, idle_a)

    found = mean_current_a(draw, Pattern(transmit_share=transmit, duty=duty))

    assert found == pytest.approx(mean_a, rel=1e-9)


def test_standby_share_takes_its_part_of_the_time():
    """60 % standby at 0.5 A, 30 % receiving at 1 A, 10 % at 11 A make 1.7 A."""
    draw = Draw(standby_a=0.5, receive_a=1, transmit_idle_a=2, key_down_a=11)

    found = mean_current_a(draw, Pattern(transmit_share=0.1, duty=1, standby_share=0.6))

    assert found == pytest.approx(0.6 * 0.5 + 0.3 * 1 + 0.1 * 11)


def test_a_day_of_phone_operating_adds_up():
    """2.15 A for 24 h are 51.6 Ah, 660.48 Wh at 12.8 V (arithmetic by hand)."""
    grid = TimeGrid.covering(24 * 60)
    pattern = Pattern(transmit_share=0.25, duty=0.2)
    day = Opening(start_min=0, end_min=24 * 60, pattern=pattern)

    watts = demand_w(grid, [Load(draw=make_draw())], [day])

    assert grid.cumulative_wh(watts)[-1] == pytest.approx(660.48)


def test_closed_hours_and_parts_of_steps_draw_their_share():
    """Open from minute 7 to 17 at 12.8 W draws ten minutes of it, nothing elsewhere."""
    grid = TimeGrid.covering(30)
    pattern = Pattern(transmit_share=0, duty=0)
    opening = Opening(start_min=7, end_min=17, pattern=pattern)

    watts = demand_w(grid, [Load(draw=make_draw(1.0))], [opening])

    assert watts == pytest.approx(np.array([0, 0.6, 1, 0.4, 0, 0]) * 12.8)


def test_a_converter_draws_more_than_its_load():
    """20 W ÷ 0.9 ÷ 12.8 V = 1.74 A; 50 Ah last 28.8 h (common practice, no source)."""
    amps = converter_current_a(20, 0.9)

    assert amps == pytest.approx(1.74, abs=0.005)
    assert hours_at(50, amps) == pytest.approx(28.8, abs=0.05)


def test_peak_is_everything_on_and_one_transmitter_key_down():
    """1 A + 20 A - 1 A for the radio, twice 1.5 A beside it."""
    lamp = Draw(receive_a=1.5, transmit_idle_a=1.5, key_down_a=1.5)

    assert peak_current_a([(make_draw(), 1), (lamp, 2)]) == pytest.approx(23)


def test_shares_beyond_the_whole_time_and_weak_key_down_are_refused():
    """Impossible patterns and currents say what is possible."""
    with pytest.raises(OutOfRange, match="Standby share"):
        Pattern(transmit_share=0.7, duty=1, standby_share=0.4)
    with pytest.raises(OutOfRange, match="key down can't draw less"):
        Draw(receive_a=1, transmit_idle_a=3, key_down_a=2)
