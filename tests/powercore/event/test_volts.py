"""Amps and hours go by a pack's own volts, and lead-acid's by its own law."""

import pytest

from powercore.belief.believed import Joint
from powercore.belief.estimate import Belief
from powercore.belief.runtime import hours_left, time_left
from powercore.belief.steps import Known, Use
from powercore.event.problem import Problem
from powercore.futures.budget import endurance, ledger
from powercore.rotation.construct import construct
from powercore.rotation.verify import verify
from powercore.values import STATED_V, TimeGrid
from tests.builders import make_battery, make_pack, make_scenario, make_station


def one_station(pack, amps=2.0, **values):
    """One battery at one station that draws so many amps at 12.8 V, all day."""
    return Problem(
        make_scenario(
            stations=(make_station(amps=amps, **values),),
            batteries=(make_battery("k01", pack=pack), make_battery("k02", pack=pack)),
        )
    )


@pytest.mark.parametrize(
    ("pack", "volts"),
    [
        (make_pack(), 12.8),
        (make_pack(series=8), 25.6),
        (make_pack(chemistry="nmc", series=3), 11.1),
        (make_pack(chemistry="agm", series=12, nameplate_ah=50, tested_ah=50), 24.0),
    ],
)
def test_currents_are_those_at_the_pack_s_volts(pack, volts):
    """25.6 W are 2 A at 12.8 V and 1 A at 25.6 V; the hours follow."""
    problem = one_station(pack)
    assert problem.station_v("esker") == pytest.approx(volts)
    feeding = problem.feeding("esker")
    assert feeding.mean_a == pytest.approx(2.0 * STATED_V / volts)
    assert feeding.peak_a == pytest.approx(feeding.mean_a)
    feed, first = problem.feed("esker", "k01"), endurance(problem, "esker")[0]
    usable_wh = (1 - feed.reserve_soc) * feed.capacity_wh
    assert first.to_reserve_h == pytest.approx(usable_wh / 25.6, rel=1e-6)
    legs = construct(problem)
    line = ledger(problem, legs).line("esker")
    assert line.mean_a == pytest.approx(feeding.mean_a)
    assert problem.scenario.charging_v() == pytest.approx(pack.on_charge_v)


def test_lead_acid_is_promised_what_it_holds_at_that_current_everywhere():
    """50 Ah of exponent 1.25 at 10 A: endurance, verify, belief, time left agree."""
    pack = make_pack(
        chemistry="agm", series=6, nameplate_ah=50, tested_ah=50, peukert=1.25
    )
    problem = one_station(pack, amps=10.0 * 12.0 / STATED_V)
    # By hand: 20 h × (2.5 A / 10 A)^1.25 = 3.536 h from full to empty.
    feed = problem.feed("esker", "k01")
    gives_ah = feed.capacity_wh / pack.mean_v(1.0, min(feed.floor_soc, 0.9), 10.0)
    assert gives_ah / 10 == pytest.approx(3.536, rel=1e-3)
    assert endurance(problem, "esker")[0].to_reserve_h == pytest.approx(
        (1 - feed.reserve_soc) * feed.capacity_wh / 120
    )

    legs = construct(problem)
    assert verify(problem, legs).broken == ()
    first = next(leg for leg in legs if leg.kind == "serve")
    spent = 120 * (first.end_min - first.start_min) / 60 / feed.capacity_wh
    assert 1 - spent > feed.floor_soc - 0.01

    belief = Belief(pack)
    belief.apply(Known(soc=1.0, sd=0.001))
    belief.apply(Use(planned_ah=10.0, hours=1.0))
    assert belief.estimate().typical == pytest.approx(1 - 1 / 3.536, abs=0.03)

    grid = TimeGrid.covering(24 * 60)
    sure = Joint(*(x * belief.joint().soc ** 0 for x in (0.9, 1.0, 0.0)))
    left = time_left(
        hours_left(
            pack,
            sure,
            to_soc=0.5,
            grid=grid,
            demand_w=problem.demand_w["esker"],
            from_min=0,
        )
    )
    assert left.typical_h == pytest.approx(0.4 * 3.536, rel=0.05)
