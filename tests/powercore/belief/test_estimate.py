"""What is believed of a battery's charge."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.belief.estimate import (
    Belief,
    Charging,
    CounterReading,
    Flow,
    GaugeReading,
    Known,
    TurnBegins,
    VoltsReading,
    charged_since,
    estimate,
    unknown,
    used_since,
)
from powercore.belief.runtime import time_left
from powercore.gear.plant import Account, PlantBattery
from powercore.physics.charging import ChargeModel
from powercore.values import TimeGrid
from tests.builders import make_pack

FULL = Known(soc=1.0, words="full by its charger")


def test_nothing_seen_is_a_wide_band():
    """Without any step nobody knows."""
    found = estimate(make_pack(), [])

    assert found.low < 0.15
    assert found.high > 0.85
    assert found.evidence == "never seen"


@pytest.mark.parametrize("volts", [13.05, 13.10, 13.25])
def test_lifepo4_volts_alone_cannot_place_the_middle(volts):
    """
    A rested reading within ±50 mV leaves 28 % or more of the charge open.

    From inverting PyBaMM's Prada2013 curve: 13.05 V is 39 to 71 %, 13.10 V 45 to
    74 %, 13.25 V 77 to 97 %; hysteresis makes it wider still.
    """
    found = estimate(make_pack(), [VoltsReading(volts=volts, amps=0, how="unplugged")])

    assert found.high - found.low > 0.2


def test_lead_acid_volts_place_well_and_a_gauge_places_lifepo4():
    """12.45 V rested is about 75 % of a flooded battery (table from memory)."""
    flooded = make_pack(chemistry="flooded", series=6)
    by_volts = estimate(
        flooded, [VoltsReading(volts=12.45, amps=0, how="unplugged", unplugged_min=600)]
    )
    by_gauge = estimate(make_pack(), [GaugeReading(soc=0.6)])

    assert by_volts.low < 0.75 < by_volts.high
    assert by_volts.high - by_volts.low < 0.35
    assert by_gauge.typical == pytest.approx(0.6, abs=0.02)


def test_a_flat_curve_pulls_a_count_little():
    """After a count to 80 %, volts of the flat middle hardly move the belief."""
    pack = make_pack()
    counted = [FULL, TurnBegins(), CounterReading(ah=4)]
    both = estimate(pack, [*counted, VoltsReading(volts=13.05, amps=0.0)])

    assert both.typical == pytest.approx(estimate(pack, counted).typical, abs=0.05)
    assert {answer.method for answer in both.methods} == {"seen", "counter", "volts"}


def test_one_wrong_reading_does_not_carry_the_day():
    """A misheard gauge between good ones is outvoted."""
    steps = [FULL, Flow(ah=2, sd_ah=0.2), GaugeReading(soc=0.1), GaugeReading(soc=0.9)]

    assert estimate(make_pack(), steps).typical > 0.8


def test_the_counter_counts_from_where_its_turn_began():
    """12 Ah out of 20 since the swap at 90 % leave 30 %, whatever was planned."""
    steps = [
        Known(soc=0.9),
        TurnBegins(),
        Flow(ah=4, sd_ah=1.0),
        CounterReading(ah=12),
    ]

    assert estimate(make_pack(), steps).typical == pytest.approx(0.3, abs=0.03)


@given(st.floats(0.2, 1.0), st.floats(0, 8), st.floats(0, 8))
def test_use_lowers_and_splits_without_a_difference(soc, first, second):
    """Using twice is using the sum, and it only goes down."""
    pack = make_pack()
    start = Known(soc=soc)
    at_once = estimate(pack, [start, Flow(ah=first + second, sd_ah=0)])
    in_two = estimate(pack, [start, Flow(ah=first, sd_ah=0), Flow(ah=second, sd_ah=0)])

    assert at_once.typical == pytest.approx(in_two.typical, abs=0.01)
    assert at_once.typical <= estimate(pack, [start]).typical + 1e-9


@given(
    st.lists(
        st.sampled_from(
            [
                FULL,
                GaugeReading(soc=0.4),
                Flow(ah=3, sd_ah=1),
                VoltsReading(volts=13.0, amps=2),
            ]
        ),
        max_size=8,
    )
)
def test_quantiles_stay_in_order_and_in_range(steps):
    """0 ≤ low ≤ typical ≤ high ≤ 1, whatever happens."""
    found = estimate(make_pack(), steps)

    assert 0 <= found.low <= found.typical <= found.high <= 1


def test_the_true_charge_lies_in_the_band_as_often_as_promised():
    """Simulated turns with a noisy draw and hourly readings: 80 % band, 60 runs."""
    random = np.random.default_rng(7)
    hits = 0
    for _ in range(60):
        plant = PlantBattery(pack=make_pack(), true_ah=20, soc=1.0, account=Account())
        belief = Belief(plant.pack)
        belief.apply(FULL)
        factor = random.normal(1, 0.2)
        for _ in range(5):
            plant.serve(20 * max(0.2, factor), 1.0)
            belief.apply(Flow(ah=20 / 12.8, sd_ah=0.2 * 20 / 12.8))
        amps = 1.5
        volts = plant.pack.loaded_v(plant.soc, amps) + random.normal(0, 0.02)
        belief.apply(VoltsReading(volts=float(volts), amps=amps))
        found = belief.estimate()
        hits += found.low <= plant.soc <= found.high

    assert hits >= 38  # P(fewer than 38 of 60 at 0.8) is below 0.1 %


def test_carried_forward_without_the_grid_agrees_with_it():
    """The quick way to now equals the belief's own step, within two points."""
    pack = make_pack()
    before = estimate(pack, [GaugeReading(soc=0.7)])
    model = ChargeModel(capacity=20, bulk=5, tail=1, taper_h=0.1)
    slow_use = estimate(pack, [GaugeReading(soc=0.7), Flow(ah=4, sd_ah=0.8)])
    slow_charge = estimate(
        pack, [GaugeReading(soc=0.7), Charging(model=model, hours=0.5)]
    )

    assert used_since(before, 0.2, 0.04).typical == pytest.approx(
        slow_use.typical, abs=0.02
    )
    assert charged_since(before, model, 0.5).typical == pytest.approx(
        slow_charge.typical, abs=0.02
    )


def test_time_left_is_a_band_from_bad_to_good():
    """At 2 A from 60 % of 20 Ah to 20 %: 4 h; the band's ends lie on its sides."""
    grid = TimeGrid.covering(24 * 60)
    soc = estimate(make_pack(), [GaugeReading(soc=0.6)])
    watts = np.full(grid.count, 2 * 12.8)
    left = time_left(
        make_pack(), soc, to_soc=0.2, grid=grid, demand_w=watts, from_min=60
    )

    assert left.typical_h == pytest.approx((soc.typical - 0.2) * 10, abs=0.01)
    assert left.bad_h < left.typical_h < left.good_h
    assert (
        time_left(
            make_pack(), unknown(), to_soc=0.95, grid=grid, demand_w=watts, from_min=60
        ).bad_h
        == 0
    )


def test_a_battery_that_outlasts_the_event_has_no_time():
    """None, not a number beyond what was looked at."""
    grid = TimeGrid.covering(60)
    soc = estimate(make_pack(), [FULL])
    left = time_left(
        make_pack(), soc, to_soc=0.2, grid=grid, demand_w=np.full(12, 5.0), from_min=0
    )

    assert (left.bad_h, left.typical_h, left.good_h) == (None, None, None)
