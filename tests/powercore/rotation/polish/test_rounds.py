"""Rounds to several stations: how they are walked, and when two become one."""

from dataclasses import replace
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from powercore.event.plans import CrewPlan, Spot
from powercore.event.problem import CARRIED, SERVE, WAIT, YARD, Problem
from powercore.physics.places import walking_min
from powercore.rotation.construct import STYLES, construct
from powercore.rotation.objective import key_of
from powercore.rotation.polish.rounds import NEAR_MIN, grouped
from powercore.rotation.polish.times import with_rounder_times
from powercore.rotation.timetable import Prices, timetable
from powercore.rotation.tours.arrays import arrays_of
from powercore.rotation.tours.prices import together_saves
from powercore.rotation.tours.table import laid
from powercore.rotation.verify import verify
from tests.builders import make_battery, make_scenario, make_station, open_all
from tests.powercore.rotation.test_rotation import hard, leg


def before_minute(legs, minute):
    """What of a rotation is before a minute."""
    return {
        (x.kind, x.battery, x.place, x.start_min, min(x.end_min, minute))
        for x in legs
        if x.start_min < minute
    }


#: Two stations 10 and 12 min from the yard, a swap at each, half an hour apart.
STATIONS = tuple(
    make_station(key, amps=4.0, walk_min=walk, openings=open_all(360))
    for key, walk in (("esker", 10), ("drumlin", 12))
)
#: Some 310 m from each other: seven minutes with a battery.
SPOTS = (
    Spot(key="esker", latitude=46.0, longitude=-94.0),
    Spot(key="drumlin", latitude=46.0, longitude=-93.996),
)


def event(mass_kg=3.0, spots=SPOTS, **values):
    """Two stations, four batteries, a crew."""
    batteries = tuple(make_battery(f"k{n}", mass_kg=mass_kg) for n in range(4))
    return make_scenario(
        span_min=360, stations=STATIONS, batteries=batteries, spots=spots, **values
    )


def crews(people):
    """A crew of so many, and somebody at the yard."""
    return tuple(
        CrewPlan(name=does, does=does, start_min=0, end_min=360, people=people)
        for does in ("walks", "yard")
    )


def swap(station, old, new, minute, walk, number):
    """The lives of two batteries with one swap between them."""
    walked = {"crew": "crew", "round": number}
    return [
        leg(SERVE, old, station, 0, minute),
        leg(CARRIED, old, "", minute, minute + walk, **walked),
        leg(WAIT, old, YARD, minute + walk, 360),
        leg(WAIT, new, YARD, 0, minute - walk),
        leg(CARRIED, new, "", minute - walk, minute, **walked),
        leg(SERVE, new, station, minute, 360),
    ]


APART = (
    *swap("esker", "k0", "k1", 180, 10, 1),
    *swap("drumlin", "k2", "k3", 210, 12, 2),
)


def together(minute, number=1):
    """One round by hand: Esker at 180, Drumlin at a minute, home from there."""
    legs = [
        *swap("esker", "k0", "k1", 180, 10, number),
        *swap("drumlin", "k2", "k3", minute, 12, number),
    ]
    home = minute + 12
    legs[1], legs[2] = replace(legs[1], end_min=home), replace(legs[2], start_min=home)
    legs[9], legs[10] = replace(legs[9], end_min=170), replace(legs[10], start_min=170)
    return tuple(legs)


def test_two_walks_that_lie_close_become_one_round():
    """Esker at 180, on to Drumlin, home; nothing else is lost by it."""
    problem = Problem(event())
    way = walking_min(46.0, -94.0, 46.0, -93.996)
    assert problem.between_min("esker", "drumlin") == way < 10

    made = grouped(problem, APART)

    report = verify(problem, made)
    assert report.is_valid, report.broken
    assert report.outcome.walks == 1
    assert report.outcome.unserved_wh == 0
    swaps = sorted(x.start_min for x in made if x.kind == SERVE and x.start_min)
    assert swaps[1] - swaps[0] == way
    assert grouped(problem, made) == made


@pytest.mark.parametrize(
    ("minute", "values", "rule"),
    [
        (187, {}, None),
        (183, {}, "round_too_fast"),
        (187, {"spots": ()}, "round_too_fast"),
        (202, {"spots": ()}, None),
        (187, {"mass_kg": 13.0}, "round_too_heavy"),
        (187, {"mass_kg": None}, None),
        (187, {"mass_kg": 6.0, "crews": crews(1)}, None),
        (187, {"mass_kg": 7.0, "crews": crews(1)}, "round_too_heavy"),
        (187, {"mass_kg": 15.0, "crews": crews(3)}, None),
    ],
)
def test_a_round_is_walked_in_time_and_carried_by_its_crew(minute, values, rule):
    """Without a map the way is by the yard; two of 13 kg are too much at once."""
    problem = Problem(event(**values))
    name = problem.scenario.crews[0].name
    legs = [replace(x, crew=name if x.crew else "") for x in together(minute)]
    report = verify(problem, legs)

    assert {broken.rule for broken in report.broken} == ({rule} if rule else set())


def test_hands_are_counted_as_well_as_kilograms():
    """Three light packs out to two stations are one too many for one pair of hands."""
    spare = (
        leg(WAIT, "k4", YARD, 0, 170),
        leg(CARRIED, "k4", "", 170, 180, crew="walks", round=1),
        leg(WAIT, "k4", "esker", 180, 360),
    )
    there = (replace(STATIONS[0], spares=1), STATIONS[1])
    packs = tuple(make_battery(f"k{n}", mass_kg=1.0) for n in range(5))
    for people, rules in ((1, {"round_too_many"}), (2, set())):
        scenario = replace(event(crews=crews(people)), stations=there, batteries=packs)
        legs = [replace(x, crew="walks" if x.crew else "") for x in together(187)]
        found = verify(Problem(scenario), (*legs, *spare)).broken
        assert {broken.rule for broken in found} == rules


def test_heavy_batteries_stay_on_rounds_of_their_own():
    """25 kg at once are what two people carry."""
    problem = Problem(event(mass_kg=13.0))

    assert grouped(problem, APART) == APART


@pytest.mark.parametrize(
    ("zone", "minutes", "moved"),
    [
        ("UTC", (187, 203), (180, 180)),
        ("UTC", (180, 210), (180, 180)),
        ("UTC", (240, 165), (240, 162)),  # leaves when its shift begins
        ("Asia/Kolkata", (187, 203), (210, 210)),  # five and a half hours ahead
    ],
)
def test_walks_are_at_full_hours_and_changes_of_shift(zone, minutes, moved):
    """Each swap goes to the nearest time that is easily kept in mind."""
    late = CrewPlan(name="late", does="walks", start_min=150, end_min=360)
    problem = Problem(event(zone=zone, crews=(*crews(2), late)))
    esker, drumlin = minutes
    legs = [
        *swap("esker", "k0", "k1", esker, 10, 1),
        *swap("drumlin", "k2", "k3", drumlin, 12, 2),
    ]
    name_of = {None: "", 1: "walks", 2: "late"}
    legs = tuple(replace(x, crew=name_of[x.round]) for x in legs)

    made = with_rounder_times(problem, legs)

    assert verify(problem, made).is_valid
    swaps = {x.place: x.start_min for x in made if x.kind == SERVE and x.start_min}
    assert (swaps["esker"], swaps["drumlin"]) == moved


@pytest.mark.parametrize("better", [grouped, with_rounder_times])
@settings(max_examples=20, deadline=None)
@given(hard(), st.integers(0, 200))
def test_a_rotation_made_neater_is_valid_and_never_worse(better, scenario, until):
    """Whatever the event: no rule is broken, no walk added, the past is left alone."""
    light = tuple(replace(one, mass_kg=2.0) for one in scenario.batteries)
    problem = Problem(replace(scenario, batteries=light))
    legs = construct(problem, STYLES[:1])

    made = better(problem, legs, keep_until_min=until)

    before, after = verify(problem, legs), verify(problem, made)
    assert after.is_valid, after.broken
    assert after.outcome.walks <= before.outcome.walks
    assert before_minute(made, until) == before_minute(legs, until)
    keys = [
        key_of(problem, some, report.outcome)
        for some, report in ((made, after), (legs, before))
    ]
    assert keys[0] <= keys[1]


@given(
    st.lists(st.tuples(st.integers(0, 1), st.integers(1, 11)), unique=True, max_size=10)
)
def test_the_search_counts_on_rounds_to_several_stations(stops):
    """Two stops just right for one round save a share of one; far ones nothing."""
    problem = Problem(event())
    table = timetable(problem, prices=Prices(stop=1.0, together=0.5))
    arrays = arrays_of(table, together=table.together)
    nowhere = np.zeros((len(table.batteries), table.count), dtype=np.int64)
    state = laid(nowhere, arrays)
    way = problem.between_min("esker", "drumlin")

    def saved(some):
        state.stops[:] = 0
        for station, point in some:
            state.stops[station, point] = 1
        return together_saves(arrays, state)

    total = saved(stops)
    assert 0 <= total <= 0.5 * (2 * len(stops) // 3) + 1e-9
    pairs = [
        0.5 * max(0.0, 1 - abs(abs(table.points[i] - table.points[j]) - way) / NEAR_MIN)
        for (a, i), (b, j) in combinations(stops, 2)
        if a != b
    ]
    if len(stops) == 2:
        assert total == pytest.approx(sum(pairs))
    assert (total > 0) == any(worth > 0 for worth in pairs)
    for stop in stops:
        assert saved([one for one in stops if one != stop]) <= total + 0.5
