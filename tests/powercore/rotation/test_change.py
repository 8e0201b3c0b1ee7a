"""Changes by hand: what they do, what they cost, and which are refused."""

from dataclasses import replace

import pytest
from hypothesis import given, settings

from powercore.event.problem import CHARGE, SERVE, Problem
from powercore.rotation.change import (
    CannotChange,
    Charge,
    instead,
    moved,
    recharged,
    skipped,
    uncharged,
)
from powercore.rotation.compare import Replayed
from powercore.rotation.construct import STYLES, construct
from powercore.rotation.verify import verify
from tests.builders import make_battery, make_station
from tests.powercore.rotation.test_rotation import BY_HAND, SIX_HOURS, hard

FIRST, RELIEF = BY_HAND[0], BY_HAND[6]


def cost_of(legs, problem=None):
    """What a plan costs against the one made by hand."""
    problem = problem or Problem(SIX_HOURS)
    return Replayed.of(problem, legs).cost(Replayed.of(problem, BY_HAND))


def test_a_walk_that_comes_earlier_or_later_takes_what_it_needs_from_the_rest():
    """K02's wait and K01's charge change by as much; the crew walks at the new time."""
    for by in (-30, -10, 15, 40):
        made = moved(Problem(SIX_HOURS), BY_HAND, RELIEF, by)

        assert verify(Problem(SIX_HOURS), made).is_valid
        assert {(x.battery, x.start_min, x.end_min) for x in made} == {
            ("k01", 0, 180 + by),
            ("k01", 180 + by, 185 + by),
            ("k01", 185 + by, 300),
            ("k01", 300, 360),
            ("k02", 0, 175 + by),
            ("k02", 175 + by, 180 + by),
            ("k02", 180 + by, 360),
        }


def test_a_walk_put_off_costs_its_minutes_off_the_air():
    """From when 4 A have emptied it to its floor until K02 comes."""
    feed = Problem(SIX_HOURS).feed("esker", "k01")
    lasts_min = (1 - feed.floor_soc) * feed.capacity_wh / (4 * 12.8) * 60
    late = moved(Problem(SIX_HOURS), BY_HAND, RELIEF, 150)

    cost = cost_of(late)

    assert cost.verdict == 1
    assert cost.by_station == (("esker", pytest.approx(cost.off_air_min)),)
    assert cost.off_air_min == pytest.approx(330 - lasts_min, abs=0.01)
    assert cost_of(BY_HAND).verdict == 0


def test_a_skipped_walk_leaves_what_is_there_and_saves_a_round():
    """K01 stays to the end and is empty before it."""
    cost = cost_of(skipped(Problem(SIX_HOURS), BY_HAND, RELIEF))

    assert cost.walks == -1
    assert cost.off_air_min > 0


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda p: moved(p, BY_HAND, RELIEF, -176), "should have left"),
        (lambda p: moved(p, BY_HAND, RELIEF, 400), "after the stay's end"),
        (lambda p: skipped(p, BY_HAND, FIRST), "no walk brings it"),
        (lambda p: instead(p, BY_HAND, RELIEF, "k02"), "another battery"),
        (lambda p: instead(p, BY_HAND, RELIEF, "k09"), "another battery"),
    ],
)
def test_a_change_that_cannot_be_made_says_so(change, words):
    """Too early, too late, no walk, the battery itself, no such battery."""
    with pytest.raises(CannotChange, match=words):
        change(Problem(SIX_HOURS))


def test_a_change_that_breaks_a_rule_names_it():
    """Nobody on duty when the walk should come, and no pin can mend that."""
    walks, watch = SIX_HOURS.crews
    late = replace(SIX_HOURS, crews=(replace(walks, start_min=170), watch))

    with pytest.raises(CannotChange) as refused:
        moved(Problem(late), BY_HAND, RELIEF, -30)

    assert refused.value.broken.rule == "crew_off_duty"


def test_another_battery_goes_for_one_stay_or_both_exchange_all_that_follows():
    """A smaller one that waits is worse; the exchange of two equal ones is not."""
    third = make_battery("k03", ah=10)
    scenario = replace(SIX_HOURS, batteries=(*SIX_HOURS.batteries, third))
    problem = Problem(scenario)
    legs = (*BY_HAND, replace(BY_HAND[3], battery="k03", start_min=0))

    small = instead(problem, legs, RELIEF, "k03")
    equal = instead(problem, legs, FIRST, "k02")

    assert [x.battery for x in small if x.kind == SERVE] == ["k01", "k03"]
    assert Replayed.of(problem, small).cost(Replayed.of(problem, legs)).verdict == 1
    assert [x.battery for x in equal if x.kind == SERVE] == ["k02", "k01"]
    assert Replayed.of(problem, equal).key == Replayed.of(problem, legs).key


@pytest.mark.parametrize("until", [120, 165])
def test_what_is_past_stays_as_it_was(until):
    """While the event runs: no walk leaves before now, and no leg of then changes."""
    problem = Problem(SIX_HOURS)
    with pytest.raises(CannotChange, match="should have left"):
        moved(problem, BY_HAND, RELIEF, until - 176, keep_until_min=until)

    for made in (
        moved(problem, BY_HAND, RELIEF, until - 175, keep_until_min=until),
        skipped(problem, BY_HAND, RELIEF, keep_until_min=until),
        instead(problem, BY_HAND, RELIEF, "k01", keep_until_min=until),
    ):
        for before in BY_HAND:
            if before.start_min < until:
                end = min(before.end_min, until)
                assert any(
                    (x.battery, x.place) == (before.battery, before.place)
                    and x.start_min <= before.start_min
                    and end <= x.end_min
                    for x in made
                )


@settings(max_examples=12, deadline=None)
@given(hard())
def test_every_change_that_is_made_breaks_no_rule(scenario):
    """Whatever the event: a change is refused or valid, and does what it says."""
    problem = Problem(scenario)
    legs = construct(problem, STYLES[:1])
    for stay in [leg for leg in legs if leg.kind == SERVE]:
        for other in problem.batteries:
            try:
                made = instead(problem, legs, stay, other)
            except CannotChange:
                continue
            assert verify(problem, made).is_valid
            assert any(
                (x.battery, x.place) == (other, stay.place)
                and x.start_min <= stay.start_min < x.end_min
                for x in made
            )
        for by in (-15, 15):
            if stay.start_min == 0:
                continue
            try:
                made = moved(problem, legs, stay, by)
            except CannotChange:
                continue
            assert verify(problem, made).is_valid
            comes = [x.start_min for x in made if x.battery == stay.battery]
            assert stay.start_min + by in comes


@settings(max_examples=12, deadline=None)
@given(hard())
def test_every_change_of_a_charge_is_valid_and_does_what_it_says(scenario):
    """Put on or taken off at other times, another battery, or no charge at all."""
    problem = Problem(scenario)
    legs = construct(problem, STYLES[:1])
    for charge in [leg for leg in legs if leg.kind == CHARGE][:6]:
        asked = [
            ({"start_min": charge.start_min + 15}, charge.battery),
            ({"end_min": charge.end_min - 15}, charge.battery),
            ({"end_min": charge.end_min + 15}, charge.battery),
            *(({"battery": key}, key) for key in problem.batteries),
        ]
        for how, battery in asked:
            try:
                made = recharged(problem, legs, charge, Charge(**how))
            except CannotChange:
                continue
            start = how.get("start_min", charge.start_min)
            end = how.get("end_min", charge.end_min)
            assert verify(problem, made).is_valid
            there = [x for x in made if (x.kind, x.place) == (CHARGE, charge.place)]
            mine = [x for x in there if x.battery == battery]
            assert any(x.start_min <= start and end <= x.end_min for x in mine)
            if battery == charge.battery:
                assert not any(
                    x.start_min < start < x.end_min or x.start_min < end < x.end_min
                    for x in mine
                )
        try:
            made = uncharged(problem, legs, charge)
        except CannotChange:
            continue
        assert verify(problem, made).is_valid
        assert not any(
            (x.battery, x.place) == (charge.battery, charge.place)
            and x.start_min < charge.end_min
            and charge.start_min < x.end_min
            for x in made
        )


def test_a_charge_that_is_past_is_not_changed():
    """What is on the bay already can be taken off at another time, no more."""
    problem = Problem(SIX_HOURS)
    charge = next(leg for leg in BY_HAND if leg.kind == CHARGE)
    until = charge.start_min + 10
    for change in (
        lambda: recharged(
            problem,
            BY_HAND,
            charge,
            Charge(start_min=charge.start_min + 5),
            keep_until_min=until,
        ),
        lambda: recharged(
            problem, BY_HAND, charge, Charge(bay="bay1"), keep_until_min=until
        ),
        lambda: uncharged(problem, BY_HAND, charge, keep_until_min=until),
    ):
        with pytest.raises(CannotChange, match=r"past|already"):
            change()

    end = charge.end_min - 20
    made = recharged(
        problem, BY_HAND, charge, Charge(end_min=end), keep_until_min=until
    )
    assert verify(problem, made).is_valid
    assert any((x.kind, x.end_min) == (CHARGE, end) for x in made)


def test_a_change_at_one_station_leaves_the_others_as_they_are():
    """A second station with a battery of its own is not touched."""
    other = make_station("drumlin", openings=SIX_HOURS.stations[0].openings)
    third = make_battery("k03")
    scenario = replace(
        SIX_HOURS,
        stations=(*SIX_HOURS.stations, other),
        batteries=(*SIX_HOURS.batteries, third),
    )
    own = replace(FIRST, battery="k03", place="drumlin", end_min=360)

    made = moved(Problem(scenario), (*BY_HAND, own), RELIEF, -20)

    assert own in made
