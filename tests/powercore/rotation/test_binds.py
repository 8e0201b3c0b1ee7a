"""What binds a rotation: planted causes are named, and curing them helps."""

from dataclasses import replace

import pytest
from hypothesis import given, settings

from powercore.event.plans import LOW, NO_WALK, Pin
from powercore.event.problem import CARRIED, SERVE, WAIT, YARD, Leg, Problem
from powercore.physics.loads import Draw, Load
from powercore.rotation.binds import binds
from powercore.rotation.construct import construct
from powercore.rotation.verify import verify
from powercore.values import Window
from tests.builders import (
    DAY,
    make_battery,
    make_pack,
    make_scenario,
    make_station,
    open_all,
)
from tests.powercore.rotation.test_rotation import hard

#: 2 A all day are 614 Wh; a 20 Ah pack has some 250.
HUNGRY = make_scenario(stations=(make_station(amps=2.0),))
WALKS, WATCH = HUNGRY.crews
ONE = HUNGRY.batteries[:1]
EMPTY = make_battery("k02", start_soc=0.12)
LATER = replace(WALKS, start_min=0, end_min=300)
DARK = replace(HUNGRY.sources[0], windows=(Window(start_min=0, end_min=1),))
FAR = tuple(
    make_station(key, amps=3.0, walk_min=150, openings=open_all()) for key in "ab"
)
PACKS = tuple(make_battery(f"k{n}") for n in range(1, 7))
#: 40 kg each, and one person to walk.
HEAVY = tuple(replace(one, mass_kg=40.0) for one in HUNGRY.batteries)
ALONE = replace(WALKS, people=1)
#: A radio that drops out at 12.6 V, at the end of a long thin lead.
LONG = make_station(amps=2.0, device_min_v=12.6, path_ohm=0.4)
SMALL = make_battery("k02", pack=make_pack(nameplate_ah=1, tested_ah=1))
#: Takes nothing above 16 V.
FRAIL = make_station(amps=2.0, device_max_v=16.0)
OTHER = make_battery("k03", pack=make_pack(series=8))


def with_(**values):
    """The hungry station's day, with something otherwise."""
    return replace(HUNGRY, **values)


def built(scenario):
    """A plan made at once, and what binds it."""
    problem = Problem(scenario)
    legs = construct(problem)
    outcome = verify(problem, legs).outcome
    return binds(problem, legs, outcome), outcome.total_min("off_air")


@pytest.mark.parametrize(
    ("cause", "scenario", "cured"),
    [
        ("no_battery", with_(batteries=()), HUNGRY),
        (
            "no_fit",
            with_(stations=(FRAIL,), batteries=(OTHER,)),
            with_(stations=(FRAIL,)),
        ),
        ("no_crew", with_(crews=(LATER, WATCH)), HUNGRY),
        (
            "pinned",
            with_(pins=(Pin(kind=NO_WALK, start_min=200, end_min=DAY - 60),)),
            HUNGRY,
        ),
        ("no_power", with_(batteries=(*ONE, EMPTY), sources=(DARK,)), HUNGRY),
        ("no_watch", with_(batteries=(*ONE, EMPTY), crews=(WALKS,)), HUNGRY),
        ("no_bay", with_(batteries=(*ONE, EMPTY), bays=()), HUNGRY),
        ("too_few", with_(batteries=ONE), HUNGRY),
        ("too_cold", with_(batteries=(*ONE, EMPTY), yard_cold_c=-2.0), HUNGRY),
        (
            "too_heavy",
            with_(batteries=HEAVY, crews=(ALONE, WATCH)),
            with_(batteries=HEAVY),
        ),
        ("too_weak", with_(stations=(LONG,)), HUNGRY),
        (
            "crew_busy",
            with_(stations=FAR, batteries=PACKS),
            with_(
                stations=FAR,
                batteries=PACKS,
                crews=(*HUNGRY.crews, replace(WALKS, name="one more")),
            ),
        ),
    ],
)
def test_a_planted_cause_is_named_and_its_cure_helps(cause, scenario, cured):
    """The first stretch off the air has that cause; without it less is off the air."""
    found, off_air = built(scenario)

    assert found.off_air[0].cause == cause
    assert built(cured)[1] < off_air


def stays(battery, place, start, end, kind=SERVE):
    """A leg in a place."""
    return Leg(kind=kind, battery=battery, place=place, start_min=start, end_min=end)


def test_what_a_plan_neglects_is_said():
    """A full battery that nobody brings, and an empty one that nobody charges."""
    problem = Problem(HUNGRY)
    idle = (
        stays("k01", "esker", 0, DAY),
        stays("k02", YARD, 0, DAY, WAIT),
    )
    found = binds(problem, idle, verify(problem, idle).outcome)
    assert (found.off_air[0].cause, found.off_air[0].about) == ("at_hand", "k02")
    assert found.use.bay_used_h == found.use.walked_h == 0
    assert found.use.fewest == 1

    walk = {"kind": CARRIED, "place": "", "crew": "crew", "round": 1}
    uncharged = (
        stays("k01", "esker", 0, 540),
        Leg(battery="k01", start_min=540, end_min=545, **walk),
        stays("k01", YARD, 545, DAY, WAIT),
        stays("k02", YARD, 0, 535, WAIT),
        Leg(battery="k02", start_min=535, end_min=540, **walk),
        stays("k02", "esker", 540, DAY),
    )
    report = verify(problem, uncharged)
    found = binds(problem, uncharged, report.outcome)
    assert report.is_valid
    assert (found.off_air[0].cause, found.off_air[0].about) == ("bay_free", "k01")
    assert found.use.walked_h == pytest.approx(10 / 60)


def test_a_charged_battery_that_would_soon_be_empty_there_is_named():
    """Neither every battery out nor one ready: 1 Ah for a station of 2 A."""
    problem = Problem(with_(batteries=(*ONE, SMALL)))
    legs = (
        stays("k01", "esker", 0, DAY),
        stays("k02", YARD, 0, DAY, kind=WAIT),
    )

    found = binds(problem, legs, verify(problem, legs).outcome)

    assert (found.off_air[0].cause, found.off_air[0].about) == ("too_small", "k02")


def test_why_a_reserve_is_touched():
    """An hour into reserve while another waits charged; low power would avoid it."""
    nine_h = 540
    low = Draw(receive_a=1.0, transmit_idle_a=1.0, key_down_a=1.0)
    load = Load(
        name="radio",
        draw=Draw(receive_a=2.0, transmit_idle_a=2.0, key_down_a=2.0),
        low=low,
    )
    station = make_station(loads=(load,), openings=open_all(nine_h))
    problem = Problem(make_scenario(span_min=nine_h, stations=(station,)))
    legs = (
        stays("k01", "esker", 0, nine_h),
        stays("k02", YARD, 0, nine_h, WAIT),
    )
    outcome = verify(problem, legs).outcome
    found = binds(problem, legs, outcome)

    assert not found.off_air
    (bind,) = found.reserve
    assert bind.open_min == pytest.approx(outcome.total_min("reserve"))
    assert 30 < bind.open_min < 90
    assert (bind.cause, bind.about) == ("at_hand", "k02")
    assert bind.low_from_min is not None
    pin = Pin(kind=LOW, place="esker", start_min=bind.low_from_min, end_min=nine_h)
    lowered = Problem(replace(problem.scenario, pins=(pin,)))
    assert verify(lowered, legs).outcome.total_min("reserve") == pytest.approx(0, abs=5)


def test_what_is_kept_for_a_station_above_is_no_fault_of_the_plan():
    """The last charged pack goes to the first tier later: that is said."""
    low = make_station("low", amps=2.0, tier=3)
    top = make_station("top", amps=1.0, tier=1)
    scenario = with_(
        stations=(low, top),
        batteries=tuple(make_battery(f"k{n}") for n in range(3)),
        bays=(),
    )
    problem = Problem(scenario)
    walk = {"kind": CARRIED, "place": "", "crew": "crew", "round": 1}
    legs = (
        stays("k0", "top", 0, 900),
        Leg(battery="k0", start_min=900, end_min=905, **walk),
        stays("k0", YARD, 905, DAY, WAIT),
        stays("k1", "low", 0, DAY),
        stays("k2", YARD, 0, 895, WAIT),
        Leg(battery="k2", start_min=895, end_min=900, **walk),
        stays("k2", "top", 900, DAY),
    )
    found = binds(problem, legs, verify(problem, legs).outcome)
    assert (found.off_air[0].station, found.off_air[0].cause) == ("low", "kept")
    assert found.off_air[0].about == "top"


def test_low_power_is_offered_as_late_as_it_does():
    """From that minute on nothing is off the air; half an hour later it is."""
    draw = Draw(receive_a=2.0, transmit_idle_a=2.0, key_down_a=2.0)
    low = Draw(receive_a=1.0, transmit_idle_a=1.0, key_down_a=1.0)
    station = make_station(loads=(Load(draw=draw, low=low),))
    scenario = with_(stations=(station,), batteries=ONE, bays=(), span_min=900)
    found, off_air = built(scenario)
    begins = found.off_air[0].low_from_min
    assert off_air > 200
    assert 0 < begins < found.off_air[0].start_min

    def left(start):
        pin = Pin(kind=LOW, place="esker", start_min=start, end_min=900)
        problem = Problem(replace(scenario, pins=(pin,)))
        legs = construct(problem)
        return verify(problem, legs).outcome.total_min("off_air")

    assert left(begins) == 0
    assert left(begins + 30) > 0
    far = replace(scenario, span_min=2 * DAY)
    far = replace(far, stations=(replace(station, openings=open_all(2 * DAY)),))
    assert built(far)[0].off_air[0].low_from_min == 0
    assert built(with_(batteries=ONE))[0].off_air[0].low_from_min is None


@settings(max_examples=25, deadline=None)
@given(hard())
def test_every_stretch_off_the_air_has_one_cause(scenario):
    """Whatever the event, all that is off the air is explained, nothing else is."""
    problem = Problem(scenario)
    legs = construct(problem)
    outcome = verify(problem, legs).outcome
    found = binds(problem, legs, outcome)
    explained = sum(one.open_min for one in found.off_air)
    assert outcome.total_min("off_air") - explained <= len(outcome.shortfalls)
    assert sum(one.open_min for one in found.reserve) <= outcome.total_min("reserve")
    assert found.use.bay_used_h <= found.use.bay_h + 1e-9
    if not scenario.batteries:
        assert {one.cause for one in found.off_air} <= {"no_battery"}
