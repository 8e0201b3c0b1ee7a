"""Replay and simulation: the same numbers, the verifier's minutes, energy kept."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from powercore.event.plans import CLEAR, NO_SUN, BayPlan
from powercore.event.problem import Leg, Problem
from powercore.event.sky import every_sky
from powercore.futures.draws import Runs, likely
from powercore.futures.replay import replay
from powercore.futures.simulate import simulate
from powercore.physics.loads import Load
from powercore.rotation.construct import STYLES, construct
from powercore.rotation.verify import verify
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import SUN, SourcePlan, Supply
from powercore.values import Window
from tests.builders import make_battery, make_scenario, make_station, open_all, steady

SPAN = 480
SUMS = (
    "off_air_min",
    "reserve_min",
    "shed_min",
    "unserved_wh",
    "missed_wh",
    "supplied_wh",
    "sun_wh",
    "spilled_wh",
    "leg_out_wh",
    "leg_sun_wh",
    "leg_fed_wh",
    "source_wh",
)


def sun_of(problem: Problem, station_w: float, source_w: float = 0.0):
    """Panels that give the same all day at every station and source."""
    count = problem.grid.count
    return {
        "none": (
            [np.zeros(count)] * len(problem.stations),
            [np.zeros(count)] * len(problem.sources),
        ),
        "clear": (
            [np.full(count, station_w)] * len(problem.stations),
            [np.full(count, source_w)] * len(problem.sources),
        ),
    }


def unshed(event):
    """The same event with loads that stay on whatever the charge."""
    stations = tuple(
        dataclasses.replace(
            one,
            loads=tuple(dataclasses.replace(load, shed_soc=None) for load in one.loads),
        )
        for one in event.stations
    )
    return dataclasses.replace(event, stations=stations)


@st.composite
def events(draw):
    """Small events with everything that a replay knows."""
    span = SPAN
    mains = Supply(
        kind="mains",
        max_w=draw(st.sampled_from([5.0, 60.0])),
        windows=(Window(start_min=60, end_min=187),),
        charges=draw(st.booleans()),
    )
    stations = tuple(
        make_station(
            f"s{number}",
            draw(st.floats(0.2, 6)),
            openings=open_all(span),
            loads=(
                steady(draw(st.floats(0.2, 6))),
                Load(
                    draw=steady(draw(st.floats(0.1, 2))).draw,
                    shed_soc=draw(st.sampled_from([None, 0.5])),
                ),
            ),
            supplies=(mains,) if draw(st.booleans()) else (),
            rest_min=draw(st.sampled_from([0, 30])),
            cold_c=draw(st.sampled_from([None, None, -6.0])),
        )
        for number in range(draw(st.integers(1, 3)))
    )
    batteries = tuple(
        make_battery(
            f"k{number}",
            draw(st.sampled_from([5.0, 12.0, 20.0])),
            start_soc=draw(st.floats(0.1, 1)),
            is_heated=draw(st.booleans()),
        )
        for number in range(draw(st.integers(1, 5)))
    )
    window = (Window(start_min=0, end_min=draw(st.sampled_from([233, span]))),)
    sources = (
        SourcePlan(
            key="buffer",
            name="buffer",
            kind="buffer",
            max_w=300,
            windows=window,
            energy_wh=draw(st.floats(0, 200)),
            capacity_wh=400,
            filled_from="mains",
            fill_w=draw(st.sampled_from([0.0, 40.0])),
        ),
        SourcePlan(
            key="mains",
            name="mains",
            kind="mains",
            max_w=500,
            windows=(Window(start_min=100, end_min=301),),
        ),
    )
    bays = tuple(
        BayPlan(
            key=f"bay{number}",
            name=f"Bay {number}",
            source="buffer",
            max_w=150,
            chemistries=("lifepo4",),
        )
        for number in range(2)
    )
    return make_scenario(
        span_min=span,
        stations=stations,
        batteries=batteries,
        sources=sources,
        bays=bays,
    )


@settings(max_examples=20)
@given(event=events(), station_w=st.floats(0, 90), source_w=st.floats(0, 60))
def test_simulation_equals_the_reference(event, station_w, source_w):
    """Every future gives what the plain replay gives, to 1e-9."""
    problem = Problem(event)
    legs = construct(problem, STYLES[:1])
    futures = likely(problem, sun_of(problem, station_w, source_w), count=1)
    rng, hours = np.random.default_rng(2), problem.span_min // 60 + 1
    futures = dataclasses.replace(
        futures,
        traced=np.ones(futures.count, dtype=bool),
        use_by_hour=rng.uniform(0.5, 1.5, (*futures.demand.shape, hours)),
        light_by_hour=rng.uniform(0.2, 1.2, (futures.count, hours)),
        bay_rate=rng.uniform(0.2, 1.5, (futures.count, len(problem.bays))),
    )
    many = simulate(problem, legs, futures)

    for index in range(futures.count):
        one = replay(problem, legs, futures, index)
        for name in (*SUMS, "soc", "store_wh", "first_off_min", "leg_end"):
            np.testing.assert_allclose(
                getattr(many, name)[index : index + 1],
                getattr(one, name),
                rtol=1e-9,
                atol=1e-7,
                err_msg=name,
            )


@settings(max_examples=30)
@given(
    event=events(),
    sky=st.sampled_from([NO_SUN, CLEAR]),
    watts=st.sampled_from([20.0, 60.0, 200.0]),
    charged_by=st.sampled_from(["buffer", "sun"]),
)
def test_the_planned_future_has_the_verifier_s_minutes(event, sky, watts, charged_by):
    """Off the air and in reserve, with the sun and the supplies that plans count on."""
    panel = Array(vmp_v=18, imp_a=watts / 18, voc_v=22.3, isc_a=1.1 * watts / 18)
    buffer, mains = event.sources
    full = dataclasses.replace(
        buffer, energy_wh=5000.0, capacity_wh=5000.0, arrays=(panel,)
    )
    panels = SourcePlan(
        key="sun", name="sun", kind=SUN, max_w=250, windows=(), arrays=(panel,)
    )
    plain = dataclasses.replace(
        unshed(event),
        sources=(full, mains, panels),
        bays=(event.bays[0], dataclasses.replace(event.bays[1], source=charged_by)),
    )
    sunny = dataclasses.replace(
        plain,
        yard_sky=sky,
        site=Site(latitude=46.1, longitude=-95.4),
        first_tier_sky=sky,
        other_sky=sky,
        stations=tuple(
            dataclasses.replace(one, arrays=(panel,), rest_min=0)
            for one in plain.stations
        ),
    )
    problem = Problem(sunny)
    legs = construct(problem, STYLES[:1])
    outcome = verify(problem, legs).outcome
    skies = {sky: every_sky(sunny)[sky]}
    runs = simulate(problem, legs, likely(problem, skies, count=0))

    assert runs.off_air_min[0].sum() == pytest.approx(
        outcome.total_min("off_air"), abs=1e-3
    )
    assert runs.reserve_min[0].sum() == pytest.approx(
        outcome.total_min("reserve"), abs=1e-3
    )


@settings(max_examples=20)
@given(event=events(), station_w=st.floats(0, 90))
def test_energy_is_accounted_for(event, station_w):
    """What loads ask for is served by something, shed or not served."""
    problem = Problem(event)
    legs = construct(problem, STYLES[:1])
    futures = likely(problem, sun_of(problem, station_w), count=2)
    runs = simulate(problem, legs, futures)
    served = runs.supplied_wh.sum(1) + runs.sun_wh.sum(1) + runs.leg_out_wh.sum(1)
    asked = sum(
        futures.demand[:, number] * problem.load_w[key].sum() / 12
        for number, key in enumerate(problem.stations)
    )
    is_plain = runs.shed_min.sum(1) == 0

    assert (served[is_plain] + runs.unserved_wh.sum(1)[is_plain]) == pytest.approx(
        asked[is_plain], rel=1e-6
    )
    assert (runs.soc >= -1e-9).all()
    assert (runs.soc <= 1 + 1e-9).all()


@settings(max_examples=20)
@given(event=events(), watts=st.floats(0, 60), more=st.floats(0, 60))
def test_more_sun_never_shortens_life(event, watts, more):
    """No station goes off the air earlier because a panel gives more."""
    # Sheds apart: with more light a load may stay on, and cost more in the end.
    problem = Problem(unshed(event))
    legs = construct(problem, STYLES[:1])
    little = off_air(problem, legs, watts)
    much = off_air(problem, legs, watts + more)

    # Hours in all may differ by minutes: a disconnect waits before it lets go.
    first = np.nan_to_num(little.first_off_min[1], nan=1e9)
    assert (np.nan_to_num(much.first_off_min[1], nan=1e9) >= first - 1e-6).all()


def off_air(problem: Problem, legs: tuple[Leg, ...], watts: float) -> Runs:
    """Runs without and with panels that give so much."""
    return simulate(problem, legs, likely(problem, sun_of(problem, watts), count=0))


def test_hourly_walk_by_hand():
    """A worked walk: 100 Ah from 80 %, loads of 1 and 3 A, sun of 0 to 5 A."""
    # Worked by hand: after hours 6, 9, 12, 14, 18 and 24 there are 74, 68, 70.97,
    # 73.94, 67.94 and 61.94 Ah; net charge counts 99 %.
    hours = [1] * 6 + [3] * 12 + [1] * 6
    sun_a = [0] * 6 + [0, 1, 2, 3, 4, 5, 5, 4, 3, 2, 1, 0] + [0] * 6
    battery = make_battery("k01", 100, start_soc=0.8)
    problem = Problem(
        make_scenario(
            stations=(make_station(amps=1.0),),
            batteries=(battery,),
        )
    )
    feed = problem.feed("esker", "k01")
    volts = feed.capacity_wh / 100
    problem.load_w["esker"][:] = np.repeat(hours, 12) * volts
    legs = (Leg(kind="serve", battery="k01", place="esker", start_min=0, end_min=1440),)
    # The charge efficiency of the model is in its volts: 14.4 V go in for 1 Ah.
    per_ah = problem.bay_w("k01", 1.0)
    net = np.array(sun_a) - hours
    offered = np.where(
        net > 0, np.array(hours) * volts + net * 0.99 * per_ah, np.array(sun_a) * volts
    )
    sky = {"clear": ([np.repeat(offered, 12)], [np.zeros(288)])}
    runs = simulate(problem, legs, likely(problem, sky, count=0))
    left = np.interp(
        np.array([6, 9, 12, 14, 18, 24]) * 60, runs.times_min, runs.soc[0, :, 0] * 100
    )

    assert left == pytest.approx([74, 68, 70.97, 73.94, 67.94, 61.94], abs=0.005)
    assert runs.unserved_wh.sum() == 0


def test_power_comes_back_in_the_morning():
    """Cut off in the night, the station returns when its panel filled the battery."""
    problem = Problem(
        make_scenario(
            stations=(make_station(amps=2.0, rest_min=20),),
            batteries=(make_battery("k01", 10),),
        )
    )
    sun = np.zeros(288)
    sun[144:] = 90.0
    legs = (Leg(kind="serve", battery="k01", place="esker", start_min=0, end_min=1440),)
    runs = simulate(
        problem, legs, likely(problem, {"clear": ([sun], [np.zeros(288)])}, count=0)
    )
    off_h = runs.off_air_min[0, 0] / 60

    assert 6.5 < off_h < 8.5
    assert runs.first_off_min[0, 0] == pytest.approx(60 * 4.5, abs=40)
    assert runs.soc[0, -1, 0] > 0.9
