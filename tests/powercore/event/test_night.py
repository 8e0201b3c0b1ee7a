"""Walks in the dark: nobody alone, and by day where nothing is lost by it."""

from dataclasses import replace

import numpy as np
import pytest

from powercore.event.problem import SERVE, Problem
from powercore.rotation.binds import binds
from powercore.rotation.construct import construct
from powercore.rotation.search.improve import Aim, improve
from powercore.rotation.verify import verify
from tests.builders import make_battery, make_scenario, make_station, open_all
from tests.powercore.rotation.polish.test_rounds import swap
from tests.powercore.rotation.test_rotation import LAKES

#: From 18:00 UTC on 27 June to 04:00.
SPAN = 600
HOME = make_scenario(
    span_min=SPAN,
    site=LAKES,
    stations=(make_station(amps=2.2, walk_min=10, openings=open_all(SPAN)),),
    batteries=(make_battery("k0"), make_battery("k1")),
)
WALKS, WATCH = HOME.crews
ALONE = replace(HOME, crews=(replace(WALKS, people=1), WATCH))


def relieved(minute):
    """One swap, there at a minute."""
    legs = swap("esker", "k0", "k1", minute, 10, 1)
    ends = {"end_min": SPAN}
    legs[2], legs[5] = replace(legs[2], **ends), replace(legs[5], **ends)
    return legs


def test_it_is_dark_from_sunset_on():
    """
    Against the sunset equation, from memory of textbooks.

    With the almanac's declination of 23.3° and equation of time of −3.2 min for that
    day, both from memory; good to some minutes. Without a place it is never dark.
    """
    latitude, declination, upper_limb = np.radians([46.0, 23.3, -0.833])
    hour_angle = np.arccos(
        (np.sin(upper_limb) - np.sin(latitude) * np.sin(declination))
        / (np.cos(latitude) * np.cos(declination))
    )
    noon = 12 * 60 + 94 * 4 + 3.2  # UTC
    sunset = noon + np.degrees(hour_angle) * 4 - 18 * 60

    problem = Problem(HOME)
    first = int(np.argmax(problem.dark)) * problem.grid.step_min
    assert abs(first - sunset) <= 10
    assert problem.dark[first // problem.grid.step_min :].all()
    assert not Problem(replace(HOME, site=None)).dark.any()


@pytest.mark.parametrize(
    ("scenario", "minute", "broken"),
    [
        (HOME, 540, set()),
        (ALONE, 540, {"alone_at_night"}),
        (ALONE, 484, {"alone_at_night"}),
        (ALONE, 440, set()),
        (replace(ALONE, two_at_night=False), 540, set()),
    ],
)
def test_nobody_walks_alone_in_the_dark(scenario, minute, broken):
    """There and back; whoever says so may."""
    report = verify(Problem(scenario), relieved(minute))

    assert {one.rule for one in report.broken} == broken
    assert report.outcome.night_walks == (minute > 470)


def test_planners_send_nobody_alone_in_the_dark_and_say_so():
    """What is used up by then stays off the air for want of a second person."""
    hungry = make_station(amps=4.2, walk_min=10, openings=open_all(SPAN + 200))
    packs = tuple(make_battery(f"k{n}") for n in range(4))
    scenario = replace(
        ALONE, stations=(hungry,), batteries=packs, bays=(), span_min=800
    )
    problem = Problem(
        replace(
            scenario,
            crews=(replace(WALKS, people=1, end_min=800), replace(WATCH, end_min=800)),
        )
    )
    found = improve(problem, construct(problem), Aim(passes=2))
    assert found.report.is_valid
    assert found.report.outcome.night_walks == 0
    off = binds(problem, found.legs, found.report.outcome).off_air
    assert [one.cause for one in off] == ["alone"]


def test_a_walk_is_made_by_day_where_nothing_is_lost_by_it():
    """Relieved late at first; the search brings the relief forward."""
    late = relieved(500)
    problem = Problem(HOME)
    assert verify(problem, late).outcome.night_walks == 1

    found = improve(problem, late, Aim(passes=4))

    outcome = found.report.outcome
    assert (outcome.walks, outcome.night_walks) == (1, 0)
    assert outcome.unserved_wh == 0
    assert any(leg.kind == SERVE and 0 < leg.start_min < 485 for leg in found.legs)
