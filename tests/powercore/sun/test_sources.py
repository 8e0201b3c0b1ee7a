"""What sources give, when, and what they burn."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.errors import OutOfRange, UnknownKey
from powercore.event.problem import Problem
from powercore.sun.sources import (
    PETROL_KWH_L,
    Fuel,
    SourcePlan,
    Supply,
    over_supply_a,
    running,
)
from powercore.values import Window, without
from tests.builders import make_scenario

DAY = (Window(start_min=0, end_min=1440),)


def generator(**values) -> SourcePlan:
    """A 2 kW generator that may run all day."""
    return SourcePlan(
        **{
            "key": "gen",
            "name": "generator",
            "kind": "generator",
            "max_w": 1600,
            "windows": DAY,
        }
        | values
    )


def fuel(**values) -> Fuel:
    """0.4 L/h at a quarter of its power, 1.0 L/h at all of it."""
    return Fuel(
        **{"quarter_l_h": 0.4, "full_l_h": 1.0, "tank_l": 3.6, "on_hand_l": 20} | values
    )


def test_petrol_by_energy():
    """At 20 % efficiency a kilowatt-hour takes 0.5616 L."""
    # US EPA: 33.7 kWh per US gallon (from memory); 8.903 kWh/L.
    litre_kwh = PETROL_KWH_L

    assert litre_kwh == pytest.approx(8.903, abs=0.001)
    assert 1 / (0.2 * litre_kwh) == pytest.approx(0.5616, abs=0.0001)


def test_consumption_goes_through_the_printed_points():
    """A straight line through both; per kilowatt-hour light loads cost more."""
    burns = fuel()

    assert burns.burns_l_h(0.25) == pytest.approx(0.4)
    assert burns.burns_l_h(1.0) == pytest.approx(1.0)
    # Common practice, no source: 0.45-0.8 L/kWh near full load, 1 or more at a quarter.
    assert burns.burns_l_h(0.25) / 0.4 >= 1.0
    assert 0.45 <= burns.burns_l_h(1.0) / 1.6 <= 0.8


def test_quiet_hours_are_kept_unless_waived():
    """22:00 to 06:00 falls out of its day, and comes back in an emergency."""
    quiet = (
        Window(start_min=0, end_min=360),
        Window(start_min=1320, end_min=1440),
    )

    assert generator(quiet=quiet).allowed == (Window(start_min=360, end_min=1320),)
    assert generator(quiet=quiet, is_quiet_waived=True).allowed == DAY


def test_refuelling_stops_every_bay_and_fuel_ends():
    """3.6 L at 0.6 L/h last 6 h; then 25 min; 7.2 L on hand last twice that."""
    at_half = 1600 / 2
    plan = running(generator(fuel=fuel(on_hand_l=7.2)), at_half)

    assert [(w.start_min, w.end_min) for w in plan.windows] == [(0, 360), (385, 745)]
    assert [(w.start_min, w.end_min) for w in plan.stops] == [(360, 385)]
    assert plan.dry_min == pytest.approx(745)
    assert plan.needs_l == pytest.approx(24 * 0.6)


def test_chargers_are_counted_in_volt_amperes():
    """1,600 VA less a 400 VA kettle leave 780 W for chargers, by power factor 0.65."""
    source = generator(max_va=1600, other_w=400)

    assert source.for_chargers_w == pytest.approx(1200 * 0.65)
    problem = Problem(
        make_scenario(
            sources=(generator(max_va=1600, other_w=400, fuel=fuel(on_hand_l=2)),),
            bays=(),
        )
    )
    assert problem.sources["gen"].max_w == pytest.approx(780)
    assert not problem.source_is_on("gen", 600)


def test_a_supply_carries_radio_and_charger_together():
    """22 A of radio and 10 A of charger on a 23 A supply are 9 A over."""
    # Common practice, no source.
    assert over_supply_a(23, 22, 10) == pytest.approx(9)
    assert over_supply_a(40, 22, 10) == 0


@given(gaps=st.lists(st.tuples(st.integers(0, 1400), st.integers(1, 300)), max_size=6))
def test_windows_without_gaps_keep_every_other_minute(gaps):
    """A minute is left exactly when no gap holds it."""
    cut = [Window(start_min=start, end_min=start + long) for start, long in gaps]
    left = without(DAY, cut)

    for minute in range(0, 1440, 7):
        in_gap = any(gap.start_min <= minute < gap.end_min for gap in cut)
        kept = any(one.start_min <= minute < one.end_min for one in left)
        assert kept is not in_gap


def test_impossible_sources_are_refused():
    """The error names what is wrong."""
    with pytest.raises(UnknownKey, match="A source is mains"):
        generator(kind="wind")
    with pytest.raises(OutOfRange, match="Fuel use at full load"):
        fuel(full_l_h=0.2)
    with pytest.raises(UnknownKey, match="Power at a station"):
        Supply(kind="buffer", max_w=10, windows=DAY)
