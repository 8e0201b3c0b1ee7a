"""Panels at the charging yard: straight on the bays, or into a bank that charges."""

from dataclasses import replace

import numpy as np
import pytest

from powercore.event.plans import CLEAR, NO_SUN, BayPlan
from powercore.event.problem import CHARGE, Leg, Problem
from powercore.rotation.construct import construct
from powercore.rotation.proof.least import least_off_air_min
from powercore.rotation.search.improve import Aim, improve
from powercore.rotation.timetable import places_of, timetable
from powercore.rotation.tours.arrays import arrays_of
from powercore.rotation.tours.table import laid
from powercore.rotation.verify import verify
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import BUFFER, GENERATOR, SUN, SourcePlan
from powercore.values import Window
from tests.builders import make_battery, make_scenario, make_station, open_all

#: From ten in the morning, local time, on a midsummer day.
SPAN = 480
PANEL = Array(vmp_v=18, imp_a=5.56, voc_v=22.3, isc_a=6.0, tilt=30)
BAY = BayPlan(key="bay", name="Bay", source="sun", max_w=150, chemistries=("lifepo4",))
PANELS = SourcePlan(
    key="sun", name="panels", kind=SUN, max_w=100, windows=(), arrays=(PANEL,)
)
BANK = replace(
    PANELS,
    kind=BUFFER,
    windows=(Window(start_min=0, end_min=SPAN),),
    max_w=200,
    energy_wh=0.0,
    capacity_wh=60.0,
)
CHARGER = SourcePlan(
    key="gen",
    name="generator",
    kind=GENERATOR,
    max_w=500,
    windows=(Window(start_min=60, end_min=120),),
)


def event(source, sky=CLEAR, batteries=(), others=()):
    """One bay on a source, one station that wants two batteries and a half."""
    return make_scenario(
        span_min=SPAN,
        starts_at="2026-06-27T15:00:00+00:00",
        site=Site(latitude=46.1, longitude=-95.4),
        yard_sky=sky,
        stations=(make_station(amps=2.5, openings=open_all(SPAN)),),
        batteries=batteries or (make_battery("k1", ah=9), make_battery("k2", ah=9)),
        sources=(source, *others),
        bays=(BAY,),
        lateness_min=0,
    )


@pytest.mark.parametrize("source", [PANELS, BANK])
@pytest.mark.parametrize("soc", [0.1, 0.8])
def test_what_a_bay_gives_comes_from_the_sun(source, soc):
    """No more than the panels brought; and the search counts as the verifier does."""
    battery = make_battery("k1", ah=20, start_soc=soc)
    problem = Problem(event(source, batteries=(battery,)))
    legs = [Leg(kind=CHARGE, battery="k1", place="bay", start_min=0, end_min=SPAN)]
    table = timetable(problem, step_min=30)
    state = laid(places_of(table, legs), arrays_of(table))

    ((_, after),) = verify(problem, legs).outcome.leg_soc

    brought_wh = problem.grid.cumulative_wh(problem.yard_sun_w["sun"])[-1]
    taken_wh = problem.bay_w("k1", (after - soc) * battery.pack.trusted_ah)
    assert 0.5 * min(brought_wh, (1 - soc) * 256) < taken_wh < brought_wh + 1e-6
    assert state.soc[0, -1] == pytest.approx(after, abs=0.01)


@pytest.mark.parametrize("source", [PANELS, BANK])
def test_plans_use_the_sun_that_they_may_count_on(source):
    """Two batteries of 9 Ah for 20 Ah of use: the sun charges one of them again."""
    found = {}
    for sky in (NO_SUN, CLEAR):
        problem = Problem(event(source, sky))
        first = construct(problem)
        better = improve(problem, first, Aim(passes=2))
        lost = [verify(problem, legs).outcome for legs in (first, better.legs)]
        found[sky] = [outcome.total_min("off_air") for outcome in lost]
        assert better.report.is_valid
        assert least_off_air_min(problem, better.legs, 1) <= found[sky][1] + 1e-6

    assert min(found[NO_SUN]) > 30
    assert max(found[CLEAR]) == 0


def test_a_bank_is_filled_by_a_source_that_runs():
    """An hour of 60 W, up to what the bank holds; panels count for nothing here."""
    bank = replace(BANK, arrays=(), filled_from="gen", fill_w=80.0, capacity_wh=60.0)
    batteries = (make_battery("k1", ah=20, start_soc=0.1),)
    problem = Problem(event(bank, batteries=batteries, others=(CHARGER,)))
    legs = [
        Leg(kind=CHARGE, battery="k1", place="bay", start_min=120, end_min=SPAN),
    ]
    ((before, after),) = verify(problem, legs).outcome.leg_soc

    assert problem.bay_w("k1", (after - before) * 20) == pytest.approx(60.0)
    assert problem.sources["gen"].max_w == pytest.approx(500 - 80)


def test_two_tours_share_a_bank_over_time():
    """What is taken early is not there later, unless the bank would have spilt it."""
    batteries = tuple(make_battery(k, ah=20, start_soc=0.0) for k in ("k1", "k2"))
    table = timetable(Problem(event(BANK, batteries=batteries)), step_min=30)
    arrays, at = arrays_of(table), np.arange(table.count)
    early, late = np.where(at < 6, 2, 0), np.where(at >= 10, 2, 0)
    alone = laid(np.stack([np.zeros_like(late), late]), arrays)
    both = laid(np.stack([early, late]), arrays)
    drawn = both.drawn[0]
    level = BANK.energy_wh
    for i in range(table.count):
        level = min(BANK.capacity_wh, level + table.fills_wh[0, i]) - drawn[i]
        assert level >= -1e-9

    # Four half hours of a midsummer noon fill 60 Wh again.
    assert both.soc[1, -1] == pytest.approx(alone.soc[1, -1])
    assert both.soc[0, -1] > 0.2
