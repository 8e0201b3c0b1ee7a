"""Under way: what is carried where, and whether one more station can be served."""

from dataclasses import replace

import pytest

from powercore.event.problem import Problem
from powercore.physics.loads import Opening, Pattern
from powercore.rotation.admit import admission
from powercore.rotation.construct import construct
from powercore.rotation.search.improve import Aim, improve
from powercore.rotation.verify import verify
from tests.builders import make_scenario, make_station, open_all
from tests.powercore.rotation.test_steps import SPAN, one_battery_each, two_steps


def asked(amps, low_amps, ah=20):
    """Eight hours without walks: one battery at Esker, one for who comes."""
    esker = make_station("esker", amps=1.0, openings=open_all(SPAN))
    comer = two_steps("comer", amps, low_amps, tier=2)
    return admission(Problem(one_battery_each(esker, comer, ah=ah)), "comer")


@pytest.mark.parametrize(
    ("amps", "low_amps", "verdict"),
    [(1.0, 0.5, "can"), (4.0, 1.0, "with_low"), (8.0, 4.0, "cannot")],
)
def test_by_hand_a_20_ah_battery_lasts_eight_hours_at_2_5_a_at_most(
    amps, low_amps, verdict
):
    """8 h of 1 A are 8 Ah, of 4 A are 32 Ah; LiFePO4 gives nearly all of its 20 Ah."""
    found = asked(amps, low_amps)

    assert found.verdict == verdict
    assert found.pays == ()
    if verdict == "cannot":  # by hand: 20 Ah at 8 A last about 2.5 of the 8 h
        assert found.own_min == pytest.approx(SPAN - 60 * 20 / 8, abs=20)


def test_who_pays_is_said():
    """The only battery goes to the first tier, which comes late: the other is off."""
    esker = make_station("esker", amps=1.0, tier=2, openings=open_all(SPAN))
    comer = make_station("comer", amps=1.0, tier=1, openings=open_all(SPAN))
    scenario = one_battery_each(esker, comer)
    problem = Problem(replace(scenario, batteries=scenario.batteries[:1]))
    found = admission(problem, "comer")

    assert found.verdict == "cannot"
    assert dict(found.pays)["esker"] == pytest.approx(SPAN, abs=1)
    assert found.own_min == 0


def test_under_way_what_is_to_serve_is_carried_there():
    """A station without a battery gets none by itself: the walk takes its minutes."""
    late = Opening(
        start_min=240, end_min=SPAN, pattern=Pattern(transmit_share=0, duty=0)
    )
    stations = (
        make_station("esker", walk_min=12, openings=open_all(SPAN)),
        make_station("comer", walk_min=7, tier=2, openings=(late,)),
    )
    scenario = make_scenario(span_min=SPAN, stations=stations, is_under_way=True)
    problem = Problem(scenario)
    first = construct(problem)
    for legs in (first, improve(problem, first, Aim(passes=4)).legs):
        report = verify(problem, legs)
        arrives = {
            station: min(leg.start_min for leg in legs if leg.station == station)
            for station in problem.stations
        }
        assert report.is_valid, report.broken
        assert 12 <= arrives["esker"] <= 20
        assert 7 <= arrives["comer"] <= 245  # it opens at 240, a step is 5 min
        assert report.outcome.total_min("off_air") <= 20 + 5

    at_once = construct(Problem(replace(scenario, is_under_way=False)))
    broken = verify(problem, at_once).broken
    assert "wrong_start" in {one.rule for one in broken}
