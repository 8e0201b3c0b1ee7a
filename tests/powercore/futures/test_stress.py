"""Many futures and mishaps: draws that follow their law, legs that stay whole."""

from collections import defaultdict
from dataclasses import replace
from functools import partial
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from powercore.event import plans
from powercore.event.plans import BayPlan
from powercore.event.problem import CARRIED, SERVE, WAIT, YARD, Problem
from powercore.futures import draws, stress
from powercore.futures.budget import no_sun
from powercore.futures.cures import cures
from powercore.rotation.change import without_rounds
from powercore.rotation.construct import construct
from powercore.rotation.search.improve import Aim, improve
from powercore.rotation.verify import verify
from tests.builders import make_battery, make_scenario, make_station, open_all, steady
from tests.powercore.rotation.test_rotation import hard, leg


@pytest.mark.parametrize("memory_h", [1.0, 3.0])
def test_what_wanders_follows_the_law_of_its_memory(memory_h):
    """Spread 1, and a correlation of exp(-lag / memory): the AR(1) textbook law."""
    rng = np.random.default_rng(5)
    found = draws.wander(rng, (4000,), 24, memory_h)

    assert found.std() == pytest.approx(1.0, abs=0.02)
    for lag in (1, 4):
        together = np.corrcoef(found[:, 5], found[:, 5 + lag])[0, 1]
        assert together == pytest.approx(np.exp(-lag / memory_h), abs=0.05)


@settings(max_examples=25)
@given(hard(), st.integers(0, 1000))
def test_late_walks_and_missing_crews_leave_lives_whole(scenario, seed):
    """Every battery is somewhere from start to end, and stations hold one."""
    problem = Problem(scenario)
    legs = construct(problem)
    delays = stress._delays(problem, legs, np.random.default_rng(seed))

    for changed in (
        stress.late(problem, legs, delays),
        without_rounds(problem, legs, rounds_of(legs)),
        stress.without_bays(legs, ["bay1"], 200),
    ):
        lives = defaultdict(list)
        for one in sorted(changed, key=lambda one: one.start_min):
            lives[one.battery].append(one)
        for life in lives.values():
            assert (life[0].start_min, life[-1].end_min) == (0, problem.span_min)
            assert all(a.end_min == b.start_min for a, b in pairwise(life))
        assert set(lives) == {leg.battery for leg in legs}


def test_operators_leave_the_old_battery_in_until_a_late_spare_is_there():
    """The spare should wait there from 100 and serve from 120; it comes at 150."""
    span = 240
    station = make_station("s1", 1.0, openings=open_all(span), spares=1)
    problem = Problem(make_scenario(span_min=span, stations=(station,)))

    legs = [
        leg(SERVE, "k01", "s1", 0, 120),
        leg(WAIT, "k01", "s1", 120, span),
        leg(WAIT, "k02", YARD, 0, 95),
        leg(CARRIED, "k02", "", 95, 100, crew="crew", round=1),
        leg(WAIT, "k02", "s1", 100, 120),
        leg(SERVE, "k02", "s1", 120, span),
    ]
    assert verify(problem, legs).is_valid

    made = stress.late(problem, legs, {("s1", 100): 50})

    serving = sorted(
        (x.battery, x.start_min, x.end_min) for x in made if x.kind == SERVE
    )
    assert serving == [("k01", 0, 150), ("k02", 150, span)]


@settings(max_examples=15)
@given(hard())
def test_nothing_late_changes_nothing(scenario):
    """Without delays the rotation is the same."""
    problem = Problem(scenario)
    legs = construct(problem)

    assert set(stress.late(problem, legs, {})) == set(legs)


def test_a_crew_that_does_not_come_brings_nothing():
    """Each station keeps its first battery; nobody carries anything."""
    problem = Problem(long_day())
    legs = construct(problem)
    assert any(leg.kind == CARRIED for leg in legs)

    changed = without_rounds(problem, legs, rounds_of(legs))

    assert all(leg.kind != CARRIED for leg in changed)
    serving = [leg for leg in changed if leg.kind == SERVE]
    assert [(leg.start_min, leg.end_min) for leg in serving] == [(0, 480)]


def rounds_of(legs):
    """All rounds."""
    return {leg.round for leg in legs if leg.kind == CARRIED}


def long_day():
    """One station that needs three batteries in eight hours."""
    return make_scenario(
        span_min=480,
        stations=(make_station(amps=6.0, openings=open_all(480)),),
        batteries=tuple(make_battery(f"k{n}") for n in range(4)),
    )


@pytest.fixture
def certain(monkeypatch):
    """Nothing varies: use, capacity, charge, lateness and failures are as planned."""
    for name in ("USE_SD", "LIGHT_SD", "SOURCE_FAILS", "BAY_FAILS", "BATTERY_FAILS"):
        monkeypatch.setattr(stress, name, 0.0)
    for name in ("TESTED_SD", "UNTESTED_SD"):
        monkeypatch.setattr(plans, name, 0.0)
    monkeypatch.setattr(draws, "START_SD", 0.0)
    monkeypatch.setattr(stress, "_delays", lambda *_: {})


def test_when_nothing_varies_a_future_is_the_verifiers_replay(certain):
    """Minutes off the air are those of the plan, in every future."""
    scenario = make_scenario(
        span_min=600,
        stations=(make_station(amps=6.0, openings=open_all(600), spread=0.0),),
        batteries=(make_battery("k01"),),
    )
    problem = Problem(scenario)
    legs = construct(problem)

    found = stress.stress(problem, legs, no_sun(problem))

    planned = verify(problem, legs).outcome.total_min("off_air")
    assert planned > 60
    assert found.chance == 1
    assert found.stations[0].typical_min == pytest.approx(planned, abs=1e-6)
    assert found.stations[0].bad_min == pytest.approx(planned, abs=1e-6)


def test_mishaps_make_it_worse_and_the_same_seed_says_the_same():
    """More use, a flat battery, nobody who walks: never better than as planned."""
    problem = Problem(long_day())
    legs = construct(problem)

    found = stress.stress(problem, legs, no_sun(problem))

    rows = {row.name: row for row in found.rows if not row.is_cure}
    planned = rows.pop("As planned")
    assert len(rows) >= 4
    for row in rows.values():
        assert row.bad_min >= planned.bad_min - 1e-6
    assert rows["Crew does not come"].typical_min > planned.typical_min + 60
    assert found == stress.stress(Problem(long_day()), legs, no_sun(problem))


def test_a_chance_that_never_came_up_is_not_called_nothing():
    """None in 1,000 is under 0.3 %: the rule of three."""
    assert stress._chance(np.zeros((20, 50))) == (0.0, pytest.approx(0.003))


def test_what_would_help_is_a_battery_where_one_is_missing():
    """4 A for 18 h are 72 Ah; two 20 Ah packs and a slow bay give some 60."""
    span = 18 * 60
    low = replace(steady(4.0), low=steady(1.0).draw)
    station = make_station(loads=(low,), openings=open_all(span), spread=0.05)
    scenario = make_scenario(
        span_min=span,
        stations=(station,),
        bays=(
            BayPlan(
                key="bay1", name="Bay 1", source="mains", max_w=20,
                chemistries=("lifepo4",),
            ),
        ),
    )  # fmt: skip
    problem = Problem(scenario)
    legs = construct(problem)

    found = cures(problem, legs, no_sun(problem), passes=(1, 1))

    assert found.mean_min > 60
    left = {one.words: one.mean_min for one in found.cures}
    assert list(left.values()) == sorted(left.values())
    at_hand = min(left[words] for words in left if words.startswith("The same"))
    assert left["One more 20 Ah LiFePO4 pack"] < 0.6 * at_hand
    assert left["Esker on low power"] < 0.6 * at_hand
    assert left["One more crew to walk"] == pytest.approx(at_hand, rel=0.1)
    for one in found.cures:
        assert one.removes == pytest.approx(1 - one.mean_min / found.mean_min)


def test_a_plan_looked_for_against_futures_risks_less():
    """As much is served as planned; what can be late or run short is made safer."""
    span = 12 * 60
    stations = tuple(
        make_station(key, amps, openings=open_all(span), spread=0.3, tier=tier)
        for key, amps, tier in (("s1", 2.2, 1), ("s2", 1.6, 2))
    )
    scenario = make_scenario(
        span_min=span,
        stations=stations,
        batteries=tuple(make_battery(f"k{n}", 20) for n in range(4)),
        lateness_min=15,
    )
    problem = Problem(scenario)
    suns = no_sun(problem)
    plain = improve(problem, construct(problem), Aim(passes=3))

    found = improve(
        problem, plain.legs, Aim(passes=3, risk=partial(stress.risk, suns=suns))
    )

    before, after = (stress.risk(problem, x.legs, suns) for x in (plain, found))
    served = len(found.key) - len(plain.key)
    assert found.report.is_valid
    assert served == 2  # a figure of risk for each tier
    assert found.report.outcome.total_min("off_air") == 0
    assert before["s1"] > 5
    assert after["s1"] < 0.5 * before["s1"]
    # On draws of its own too, not only on those it was looked for with.
    anew = [
        sum(stress.mean_off_air(problem, x.legs, suns, seed=77).values())
        for x in (plain, found)
    ]
    assert anew[1] < 0.7 * anew[0]


def test_nothing_helps_where_nothing_is_lost():
    """1 A for six hours from a full 20 Ah pack."""
    scenario = make_scenario(
        span_min=360, stations=(make_station(openings=open_all(360)),)
    )
    problem = Problem(scenario)

    found = cures(problem, construct(problem), no_sun(problem))

    assert (found.mean_min, found.cures) == (0, ())
