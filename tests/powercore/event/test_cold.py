"""Cold: what batteries then can't give, and where they must not be charged."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.event.plans import SkyHour
from powercore.event.problem import CHARGE, SERVE, WAIT, YARD, Problem
from powercore.futures.advice import advice
from powercore.futures.budget import endurance, no_sun
from powercore.futures.draws import likely
from powercore.futures.replay import replay
from powercore.rotation.verify import verify
from powercore.sun.sources import Supply
from powercore.values import Window
from tests.builders import make_battery, make_pack, make_scenario, make_station
from tests.powercore.rotation.test_rotation import leg

DAY = 1440


def at(cold_c, **values):
    """The usual day with one station that gets so cold."""
    station = make_station(amps=2.0, cold_c=cold_c, **values)
    return Problem(make_scenario(stations=(station,)))


def lasts(cold_c):
    """Hours to reserve and to the disconnect of a full battery there."""
    found = endurance(at(cold_c), "esker")[0]
    return found.to_reserve_h, found.to_disconnect_h


@pytest.mark.parametrize(("cold_c", "share"), [(-20, 0.7), (0, 0.87), (25, 1), (40, 1)])
def test_a_cold_battery_lasts_so_much_less(cold_c, share):
    """LiFePO4 gives 70 % at -20 °C and 87 % at 0 °C: common practice, no source."""
    assert lasts(cold_c) == pytest.approx([share * hours for hours in lasts(None)])


@given(st.floats(-40, 40), st.floats(-40, 40))
def test_colder_never_lasts_longer(one, other):
    """Both ends come earlier or at the same time."""
    cold, warm = sorted((one, other))
    assert all(a <= b + 1e-9 for a, b in zip(lasts(cold), lasts(warm), strict=True))


def test_lithium_is_not_charged_in_the_cold_unless_it_warms_itself():
    """Not on a bay at 0 °C; lead-acid is, and so is a heated pack."""
    batteries = (
        make_battery("k01", start_soc=0.4),
        make_battery("k02", start_soc=0.4, is_heated=True),
        make_battery("k03", pack=make_pack(chemistry="agm", series=6)),
    )
    event = make_scenario(batteries=batteries, yard_cold_c=0.0)
    event = replace(
        event, bays=(replace(event.bays[0], chemistries=("lifepo4", "agm")),)
    )
    problem, bay = Problem(event), event.bays[0].key

    assert "never charged at or below 0 °C" in problem.bay_refusal(bay, "k01")
    assert problem.bay_refusal(bay, "k02") is None
    assert problem.bay_refusal(bay, "k03") is None
    assert Problem(replace(event, yard_cold_c=1.0)).bay_refusal(bay, "k01") is None
    for key, broken in (("k01", ["bay_refuses_battery"]), ("k02", [])):
        legs = [
            leg(CHARGE, key, bay, 0, 60),
            leg(WAIT, key, YARD, 60, DAY),
            *(leg(WAIT, one.key, YARD, 0, DAY) for one in batteries if one.key != key),
        ]
        assert [one.rule for one in verify(problem, legs).broken] == broken


@pytest.mark.parametrize("cold_c", [None, -5.0])
def test_what_charges_at_a_frozen_station_is_not_counted_on_and_warned_of(cold_c):
    """A supply there feeds the load, and charges only where it is warm."""
    mains = Supply(
        kind="mains",
        name="mains",
        max_w=200,
        windows=(Window(start_min=120, end_min=600),),
        charges=True,
    )
    problem = at(cold_c, supplies=(mains,))
    legs = [leg(SERVE, "k01", "esker", 0, DAY), leg(WAIT, "k02", YARD, 0, DAY)]
    outcome = verify(problem, legs).outcome
    minutes = outcome.total_min("off_air")

    futures = likely(problem, no_sun(problem), count=1)
    planned = replay(problem, legs, futures, 0).off_air_min[0, 0]
    assert planned == pytest.approx(minutes, abs=0.1)
    warm = verify(at(None, supplies=(mains,)), legs).outcome.total_min("off_air")
    stops = [one.words for one in advice(problem) if one.severity == "stop"]
    if cold_c is None:
        assert not any("must be off" in words for words in stops)
    else:
        assert minutes > warm + 60
        assert any("mains" not in words and "must be off" in words for words in stops)


def test_a_cold_forecast_that_nobody_heeds_is_said():
    """Until it says how cold it gets at the stations and in the yard."""
    event = make_scenario(sky=(SkyHour(start_min=0, air_c=-7.0),))

    def said(scenario):
        return [
            a.words for a in advice(Problem(scenario)) if "forecast goes" in a.words
        ]

    (words,) = said(event)
    assert "-7 °C" in words
    assert "the yard" in words
    stations = tuple(replace(one, cold_c=-7.0) for one in event.stations)
    assert not said(replace(event, stations=stations, yard_cold_c=15.0))
