"""What a station draws."""

import numpy as np
import pytest

from powercore.belief.runtime import hours_at
from powercore.errors import OutOfRange
from powercore.physics.loads import (
    Draw,
    Load,
    Opening,
    Pattern,
    Step,
    converter_current_a,
    demand_w,
    listening_share,
    mean_current_a,
    peak_current_a,
)
from powercore.values import TimeGrid, Window
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

    assert peak_current_a([Load(draw=make_draw()), Load(draw=lamp, count=2)]) == (
        pytest.approx(23)
    )


def test_shares_beyond_the_whole_time_and_weak_key_down_are_refused():
    """Impossible patterns and currents say what is possible."""
    with pytest.raises(OutOfRange, match="Standby share"):
        Pattern(transmit_share=0.7, duty=1, standby_share=0.4)
    with pytest.raises(OutOfRange, match="key down can't draw less"):
        Draw(receive_a=1, transmit_idle_a=3, key_down_a=2)


def test_an_inverter_takes_its_share_and_its_own_draw():
    """60 W for 6 h at 88 % are 409.09 Wh; 8 W of its own in 18 h more are 144 Wh."""
    # Arithmetic by hand.
    grid = TimeGrid.covering(24 * 60)
    lamp_a = 60 / 12.8
    lamp = Draw(receive_a=lamp_a, transmit_idle_a=lamp_a, key_down_a=lamp_a)
    busy = Opening(start_min=0, end_min=360, pattern=Pattern(transmit_share=0, duty=0))
    idle = Opening(
        start_min=360,
        end_min=1440,
        pattern=Pattern(transmit_share=0, duty=0, standby_share=1),
    )

    worked = demand_w(grid, [Load(draw=lamp, efficiency=0.88)], [busy])
    waited = demand_w(grid, [Load(draw=lamp, idle_a=8 / 12.8)], [idle])

    assert grid.cumulative_wh(worked)[-1] == pytest.approx(409.09, abs=0.01)
    assert grid.cumulative_wh(waited)[-1] == pytest.approx(144)


def test_a_laptop_on_charge_stops_when_it_is_full():
    """50 Wh at 25.6 W take 1 h 57 min; then it draws nothing, until it comes again."""
    grid = TimeGrid.covering(600)
    laptop = Load(draw=Draw(receive_a=2, transmit_idle_a=2, key_down_a=2), fills_wh=50)
    pattern = Pattern(transmit_share=0, duty=0)
    once = [
        Opening(start_min=0, end_min=200, pattern=pattern),
        Opening(start_min=200, end_min=400, pattern=pattern),
    ]
    twice = [*once, Opening(start_min=480, end_min=600, pattern=pattern)]

    watts = demand_w(grid, [laptop], once)

    assert grid.cumulative_wh(watts)[-1] == pytest.approx(50)
    assert watts[24:].max() == 0
    assert grid.cumulative_wh(demand_w(grid, [laptop], twice))[-1] == pytest.approx(100)


def test_listening_five_minutes_every_three_hours():
    """2.8 % of the time on the air; a pack lasts 36 times as long."""
    # Common practice, no source: 5 min every 3 h.
    grid = TimeGrid.covering(720)
    opening = Opening(
        start_min=0,
        end_min=720,
        pattern=Pattern(transmit_share=0, duty=0),
        on_for_min=5,
        every_min=180,
    )

    watts = demand_w(grid, [Load(draw=make_draw(1.0))], [opening])

    assert listening_share(5, 180) == pytest.approx(0.028, abs=0.0003)
    assert grid.cumulative_wh(watts)[-1] == pytest.approx(4 * 12.8 * 5 / 60)


def test_power_steps_and_windows_change_the_draw():
    """On low it draws its low currents, on watch it only receives."""
    low = Draw(receive_a=1, transmit_idle_a=2, key_down_a=8)
    load = Load(draw=make_draw(), low=low, windows=(Window(start_min=0, end_min=30),))
    pattern = Pattern(transmit_share=0.5, duty=1)
    at = [
        demand_w(
            TimeGrid.covering(60),
            [load],
            [Opening(start_min=0, end_min=60, pattern=pattern, step=step)],
        )
        for step in (Step.FULL, Step.LOW, Step.WATCH)
    ]

    assert [watts[0] / 12.8 for watts in at] == pytest.approx([10.5, 4.5, 1.0])
    assert all(watts[6:].max() == 0 for watts in at)
    assert peak_current_a([load], [Step.LOW]) == 8
    assert peak_current_a([load], [Step.WATCH]) == 1
