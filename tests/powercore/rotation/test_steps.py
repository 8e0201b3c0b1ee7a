"""Low power chosen by the search: as late as it does, and never for a lower tier."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from powercore.errors import UnknownKey
from powercore.event.plans import LOW, NO_WALK, Pin
from powercore.event.problem import Problem
from powercore.physics.loads import Draw, Load
from powercore.rotation.construct import construct
from powercore.rotation.objective import key_of
from powercore.rotation.proof.climb import climb, prove
from powercore.rotation.proof.master import Master
from powercore.rotation.search.improve import Aim, improve
from powercore.rotation.timetable import Prices, places_of, steps_of, timetable
from powercore.rotation.tours.arrays import arrays_of
from powercore.rotation.tours.recreate import Effort, search
from powercore.rotation.tours.table import laid
from powercore.rotation.verify import verify
from tests.builders import make_battery, make_scenario, make_station, open_all
from tests.powercore.rotation.test_rotation import hard, in_short_passes

SPAN = 480
#: No walks at all: what is there from the start must do.
NO_WALKS = Pin(kind=NO_WALK, start_min=0, end_min=SPAN)


def two_steps(key: str, amps: float, low_amps: float, **values):
    """A station with a steady draw, and a lower one."""
    full, low = (
        Draw(receive_a=a, transmit_idle_a=a, key_down_a=a) for a in (amps, low_amps)
    )
    return make_station(
        key, loads=(Load(draw=full, low=low),), openings=open_all(SPAN), **values
    )


def one_battery_each(*stations, ah=20):
    """An event in which nobody walks."""
    batteries = tuple(make_battery(f"k{n}", ah=ah) for n in range(len(stations)))
    return make_scenario(
        span_min=SPAN,
        stations=stations,
        batteries=batteries,
        lateness_min=0,
        pins=(NO_WALKS,),
    )


def off_min(problem, found, station):
    outcome = verify(problem.with_steps(found.steps), found.legs).outcome
    falls = [
        f for f in outcome.shortfalls if (f.station, f.what) == (station, "off_air")
    ]
    return sum(fall.open_min for fall in falls)


def test_it_goes_to_low_power_at_the_last_moment_that_does():
    """By hand: full power p and low power q for T hours from E: p t + q (T - t) = E."""
    problem = Problem(one_battery_each(two_steps("esker", 4.0, 1.0)))
    plain = improve(problem, construct(problem), Aim(passes=2))
    found = improve(problem, plain.legs, Aim(passes=2, may_lower=True))
    # At the lower current the battery holds a little more.
    feed = problem.with_steps(found.steps).feed("esker", "k0")
    has_wh = (1 - feed.floor_soc) * feed.capacity_wh
    full_w, low_w = (p.load_w["esker"][0] for p in (problem, problem.all_low))
    until_h = (has_wh - low_w * SPAN / 60) / (full_w - low_w)

    (step,) = found.steps
    assert plain.steps == ()
    assert off_min(problem, plain, "esker") > 60
    assert off_min(problem, found, "esker") == 0
    # As late as it does, in steps of five minutes.
    assert step.start_min == 5 * (60 * until_h // 5)
    assert step.end_min == SPAN
    assert found.report.is_valid


def test_it_helps_a_station_by_lowering_another_of_its_tier_not_one_above():
    """One station has no lower step: what the other saves is brought to it."""
    for tier, is_lowered in ((1, True), (2, False)):
        event = make_scenario(
            span_min=SPAN,
            stations=(
                two_steps("lower", 4.0, 1.0),
                make_station("needy", amps=5.0, openings=open_all(SPAN), tier=tier),
            ),
            batteries=tuple(make_battery(f"k{n}", ah=20) for n in range(3)),
            bays=(),
            lateness_min=0,
        )
        problem = Problem(event)
        plain = improve(problem, construct(problem), Aim(passes=3))
        found = improve(problem, plain.legs, Aim(passes=3, may_lower=True))

        assert found.key <= plain.key
        assert bool(found.steps) == is_lowered
        if is_lowered:
            gained = off_min(problem, plain, "needy") - off_min(problem, found, "needy")
            assert gained > 30


def test_steps_stay_as_they_are_where_it_may_not_choose():
    """A rotation's own steps are the event's for it; and come back when it may."""
    event = one_battery_each(two_steps("esker", 4.0, 1.0))
    step = Pin(kind=LOW, place="esker", start_min=60, end_min=SPAN)
    problem = Problem(replace(event, steps=(step,)))
    kept = improve(problem, construct(problem), Aim(passes=1))
    free = improve(problem, kept.legs, Aim(passes=2, may_lower=True))

    assert kept.steps == (step,)
    (later,) = free.steps
    assert later.start_min > 60
    assert free.key < kept.key
    with pytest.raises(UnknownKey, match="low power, nothing else"):
        replace(event, steps=(NO_WALKS,))


def test_a_table_remembers_its_steps():
    """Seats on low power and back: the same stretches, and one leg all the while."""
    step = Pin(kind=LOW, place="esker", start_min=90, end_min=210)
    problem = Problem(one_battery_each(two_steps("esker", 2.0, 1.0)))
    legs = construct(problem)
    table = timetable(problem, extra=(90, 210), may_lower=True)
    at = places_of(table, legs, (step,))

    assert steps_of(table, at) == (step,)
    assert (at == 2).any()
    state = laid(at, arrays_of(table))
    ((_, after),) = verify(problem.with_steps((step,)), legs).outcome.leg_soc
    # The table has the current as agreed, at which a battery holds a little less.
    assert state.soc[0, -1] == pytest.approx(after, abs=0.001)


def test_a_bound_with_low_power_is_not_below_what_is_found():
    """The program over tours knows both seats of a station as one."""
    event = one_battery_each(
        two_steps("a", 4.0, 1.0), two_steps("b", 3.0, 1.0, tier=2), ah=10
    )
    table = timetable(Problem(event), prices=Prices(), may_lower=True)
    arrays = arrays_of(table)
    at = np.zeros((2, table.count), dtype=np.int64)
    none = np.zeros((2, table.count)), np.zeros((len(table.bays), table.count))
    at, value = search(arrays, at, none, Effort(300, 1, 0.01, 48, 2))
    master = Master(table)
    for battery, row in enumerate(at):
        master.add(battery, row)
    bound = prove(master, climb(master, value)).value

    assert (at > 2).any()
    assert value <= bound + 1e-6
    assert bound <= value + 0.02 * table.worth[:2].sum()


@in_short_passes
@settings(max_examples=10)
@given(hard(), st.floats(0.2, 0.9))
def test_with_low_power_it_is_valid_and_never_worse(scenario, share):
    """Whatever the event; every station of it has a lower step."""
    stations = []
    for one in scenario.stations:
        amps = one.loads[0].draw.receive_a * share
        low = Draw(receive_a=amps, transmit_idle_a=amps, key_down_a=amps)
        stations.append(replace(one, loads=(replace(one.loads[0], low=low),)))
    problem = Problem(replace(scenario, stations=tuple(stations)))
    legs = construct(problem)
    before = key_of(problem, legs, verify(problem, legs).outcome)

    found = improve(problem, legs, Aim(passes=1, may_lower=True))

    report = verify(problem.with_steps(found.steps), found.legs)
    assert report.is_valid, report.broken
    assert found.key <= before
