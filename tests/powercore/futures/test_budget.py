"""The ledger, its stock lines, its claims, and what a change would buy."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import UnknownKey
from powercore.event.plans import SkyHour
from powercore.event.problem import Leg, Problem
from powercore.event.sky import SkyView, sunshine
from powercore.futures.budget import ledger, ledgers, ledgers_of, no_sun
from powercore.futures.stock import (
    daily_balance,
    fuel_lines,
    origins,
    spoils_own_power,
    stock_lines,
    stretches,
)
from powercore.futures.whatif import Change, usual_changes, what_if
from powercore.rotation.construct import STYLES, construct
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import SourcePlan, Supply
from powercore.values import Window
from tests.builders import make_battery, make_scenario, make_station, steady
from tests.powercore.sun.test_sources import fuel, generator

DAY = (Window(start_min=0, end_min=1440),)
PANEL = Array(name="panel", vmp_v=18, imp_a=5.56, voc_v=22.3, isc_a=6.0)
LAKES = Site(latitude=46.12, longitude=-95.4, altitude_m=400)


def alone(battery: str = "k01", station: str = "esker", end: int = 1440) -> Leg:
    """A battery that serves a station from start to end."""
    return Leg(kind="serve", battery=battery, place=station, start_min=0, end_min=end)


def sunny(**values):
    """A day at the lakes with a 100 W panel at the station."""
    return make_scenario(
        zone="America/Chicago",
        site=LAKES,
        stations=(make_station(amps=2.0, arrays=(PANEL,)),),
        **values,
    )


def suns_of(scenario, *skies):
    """Sunshine in the ledger's form."""
    found = {}
    for sky in skies:
        shine = sunshine(scenario, sky)
        found[sky] = (list(shine.stations.values()), list(shine.sources.values()))
    return found


def test_one_pack_against_a_day():
    """8 Ah at 1.5 A last 5.33 h; with 20 % kept back 4.27 h."""
    # Common practice, no source; arithmetic by hand at a flat 12.8 V.
    problem = Problem(
        make_scenario(
            stations=(make_station(amps=1.5),), batteries=(make_battery("k01", 8),)
        )
    )
    feed = problem.feed("esker", "k01")
    line = ledger(problem, (alone(),)).stations[0]
    watts = 1.5 * 12.8
    hours = (1 - feed.floor_soc) * feed.capacity_wh / watts

    assert line.need_wh == pytest.approx(1.5 * 12.8 * 24)
    assert line.on_air_h == pytest.approx(hours)
    # The pack gives 8 Ah at a little over 12.8 V, and ends a little above empty.
    assert line.on_air_h / (1 - feed.floor_soc) == pytest.approx(8 / 1.5, rel=0.03)
    assert line.on_air_bad_h < line.on_air_h
    assert line.first_off_bad_min < line.first_off_min
    assert line.kit_wh + line.uncovered_wh == pytest.approx(line.need_wh)


def test_every_column_adds_up_to_the_need():
    """Kit, carried, sun, power there and not covered are what is needed."""
    scenario = sunny(batteries=(make_battery("k01", 10), make_battery("k02", 10)))
    supply = Supply(
        kind="vehicle",
        max_w=40,
        windows=(Window(start_min=600, end_min=700),),
        charges=True,
    )
    station = dataclasses.replace(scenario.stations[0], supplies=(supply,))
    scenario = dataclasses.replace(scenario, stations=(station,))
    problem = Problem(scenario)
    found = ledgers(
        problem, construct(problem, STYLES[:1]), suns_of(scenario, "none", "clear")
    )

    for one in found.values():
        line = one.stations[0]
        reached = line.kit_wh + line.carried_wh + line.sun_wh + line.supplied_wh
        assert reached + line.uncovered_wh == pytest.approx(line.need_wh, rel=1e-6)
    assert found["none"].stations[0].sun_wh == 0
    assert found["clear"].stations[0].sun_wh > 100


def test_clear_beats_forecast_beats_none():
    """Under more light a station goes off the air later."""
    # Flat: a tilted panel with the evening sun behind it may gain by clouds.
    flat = dataclasses.replace(PANEL, tilt=0)
    scenario = dataclasses.replace(
        sunny(sky=(SkyHour(start_min=0, oktas=6, air_c=20),)),
        stations=(make_station(amps=2.0, arrays=(flat,)),),
    )
    problem = Problem(scenario)
    found = ledgers(problem, (alone(),), suns_of(scenario, "none", "forecast", "clear"))
    first = [found[sky].stations[0].first_off_min for sky in found]

    assert first == sorted(first)
    assert first[0] < first[-1]


@given(reserve=st.floats(0.0, 0.6), more=st.floats(0.0, 0.3))
def test_a_higher_reserve_never_lengthens_life(reserve, more):
    """The promise moves; hours on the air and off it don't gain from it."""

    def line(value: float):
        battery = make_battery("k01", 10)
        pack = dataclasses.replace(battery.pack, reserve=value)
        scenario = make_scenario(batteries=(dataclasses.replace(battery, pack=pack),))
        return ledger(Problem(scenario), (alone(),)).stations[0]

    low, high = line(reserve), line(reserve + more)

    assert high.on_air_h <= low.on_air_h + 1e-9
    assert high.reserve_min >= low.reserve_min - 1e-9


def test_stock_line_of_the_night():
    """Need in the quiet hours against what is at hand when they begin."""
    scenario = make_scenario(
        stations=(make_station(amps=2.0),),
        batteries=(make_battery("k01", 20),),
        sources=(
            SourcePlan(
                key="mains",
                name="mains",
                kind="mains",
                max_w=500,
                windows=(Window(start_min=0, end_min=600),),
            ),
        ),
    )
    problem = Problem(scenario)
    legs = (alone(),)
    windows = stretches(problem, None)
    line = stock_lines(problem, legs, ledger(problem, legs).runs, windows)[0]

    assert windows == [Window(start_min=600, end_min=1440)]
    assert line.need_wh == pytest.approx(2 * 12.8 * 14)
    # By hand: 20 Ah less 20 Ah drawn in ten hours leaves nothing above reserve.
    assert line.have_wh == 0
    assert line.short_wh == pytest.approx(line.need_wh)
    assert any("more full pack" in closer.words for closer in line.closers)


def test_dark_is_what_the_sun_says():
    """At the lakes in June the night lasts 8 h 20 min or so."""
    scenario = sunny(starts_at="2026-06-27T18:00:00+00:00")
    view = SkyView.of(scenario)
    assert view is not None
    night = stretches(Problem(scenario), view.is_dark)

    assert len(night) == 1
    assert 8.0 < (night[0].end_min - night[0].start_min) / 60 < 9.0


def test_a_claim_to_run_for_ever():
    """380 Wh out and 295 Wh in on a clear day end after 4.5 days on 384 Wh."""
    problem = Problem(
        make_scenario(
            stations=(make_station(amps=380 / 24 / 12.8),),
            batteries=(make_battery("k01", 30),),
        )
    )
    feed = problem.feed("esker", "k01")
    found = daily_balance(problem, "esker", 295.0, "k01")

    assert found.out_wh == pytest.approx(380)
    assert found.lasts_days == pytest.approx(
        (1 - feed.floor_soc) * feed.capacity_wh / 85
    )
    assert daily_balance(problem, "esker", 400.0, "k01").lasts_days is None


def test_own_power_is_spoilt_by_the_mains():
    """A charge from the hall and mains at a station are named; a generator isn't."""
    scenario = make_scenario(is_own_power=True)
    charge = Leg(kind="charge", battery="k02", place="bay1", start_min=0, end_min=90)
    rest = Leg(kind="wait", battery="k02", place="yard", start_min=90, end_min=1440)
    problem = Problem(scenario)
    found = spoils_own_power(problem, (alone(), charge, rest))
    ours = Problem(
        dataclasses.replace(
            scenario,
            sources=(dataclasses.replace(scenario.sources[0], kind="generator"),),
        )
    )

    assert [one.words for one in found] == ["K02 on Bay 1 from mains"]
    assert spoils_own_power(ours, (alone(), charge, rest)) == []


def test_origins_are_mixed_like_water():
    """Half full from home, filled by a generator: what comes out is half and half."""
    scenario = make_scenario(
        span_min=1440,
        batteries=(make_battery("k01", 20, start_soc=0.5, start_place="bay1"),),
        sources=(generator(),),
        bays=(dataclasses.replace(make_scenario().bays[0], source="gen"),),
        stations=(make_station(amps=0.5, walk_min=5),),
    )
    problem = Problem(scenario)
    legs = (
        Leg(kind="charge", battery="k01", place="bay1", start_min=0, end_min=300),
        Leg(
            kind="carried",
            battery="k01",
            place="",
            start_min=300,
            end_min=305,
            crew="crew",
            round=1,
        ),
        Leg(kind="serve", battery="k01", place="esker", start_min=305, end_min=1440),
    )
    found = origins(problem, legs, ledger(problem, legs).runs)

    assert found["home"] == pytest.approx(found["generator"], rel=0.02)


def test_fuel_line_says_when_it_runs_dry():
    """Little on hand: it ends before the event, and what is missing is named."""
    scenario = make_scenario(sources=(generator(fuel=fuel(on_hand_l=4.0)),), bays=())
    problem = Problem(scenario)
    line = fuel_lines(problem, ledger(problem, (alone(),)).runs)[0]

    assert line.running.dry_min is not None
    assert line.running.dry_min < 1440
    assert line.missing_l == pytest.approx(line.running.needs_l - 4.0)


def test_what_a_change_would_buy():
    """Low power, a spare and a panel lengthen life; each by its own energy."""
    scenario = sunny(batteries=(make_battery("k01", 10), make_battery("k02", 10)))
    radio = dataclasses.replace(steady(3.0), name="radio", low=steady(1.0).draw)
    station = dataclasses.replace(scenario.stations[0], loads=(radio,), arrays=())
    scenario = dataclasses.replace(scenario, stations=(station,))
    problem, legs = Problem(scenario), (alone(),)
    suns = suns_of(scenario, "none", "clear")
    usual = usual_changes(problem, legs, "esker", Window(start_min=480, end_min=960))
    clear = {"clear": suns["clear"]}
    gains = {
        gain.change.kind: gain
        for gain in what_if(problem, legs, clear, "esker", usual, count=5)
    }
    low = gains["low"]
    given = low.before.kit_wh

    assert {"low", "spare", "panels"} <= set(gains)
    # In the dark hours only the third of it is drawn: the last change of that kind.
    assert low.after.need_wh < low.before.need_wh
    # The spare takes over at the reserve, a fifth of the first pack.
    assert gains["spare"].on_air_h == pytest.approx(0.85 * given / 38.4, rel=0.06)
    assert gains["panels"].on_air_h > 0
    everywhere = what_if(
        problem,
        legs,
        no_sun(problem),
        "esker",
        [Change(words="low", kind="low")],
        count=5,
    )[0]
    assert everywhere.after.on_air_h == pytest.approx(
        3 * everywhere.before.on_air_h, rel=0.03
    )


def test_cases_worked_out_together_are_as_alone():
    """Two sets of numbers in one run give what each gives by itself."""
    one = Problem(sunny(batteries=(make_battery("k01", 10), make_battery("k02", 10))))
    hungry = dataclasses.replace(
        one.scenario, stations=(make_station(amps=3.0, arrays=(PANEL,)),)
    )
    other, legs = Problem(hungry), construct(one, STYLES[:1])
    suns = suns_of(one.scenario, "none", "clear")
    together = ledgers_of([one, other], legs, [suns, suns], count=4)
    alone_too = [ledgers(problem, legs, suns, count=4) for problem in (one, other)]

    for both, by_itself in zip(together, alone_too, strict=True):
        for sky in suns:
            assert both[sky].stations == by_itself[sky].stations


def test_sun_goes_into_a_buffer_bank_in_the_yard():
    """Panels fill a bank up to what it holds; the rest is nobody's."""
    bank = SourcePlan(
        key="bank",
        name="bank",
        kind="buffer",
        max_w=300,
        windows=DAY,
        energy_wh=100,
        capacity_wh=400,
        arrays=(PANEL,),
    )
    scenario = dataclasses.replace(sunny(), sources=(bank,), bays=())
    problem = Problem(scenario)
    found = ledgers(problem, (alone(),), suns_of(scenario, "none", "clear"))

    assert found["none"].runs.store_wh[0, -1, 0] == pytest.approx(100)
    assert found["clear"].runs.store_wh[0, -1, 0] == pytest.approx(400)
    assert np.isfinite(found["clear"].runs.soc).all()


def test_a_generator_fills_a_bank_by_day():
    """120 W for the two hours it runs; what it fills is not left for chargers."""
    source = generator(windows=(Window(start_min=0, end_min=120),))
    bank = SourcePlan(
        key="bank",
        name="bank",
        kind="buffer",
        max_w=300,
        windows=DAY,
        energy_wh=100,
        capacity_wh=400,
        filled_from="gen",
        fill_w=120,
    )
    problem = Problem(make_scenario(sources=(source, bank), bays=()))
    runs = ledger(problem, (alone(),)).runs

    assert problem.sources["gen"].max_w == pytest.approx(1600 - 120)
    assert runs.store_wh[0, -1].tolist() == pytest.approx([0, 340])
    with pytest.raises(UnknownKey, match="filled from an unknown source"):
        make_scenario(sources=(bank,), bays=())
