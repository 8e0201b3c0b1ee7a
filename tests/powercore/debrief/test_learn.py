"""What events teach: planted numbers come back, and intervals hold what they say."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.belief.mixture import FACTOR_EDGES, Mixture
from powercore.debrief.arrivals import late_of
from powercore.debrief.attribute import Likely
from powercore.debrief.learn import (
    Foretold,
    foretell,
    says_something,
    scored,
    sd_of,
    summed,
)
from powercore.debrief.separate import (
    TURN_SD,
    Ratio,
    ReadTurn,
    said_between,
    separate,
)
from powercore.physics.loads import ONE_IN_TEN

STATION_SD, BATTERY_SD, READ_SD = 0.3, 0.15, 0.07


def planted(rng: np.random.Generator) -> tuple[dict, dict, list[ReadTurn]]:
    """Three stations, four batteries, ten turns; half of them with a counter."""
    loads = {key: rng.normal(0, STATION_SD) for key in "abc"}
    packs = {key: rng.normal(0, BATTERY_SD) for key in "wxyz"}
    turns = []
    for number in range(10):
        station, battery = rng.choice(list(loads)), rng.choice(list(packs))
        drawn = loads[station] + rng.normal(0, TURN_SD)
        counted = Ratio(log=drawn + rng.normal(0, READ_SD), sd=READ_SD)
        used = drawn - packs[battery] + rng.normal(0, READ_SD)
        turns.append(
            ReadTurn(
                station=station,
                battery=battery,
                start_min=60.0 * number,
                end_min=60.0 * number + 60,
                drawn=counted if number % 2 else None,
                used=Ratio(log=used, sd=READ_SD),
            )
        )
    return loads, packs, turns


def test_planted_draws_and_capacities_come_back_in_four_of_five_intervals():
    """80 % intervals cover 72 to 88 % of 200 planted clubs' numbers."""
    rng = np.random.default_rng(3)
    draws, holds, nearer = [], [], []
    for _ in range(200):
        loads, packs, turns = planted(rng)
        found = separate(
            turns,
            station_sd=dict.fromkeys(loads, STATION_SD),
            battery_sd=dict.fromkeys(packs, BATTERY_SD),
        )
        for key, true in loads.items():
            one = found.drawn(key)
            draws.append(abs(one.log - true) < ONE_IN_TEN * one.sd)
            nearer.append(abs(one.log - true) < abs(true))
        for key, true in packs.items():
            one = found.holds(key)
            holds.append(abs(one.log - true) < ONE_IN_TEN * one.sd)

    assert 0.72 <= np.mean(draws) <= 0.88
    assert 0.72 <= np.mean(holds) <= 0.88
    assert np.mean(nearer) > 0.8


def test_without_readings_nothing_is_claimed():
    """What is believed stays the plan, as wide as it was."""
    found = separate([], station_sd={"a": 0.3}, battery_sd={"w": 0.1})

    assert (found.drawn("a").log, found.drawn("a").sd) == (0, pytest.approx(0.3))
    assert (found.holds("w").log, found.holds("w").sd) == (0, pytest.approx(0.1))


def test_what_readings_say_alone_is_what_they_added():
    """A prior N(0, 0.4²) and a reading of 0.3 ± 0.1 in logarithms (by hand)."""
    precision = 1 / 0.4**2 + 1 / 0.1**2
    mean, var = 0.3 / 0.1**2 / precision, 1 / precision

    def lognormal(mu: float, sd: float) -> Mixture:
        points = np.exp(mu + sd * np.linspace(-3, 3, 601))
        bell = np.exp(-0.5 * np.linspace(-3, 3, 601) ** 2)
        return Mixture.of_points(points, bell, FACTOR_EDGES)

    said = said_between(lognormal(0, 0.4), lognormal(mean, var**0.5))

    assert said is not None
    assert said.log == pytest.approx(0.3, abs=0.03)
    assert said.sd == pytest.approx(0.1, abs=0.02)
    assert said_between(lognormal(0, 0.4), lognormal(0.02, 0.39)) is None


def test_the_mean_of_five_has_students_interval():
    """t(0.9, 4) = 1.5332 (Student's table); s / sqrt(5) = 0.7071 of 1, 2, 3, 4, 5."""
    mean, sd = summed([1, 2, 3, 4, 5])

    assert mean == 3
    assert sd * ONE_IN_TEN == pytest.approx(1.5332 * 2.5**0.5 / 5**0.5, rel=1e-4)


@given(st.lists(st.tuples(st.floats(0.5, 2), st.floats(0.01, 0.5)), min_size=1))
def test_more_events_foretell_no_worse_and_within_what_they_say(known):
    """The mean lies among them; each event more makes it no less sure."""
    mean, sd = foretell(known, 0.15)
    more = foretell([*known, known[0]], 0.15)

    values = [one for one, _ in known]
    assert min(values) - 1e-9 <= mean <= max(values) + 1e-9
    assert more[1] <= sd + 1e-12
    assert foretell([], 0.15) == (1.0, 0.15)


def test_a_backtest_scores_errors_and_bands():
    """Off by 0.3 with sd 0.1 is outside 1.28 sd; off by 0.1 is inside (by hand)."""
    found = [
        Foretold(mean=1.0, sd=0.1, came=1.3, came_sd=0.0),
        Foretold(mean=1.0, sd=0.1, came=0.9, came_sd=0.0),
    ]

    assert scored(found) == (pytest.approx(0.2), 0.5)


def test_only_what_is_off_the_plan_teaches():
    """31 % more, known to 5 %, does; 3 % more, or 10 % known to 40 %, does not."""
    known = Likely(low=1.25, typical=1.31, high=1.37)

    assert sd_of(known) == pytest.approx(0.0468, abs=1e-4)
    assert says_something(known)
    assert not says_something(Likely(low=1.0, typical=1.03, high=1.06))
    assert not says_something(Likely(low=0.6, typical=1.1, high=1.6))


def test_reliefs_are_matched_once_and_in_order_as_the_board_does():
    """K1 due at 100 and 300, K2 at 200; K3 came in its place at 205 (by hand)."""
    planned = [("k1", 100), ("k2", 200), ("k1", 300)]

    assert late_of(planned, [("k1", 112), ("k3", 205), ("k1", 296)]) == ([12, 5, -4], 0)
    assert late_of(planned, [("k1", 112), ("k1", 115)]) == ([12], 1)
