"""What is believed of a battery's charge."""

import re

import numpy as np
import pytest
from filterpy.kalman import KalmanFilter
from hypothesis import given
from hypothesis import strategies as st

from powercore.belief import estimate as bank
from powercore.belief.believed import WANDER_SD, Begun, carried, unknown
from powercore.belief.ends import (
    END_HINT,
    END_SD,
    END_SOC,
    END_WRONG,
    blamed_in,
    says_end,
)
from powercore.belief.estimate import (
    Belief,
    bay_prior,
    draw_of,
    draw_prior,
    estimate,
)
from powercore.belief.mixture import FACTOR_EDGES, SOC_EDGES, Mixture
from powercore.belief.runtime import hours_left, time_left
from powercore.belief.steps import (
    Charging,
    CounterReading,
    Flow,
    GaugeReading,
    Known,
    Use,
    VoltsReading,
)
from powercore.physics.charging import ChargeModel
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import TimeGrid
from tests.builders import make_pack

FULL = Known(soc=1.0, words="full by its charger")
HOUR = Use(planned_ah=2.0, hours=1.0)


def turn(*steps, pack=None, start=FULL, spread=0.15):
    """A belief after a turn at a station, begun full."""
    belief = Belief(pack or make_pack(tested_ah=20))
    belief.apply(start)
    belief.begin(draw_prior(spread))
    for step in steps:
        belief.apply(step)
    return belief


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
    counted = turn(HOUR, HOUR, CounterReading(ah=4, hours=2)).estimate()
    both = turn(
        HOUR,
        HOUR,
        CounterReading(ah=4, hours=2),
        VoltsReading(volts=13.05, amps=0.0),
    ).estimate()

    assert both.typical == pytest.approx(counted.typical, abs=0.03)
    assert {answer.method for answer in both.methods} == {"seen", "counter", "volts"}


def test_one_wrong_reading_does_not_carry_the_day():
    """A misheard gauge between good ones is outvoted."""
    steps = [HOUR, GaugeReading(soc=0.1), HOUR, GaugeReading(soc=0.8)]

    assert turn(*steps).estimate().typical > 0.7


def test_the_counter_counts_from_where_its_turn_began():
    """6 Ah out of 20 since the swap at 90 % leave 60 %, whatever was planned."""
    belief = turn(HOUR, HOUR, CounterReading(ah=6, hours=2), start=Known(soc=0.9))

    assert belief.estimate().typical == pytest.approx(0.6, abs=0.04)
    (counter,) = (a for a in belief.estimate().methods if a.method == "counter")
    assert counter.low < 0.6 < counter.high


def test_what_nobody_planned_is_believed_when_it_is_read_again():
    """12 Ah where 4 were planned: misheard, perhaps; counted again, it is so."""
    count = CounterReading(ah=12, hours=2)
    once, again = turn(HOUR, HOUR, count), turn(HOUR, HOUR, count, count)

    assert once.estimate().high - once.estimate().low > 0.3
    assert again.estimate().typical == pytest.approx(0.4, abs=0.05)


def test_two_readings_say_how_fast_it_empties():
    """Two hours of 2 Ah planned took 5.6 Ah by gauge: about 1.4 times the plan."""
    belief = turn(HOUR, GaugeReading(soc=0.86), HOUR, GaugeReading(soc=0.72))
    unread = turn(HOUR, HOUR)

    assert 1.2 < belief.factor().average < 1.5
    assert belief.factor().sd < 0.8 * unread.factor().sd
    # The emptier it is, the more its station drew.
    joint = unread.joint()
    assert np.corrcoef(joint.soc, joint.factor)[0, 1] < -0.6


def test_an_error_that_lasts_does_not_average_out():
    """Eight readings of one gauge are not eight times as sure as one."""
    one, eight = turn(GaugeReading(soc=0.7)), turn(*[GaugeReading(soc=0.7)] * 8)
    for belief in (one, eight):
        belief.begin()

    def sd(reads):
        belief = Belief(make_pack(tested_ah=20))
        for _ in range(reads):
            belief.apply(GaugeReading(soc=0.6))
        found = belief.estimate()
        return (found.high - found.low) / 2 / ONE_IN_TEN

    assert sd(8) > 0.7 * sd(1)
    assert sd(8) > 0.9 * bank.GAUGE_LASTS


def test_volts_under_charge_say_nothing_of_the_charge():
    """14.2 V on a bay is the charger's; unplugged for hours, it would be the pack's."""
    model = ChargeModel(capacity=20, bulk=2, tail=1, taper_h=0.1)
    belief = Belief(make_pack(tested_ah=20))
    belief.apply(Known(soc=0.3))
    belief.begin(bay_prior())
    belief.apply(Charging(model=model, hours=1.0))
    before = belief.estimate().typical
    belief.apply(VoltsReading(volts=14.2, amps=-2.0))

    assert belief.estimate().typical == before == pytest.approx(0.4, abs=0.02)


def test_a_bay_that_was_dead_is_unlearned_by_one_gauge_reading():
    """Four hours on a bay that gave nothing, unnoticed: within 15 points again."""
    model = ChargeModel(capacity=20, bulk=4, tail=1, taper_h=0.1)
    belief = Belief(make_pack(tested_ah=20))
    belief.apply(Known(soc=0.2))
    belief.begin(bay_prior())
    belief.apply(Charging(model=model, hours=4.0))
    assert belief.estimate().typical > 0.85
    belief.apply(GaugeReading(soc=0.21))

    assert belief.estimate().typical == pytest.approx(0.2, abs=0.15)


@given(st.lists(st.floats(-0.05, 0.05), min_size=2, max_size=4))
def test_it_is_a_kalman_filter_and_its_smoother_where_all_is_linear(off):
    """Filterpy's filter and Rauch-Tung-Striebel smoother: charge, draw, gauge."""
    belief = Belief(make_pack(tested_ah=20))
    belief.outlier = 0.0
    charge = Mixture.normal(0.8, 0.04, SOC_EDGES)
    belief.resume(Begun(charge, Mixture.normal(1, 0.15, FACTOR_EDGES), np.zeros(8)))
    share = HOUR.planned_ah / 20
    kalman = KalmanFilter(dim_x=3, dim_z=1)
    kalman.x = np.array([0.8, 1.0, 0.0])
    kalman.P = np.diag([0.04**2, 0.15**2, bank.GAUGE_LASTS**2])
    kalman.H = np.array([[1.0, 0.0, 1.0]])
    kalman.R *= bank.GAUGE_SD**2
    kalman.F = np.array([[1, -share, 0], [0, 1, 0], [0, 0, 1.0]])
    kalman.Q = np.diag([(WANDER_SD * share) ** 2, 0, 0])
    belief.mark()
    means, covariances = [kalman.x.copy()], [kalman.P.copy()]
    for number, more in enumerate(off, 1):
        read = 0.8 - share * number + more
        for step in (HOUR, GaugeReading(soc=read)):
            belief.apply(step)
        belief.mark()
        kalman.predict()
        kalman.update(read)
        means.append(kalman.x.copy())
        covariances.append(kalman.P.copy())
    mean, var, *_ = kalman.rts_smoother(
        np.array(means), np.array(covariances), inv=np.linalg.pinv
    )
    for one, x, p in zip(belief.marked(), mean, var, strict=True):
        sd = p[0, 0] ** 0.5
        assert one.typical == pytest.approx(x[0], abs=0.25 * sd)
        assert (one.high - one.low) / 2 / ONE_IN_TEN == pytest.approx(sd, rel=0.15)
    draw, draw_sd = draw_of(belief.factor(), 1), kalman.P[1, 1] ** 0.5
    assert draw.mean == pytest.approx(kalman.x[1], abs=0.25 * draw_sd)
    assert draw.sd == pytest.approx(draw_sd, rel=0.1)


@given(st.floats(0.3, 1.0), st.floats(0, 6), st.floats(0.1, 0.9))
def test_use_splits_without_a_difference(soc, ah, share):
    """What is used in an hour is used in its parts: the same belief, as wide."""
    both = [turn(start=Known(soc=soc)) for _ in range(2)]
    both[0].apply(Use(planned_ah=ah, hours=1.0))
    for part in (share, 1 - share):
        both[1].apply(Use(planned_ah=ah * part, hours=part))
    one, two = (belief.estimate() for belief in both)

    assert one.typical == pytest.approx(two.typical, abs=0.01)
    assert (one.low, one.high) == pytest.approx((two.low, two.high), abs=0.02)


def test_lead_acid_just_unplugged_says_little():
    """12.6 V after half an hour against a night: a band, not a number."""
    pack = make_pack(chemistry="agm", series=6, nameplate_ah=50, tested_ah=50)

    def found(minutes):
        read = VoltsReading(
            volts=12.6, amps=0.0, how="unplugged", unplugged_min=minutes
        )
        return estimate(pack, [read])

    widths = [found(minutes).high - found(minutes).low for minutes in (5, 30, 120, 300)]
    assert widths == sorted(widths, reverse=True)
    assert widths[1] > 0.3
    assert "–" in found(30).told
    assert estimate(pack, [Known(soc=0.7, sd=0.01)]).told == "70%"


@given(
    st.lists(
        st.sampled_from(
            [
                FULL,
                GaugeReading(soc=0.4),
                HOUR,
                Use(planned_ah=1, hours=2, given_ah=4),
                Flow(ah=3, sd_ah=1),
                VoltsReading(volts=13.0, amps=2),
                VoltsReading(volts=11.0, amps=None, how="key_down"),
                CounterReading(ah=5, hours=1),
            ]
        ),
        max_size=8,
    )
)
def test_bands_stay_in_order_and_in_range(steps):
    """0 ≤ low ≤ typical ≤ high ≤ 1 whatever happens, now and in what was marked."""
    belief = turn()
    for step in steps:
        belief.mark()
        belief.apply(step)

    for found in (belief.estimate(), *belief.marked()):
        assert 0 <= found.low <= found.typical <= found.high <= 1
    joint = belief.joint()
    assert np.all((joint.soc >= 0) & (joint.soc <= 1) & (joint.factor > 0))


def test_a_turn_goes_on_from_what_was_kept_of_its_beginning():
    """All that a turn rests on is one row of numbers."""
    belief = Belief(make_pack(tested_ah=20))
    belief.apply(GaugeReading(soc=0.9))
    begun = belief.begin(draw_prior(0.15))
    again = Belief(belief.pack)
    again.resume(Begun.of_numbers(begun.numbers))
    for one in (belief, again):
        one.apply(HOUR)
        one.apply(GaugeReading(soc=0.75))

    assert again.estimate().typical == belief.estimate().typical
    assert again.factor().average == belief.factor().average


@pytest.mark.parametrize(
    "step",
    [
        Use(planned_ah=4, hours=2),
        Use(planned_ah=1, hours=2, given_ah=3),
        Charging(
            model=ChargeModel(capacity=20, bulk=5, tail=1, taper_h=0.1), hours=0.5
        ),
    ],
)
def test_carried_forward_without_the_bank_agrees_with_it(step):
    """The quick way to now equals the belief's own step, within two points."""
    belief = turn(start=Known(soc=0.7))
    before, joint = belief.estimate(), belief.joint()
    belief.apply(step)
    slow = belief.estimate()
    quick, _ = carried(before, joint, [step], belief.pack)

    assert quick.typical == pytest.approx(slow.typical, abs=0.02)
    assert (quick.low, quick.high) == pytest.approx((slow.low, slow.high), abs=0.03)


def left_of(belief, *, to_soc=0.2, amps=2.0, hours=48):
    grid = TimeGrid.covering(hours * 60)
    watts = np.full(grid.count, amps * belief.pack.nominal_v)
    return time_left(
        hours_left(
            belief.pack,
            belief.joint(),
            to_soc=to_soc,
            grid=grid,
            demand_w=watts,
            from_min=0,
        )
    )


def test_time_left_is_a_band_from_bad_to_good():
    """At 2 A from 60 % of 20 Ah to 20 %: about 4 h, by the pack's own volts."""
    for series in (4, 8):
        pack = make_pack(series=series, tested_ah=20)
        left = left_of(turn(start=Known(soc=0.6), pack=pack, spread=0.05))

        assert left.typical_h == pytest.approx(4.0, rel=0.1)
        assert left.bad_h < left.typical_h < left.good_h
    assert left_of(turn(start=Known(soc=0.1))).typical_h == 0


def test_a_battery_that_outlasts_the_event_has_no_time():
    """None, not a number beyond what was looked at."""
    left = left_of(turn(), amps=0.1, hours=2)

    assert (left.bad_h, left.typical_h, left.good_h) == (None, None, None)
    assert unknown().high - unknown().low > 0.7


def lasting(readings, *, pack=None, hours=1.0, planned_ah=1.0):
    """A full battery in use, read now and then."""
    belief = Belief(pack or make_pack(tested_ah=20))
    belief.apply(FULL)
    belief.begin(draw_prior(0.15))
    for reading in readings:
        belief.apply(Use(planned_ah=planned_ah, hours=hours))
        belief.apply(reading)
    return belief


def test_two_readings_that_disagree_in_one_direction_win():
    """One widens the band to both, and says so; however often it was read before."""
    before = [GaugeReading(soc=1 - 0.05 * (n + 1)) for n in range(8)]
    belief = lasting(before)
    assert belief.estimate().contradicts == ""

    belief.apply(Use(planned_ah=1.0, hours=1.0))
    belief.apply(GaugeReading(soc=0.20, words="gauge 20 %"))
    one = belief.estimate()
    assert one.contradicts == "gauge 20 % is far below what was believed"
    assert one.low < 0.25
    assert one.high > 0.5
    belief.apply(GaugeReading(soc=0.21))
    assert belief.estimate().high < 0.3


def test_lead_acid_read_low_again_and_again_is_low():
    """From 11.4 V at 9 A to 11.8 V rested: next to nothing in an AGM of 95 Ah."""
    pack = make_pack(chemistry="agm", series=6, nameplate_ah=100, tested_ah=95)
    counted = [CounterReading(ah=3.0 * n, hours=n) for n in range(1, 5)]
    belief = lasting(counted, pack=pack, planned_ah=3.0)
    assert belief.estimate().typical > 0.8

    for volts in (11.4, 11.45, 11.5):
        belief.apply(VoltsReading(volts=volts, amps=9.0))
    belief.apply(VoltsReading(volts=11.8, amps=0.0, how="unplugged", unplugged_min=300))
    assert belief.estimate().high < 0.25


def test_one_reading_of_volts_does_not_empty_what_was_counted():
    """17.6 Ah counted out of 97 Ah, then 12.9 V: far more than a third is there."""
    pack = make_pack(nameplate_ah=100, tested_ah=97)
    counted = [CounterReading(ah=5.87 * n, hours=2.0 * n) for n in range(1, 4)]
    belief = lasting(counted, pack=pack, hours=2.0, planned_ah=5.8)
    belief.apply(VoltsReading(volts=12.9, amps=2.0))

    assert belief.estimate().typical == pytest.approx(0.81, abs=0.03)
    assert belief.estimate().low > 0.33


def test_a_counter_that_stands_still_in_a_bay_says_that_nothing_flows():
    """12 Ah went in in the first hour of three: 62 %, and no more after it."""
    pack = make_pack(nameplate_ah=100, tested_ah=97)
    belief = Belief(pack)
    belief.apply(Known(soc=0.5))
    belief.begin(bay_prior())
    model = ChargeModel.of(pack, 12.0)
    for hours in (1.0, 2.0, 3.0):
        belief.apply(Charging(model=model, hours=1.0))
        belief.apply(CounterReading(ah=-12.0, hours=hours))
    belief.apply(Charging(model=model, hours=2.0))

    assert belief.estimate().typical == pytest.approx(0.62, abs=0.03)
    assert belief.estimate().high < 0.7


def test_what_people_say_of_its_end_outweighs_any_reckoning():
    """ "Battery flat" while it was believed to be at 60 %; then 85 min on a bay."""
    belief = lasting([GaugeReading(soc=1 - 0.05 * (n + 1)) for n in range(8)])
    belief.apply(Use(planned_ah=1.0, hours=1.0))
    belief.apply(Known(soc=END_SOC, sd=END_SD, wrong=END_WRONG))
    assert belief.estimate().high < 0.2

    belief.begin(bay_prior())
    model = ChargeModel.of(belief.pack, 8.0)
    belief.apply(Charging(model=model, hours=85 / 60))
    assert belief.estimate().typical == pytest.approx(0.58, abs=0.1)


@pytest.mark.parametrize(
    ("text", "end", "blamed"),
    [
        ("Battery flat, tripped", True, ""),
        ("it quit", True, ""),
        ("ran out", True, ""),
        ("loose plug", False, "plug"),
        ("breaker tripped", False, "fuse"),
        ("battery not flat", False, ""),
        ("storm coming", False, ""),
        ("flat fee paid at the mains", False, "charging"),
    ],
)
def test_words_say_whether_the_battery_was_at_its_end(text, end, blamed):
    """What blames something else says nothing of the battery."""
    assert (says_end(text), blamed_in(text)) == (end, blamed)
    assert re.search(END_HINT, text.casefold()) or not end
