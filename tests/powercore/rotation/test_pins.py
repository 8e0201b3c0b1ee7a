"""Pins: kept by every plan, whatever it costs, or refused with the reason."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from powercore.errors import UnknownKey
from powercore.event.plans import (
    AWAY,
    LOW,
    NO_SWAP,
    NO_WALK,
    OF_STATIONS,
    STAYS,
    YARD,
    CrewPlan,
    Pin,
)
from powercore.event.problem import SERVE, Problem
from powercore.rotation.compare import Replayed
from powercore.rotation.construct import construct
from powercore.rotation.pins import STEP_MIN, PinRefused, repaired
from powercore.rotation.search.improve import Aim, improve
from powercore.rotation.timetable import timetable
from powercore.rotation.tours.arrays import Fees, Left, arrays_of, workspace
from powercore.rotation.tours.path import best_tour
from powercore.rotation.tours.prices import stop_prices
from powercore.rotation.tours.table import laid
from powercore.rotation.verify import verify
from tests.builders import make_battery, make_scenario, steady
from tests.powercore.rotation.test_rotation import (
    BY_HAND,
    SIX_HOURS,
    WITH_A_SPARE,
    hard,
)


def pin(kind, start=0, end=360, battery="", place="esker"):
    """A pin."""
    return Pin(kind=kind, battery=battery, place=place, start_min=start, end_min=end)


def pinned(*pins, scenario=SIX_HOURS):
    """An event with pins."""
    return Problem(replace(scenario, pins=pins))


@pytest.mark.parametrize(
    ("rule", "one"),
    [
        ("pinned_stay", pin(STAYS, 170, 200, "k01")),
        ("pinned_stay", pin(STAYS, 299, 301, "k01", "bay1")),
        ("pinned_away", pin(AWAY, 179, 360, "k01")),
        ("pinned_away", pin(AWAY, 299, 360, place="bay1")),
        ("pinned_no_walk", pin(NO_WALK, 184, 200)),
        ("pinned_no_walk", pin(NO_WALK, 60, 176, place="")),
        ("pinned_no_swap", pin(NO_SWAP, 180, 181)),
        ("pinned_no_swap", pin(NO_SWAP, 150, 360, place="")),
    ],
)
def test_a_plan_that_does_not_keep_a_pin_breaks_its_named_rule(rule, one):
    """One minute too many is enough; a pin that ends a minute earlier is kept."""
    report = verify(pinned(one), BY_HAND)

    assert {broken.rule for broken in report.broken} == {rule}


@pytest.mark.parametrize(
    "one",
    [
        pin(STAYS, 0, 180, "k01"),
        pin(STAYS, 185, 300, "k01", "bay1"),
        pin(AWAY, 180, 360, "k01"),
        pin(AWAY, 300, 360, place="bay1"),
        pin(NO_WALK, 185, 360),
        pin(NO_WALK, 0, 175, place=""),
        pin(NO_SWAP, 0, 180),
        pin(NO_SWAP, 181, 360, place=""),
    ],
)
def test_a_plan_that_keeps_its_pins_is_left_as_it_is(one):
    """Planning anew with nothing to change changes nothing."""
    assert repaired(pinned(one), BY_HAND) == BY_HAND


def test_a_battery_that_must_stay_stays_and_the_rest_gives_way():
    """At 4 A 20 Ah are flat before six hours end, and nobody may relieve it."""
    problem = pinned(pin(STAYS, 0, 360, "k01"))

    for legs in (
        repaired(problem, BY_HAND),
        improve(problem, BY_HAND, Aim(passes=2)).legs,
    ):
        report = verify(problem, legs)
        assert report.is_valid
        assert report.outcome.walks == 0
        assert report.outcome.total_min("off_air") > 0


def test_no_walk_in_the_dark_brings_the_relief_before_it():
    """The walk at 180 moves out of the pin; nothing is lost, as k02 is full."""
    problem = pinned(pin(NO_WALK, 150, 360))

    found = improve(problem, BY_HAND, Aim(passes=4))

    assert found.report.outcome.unserved_wh == pytest.approx(0)
    swap = next(x for x in found.legs if x.kind == SERVE and x.start_min > 0)
    walk_min = problem.stations["esker"].walk_min
    assert swap.start_min + walk_min <= 150


def test_operators_put_off_a_swap_that_falls_into_a_roll_call():
    """The spare that is there goes in before or after it, by nobody's walk."""
    station = replace(SIX_HOURS.stations[0], spares=1)
    problem = pinned(
        pin(NO_SWAP, 170, 200), scenario=replace(SIX_HOURS, stations=(station,))
    )
    assert [one.rule for one in verify(problem, WITH_A_SPARE).broken] == [
        "pinned_no_swap",
        "pinned_no_swap",
    ]

    found = improve(problem, WITH_A_SPARE, Aim(passes=4))
    for legs in (repaired(problem, WITH_A_SPARE), found.legs):
        report = verify(problem, legs)
        assert report.is_valid
        assert report.outcome.unserved_wh == 0
        assert any(x.kind == SERVE and x.start_min for x in legs)


def test_low_power_asks_less_for_its_time_and_counts_as_such():
    """4 A to 1 A for an hour are 3 Ah less; the battery lasts an hour longer at 3/4."""
    low = replace(steady(4.0), low=steady(1.0).draw)
    station = replace(SIX_HOURS.stations[0], loads=(low,))
    full = replace(SIX_HOURS, stations=(station,))
    problem = pinned(pin(LOW, 60, 120), scenario=full)
    alone = (replace(BY_HAND[0], end_min=360), replace(BY_HAND[3], battery="k02"))
    alone = (alone[0], replace(alone[1], start_min=0))

    before, after = (Replayed.of(one, alone) for one in (Problem(full), problem))

    assert problem.lowered_min == {"esker": 60}
    drawn = [float(one.drawn_wh["esker"][-1]) for one in (Problem(full), problem)]
    assert drawn[0] - drawn[1] == pytest.approx(3 * 12.8)
    cost = after.cost(before)
    assert cost.lowered_min == 60
    # ... and somewhat more, as the end of power rests on the mean current.
    assert cost.off_air_min == pytest.approx(-45, abs=1)
    assert cost.verdict == -1  # a minute off the air weighs more


@pytest.mark.parametrize(
    ("pins", "values", "words"),
    [
        (
            [pin(STAYS, 60, 90, "k01")],
            {"batteries": (make_battery("k01", is_on_hold=True), make_battery("k02"))},
            "K01 is on hold",
        ),
        (
            [pin(STAYS, 60, 90, "k01"), pin(STAYS, 80, 100, "k02")],
            {},
            "“K01 at Esker” is pinned too, for the same time",
        ),
        (
            [pin(AWAY, 0, 100), pin(STAYS, 60, 90, "k01")],
            {},
            "“no battery at Esker” is pinned too, for the same time",
        ),
        (
            [pin(STAYS, 60, 90, "k02")],
            {"start": "esker", "crews": (80, 360)},
            "nobody on duty can bring K02 there in time",
        ),
        (
            [pin(AWAY, 60, 90, "k01")],
            {"start": "esker", "crews": (80, 360)},
            "what is there can't be taken away by then: no crew is on duty for it",
        ),
    ],
)
def test_a_pin_that_cannot_be_kept_is_refused_with_the_reason(pins, values, words):
    """By a plan made anew and by one that is changed."""
    values = dict(values)
    if "start" in values:
        place = values.pop("start")
        one = make_battery("k01", start_place=place)
        values["batteries"] = (one, make_battery("k02"))
    if "crews" in values:
        start, end = values["crews"]
        values["crews"] = (
            CrewPlan(name="crew", does="walks", start_min=start, end_min=end),
            CrewPlan(name="watch", does="yard", start_min=0, end_min=360),
        )
    scenario = make_scenario(span_min=360, stations=SIX_HOURS.stations, **values)

    with pytest.raises(PinRefused) as refused:
        construct(pinned(*pins, scenario=scenario))

    assert refused.value.words == words
    assert refused.value.pin == pins[-1]


@pytest.mark.parametrize(
    "values",
    [
        {"kind": "stay"},
        {"kind": STAYS, "battery": "k01", "place": YARD},
        {"kind": STAYS, "battery": "", "place": "esker"},
        {"kind": AWAY, "battery": "k09", "place": "esker"},
        {"kind": NO_WALK, "battery": "k01", "place": "esker"},
        {"kind": NO_WALK, "battery": "", "place": "bay1"},
        {"kind": LOW, "battery": "", "place": ""},
        {"kind": NO_SWAP, "battery": "", "place": "bay1"},
    ],
)
def test_a_pin_names_only_what_it_can(values):
    """Checked with the event: no plan is asked for what can't be meant."""
    with pytest.raises(UnknownKey):
        replace(SIX_HOURS, pins=(Pin(start_min=0, end_min=60, **values),))


@st.composite
def hard_pinned(draw):
    """Any small event with up to three pins."""
    scenario = draw(hard())
    stations = [one.key for one in scenario.stations]
    batteries = [one.key for one in scenario.batteries]
    pins = []
    for _ in range(draw(st.integers(1, 3))):
        kind = draw(st.sampled_from([STAYS, AWAY, NO_WALK, NO_SWAP, LOW]))
        start = draw(st.integers(0, scenario.span_min - 10))
        end = draw(st.integers(start + 1, scenario.span_min + 60))
        places = [*stations, scenario.bays[0].key]
        battery = draw(st.sampled_from(batteries))
        if kind == AWAY and draw(st.booleans()):
            battery = ""
        if kind in OF_STATIONS:
            battery, places = "", [*stations, *([""] if kind != LOW else [])]
        place = draw(st.sampled_from(places))
        pins.append(pin(kind, start, end, battery, place))
    return replace(scenario, pins=tuple(pins))


@settings(max_examples=40, deadline=None)
@given(hard_pinned())
def test_pins_are_kept_or_refused(scenario):
    """Whatever the event; a pin is refused only where nothing else is broken."""
    problem = Problem(scenario)
    try:
        legs = construct(problem)
    except PinRefused:
        return
    assert verify(problem, legs).is_valid
    assert repaired(problem, legs) == legs


@settings(max_examples=40, deadline=None)
@given(hard_pinned(), st.data())
def test_one_stay_is_refused_only_where_the_compiled_search_finds_no_life(
    scenario, data
):
    """Two shortest paths that share no code agree on what can be kept alone."""
    battery = data.draw(st.sampled_from([one.key for one in scenario.batteries]))
    start = data.draw(st.integers(0, scenario.span_min - 10))
    one = pin(STAYS, start, scenario.span_min, battery, scenario.stations[0].key)
    problem = Problem(replace(scenario, pins=(one,)))
    plain = construct(Problem(replace(scenario, pins=())))
    try:
        repaired(problem, plain)
        is_kept = True
    except PinRefused:
        is_kept = False

    ends = {
        m + s * x.walk_min for m in (start,) for s in (-1, 1) for x in scenario.stations
    }
    edges = {m for leg in plain for m in (leg.start_min, leg.end_min)}
    table = timetable(problem, step_min=STEP_MIN, extra=ends | edges)
    arrays = arrays_of(table)
    number = table.batteries.index(battery)
    state = laid(np.zeros((0, table.count), dtype=np.int64), arrays)
    price = stop_prices(arrays, state)
    none = np.zeros((len(table.bays), table.count))
    plain, no_fee = np.ones_like(table.worth), state.power_w * 0
    fees = Fees(plain, state.rent_s, none, price, price, no_fee)
    left = Left(state.power_w, state.store_wh, state.spilt, state.racked)
    room = workspace(table.count, table.places, 32)
    _, value = best_tour(number, arrays, fees, left, False, room)
    assert is_kept == (value > -1e16)
