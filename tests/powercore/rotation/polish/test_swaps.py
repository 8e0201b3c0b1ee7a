"""Swaps of operators that gain nothing are done without."""

import pytest

from powercore.event.problem import CARRIED, SERVE, WAIT, YARD, Problem
from powercore.rotation.polish.swaps import with_fewer_swaps
from powercore.rotation.verify import verify
from tests.builders import make_battery, make_scenario, make_station, open_all
from tests.powercore.rotation.test_rotation import leg

SPAN = 360


def event():
    """A station with room for spares, two batteries that last some five hours each."""
    station = make_station(amps=3.0, spares=2, openings=open_all(SPAN))
    batteries = (make_battery("k01"), make_battery("k02"))
    return Problem(
        make_scenario(span_min=SPAN, stations=(station,), batteries=batteries)
    )


def alternating(until=SPAN):
    """K01, K02 and K01 again, an hour and a half each at first."""
    life = [
        leg(SERVE, "k01", "esker", 0, 90),
        leg(WAIT, "k01", "esker", 90, 180),
        leg(SERVE, "k01", "esker", 180, SPAN),
        leg(WAIT, "k02", "esker", 0, 90),
        leg(SERVE, "k02", "esker", 90, 180),
    ]
    if until < SPAN:
        walk = {"crew": "crew", "round": 1}
        gone = leg(CARRIED, "k02", "", until, until + 5, **walk)
        life += [gone, leg(WAIT, "k02", YARD, until + 5, SPAN)]
    if until > 180:
        life.append(leg(WAIT, "k02", "esker", 180, until))
    return tuple(life)


@pytest.mark.parametrize("until", [SPAN, 200])
def test_there_and_back_becomes_one_swap(until):
    """K02 serves first or last, as long as before; it is fetched when it was."""
    problem, before = event(), alternating(until)
    made = with_fewer_swaps(problem, before)

    report = verify(problem, made)
    assert verify(problem, before).outcome.swaps == 2
    assert report.is_valid, report.broken
    assert report.outcome.swaps == 1
    served = {
        one.battery: one.end_min - one.start_min for one in made if one.kind == SERVE
    }
    assert served == {"k01": 270, "k02": 90}
    assert {x for x in made if x.kind == CARRIED} == {
        x for x in before if x.kind == CARRIED
    }
    assert with_fewer_swaps(problem, before, keep_until_min=30) == before
