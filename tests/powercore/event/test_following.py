"""Which planned moves were made."""

from hypothesis import given
from hypothesis import strategies as st

from powercore.event.following import (
    GIVEN_UP,
    LEFT,
    MADE,
    OPEN,
    OTHERWISE,
    STATES,
    TO_COME,
    TOLD,
    NotedMove,
    PlannedMove,
    followed,
)

DRUMLIN = "drumlin"


def due(battery, at, **values):
    return PlannedMove(station=DRUMLIN, battery=battery, arrive_min=at, **values)


def said(battery, at, **values):
    station = values.pop("station", DRUMLIN)
    return NotedMove(
        key=f"{battery}-{at}", battery=battery, station=station, at_min=at, **values
    )


def states(planned, noted, now):
    return [one.state for one in followed(planned, noted, now)]


def test_a_battery_that_comes_again_makes_each_of_its_moves_once():
    """K15 came hours ago, was relieved by K05, and is to come again."""
    plan = [due("k15", 100), due("k05", 400), due("k15", 700)]

    assert states(plan, [said("k15", 110)], 200) == [MADE, TO_COME, TO_COME]
    noted = [said("k15", 110), said("k05", 395)]
    assert states(plan, noted, 420) == [MADE, MADE, TO_COME]
    assert states(plan, [said("k05", 395)], 420) == [GIVEN_UP, MADE, TO_COME]


def test_what_stands_there_from_the_start_makes_no_move():
    """K01 set up at 0 is to come again at 300: that is still to come."""
    plan = [due("k01", 0, is_start=True), due("k02", 150), due("k01", 300)]

    assert states(plan, [said("k01", -90)], 60)[1:] == [TO_COME, TO_COME]


def test_another_battery_and_a_late_one_make_the_move_that_was_due():
    """The later move's battery taken for the first; or its own, 100 min late."""
    plan = [due("k03", 100), due("k04", 280)]

    first, later = followed(plan, [said("k04", 100)], 110)
    assert (first.state, first.by.battery) == (OTHERWISE, "k04")
    assert later.state == TO_COME
    assert states(plan, [said("k03", 200)], 210) == [MADE, TO_COME]
    assert states(plan, [], 230) == [GIVEN_UP, TO_COME]


def test_told_and_left_belong_to_one_move():
    """Told and left tonight, made; tomorrow's move of that battery is neither."""
    plan = [due("k15", 100), due("k15", 700)]
    crew = [said("k15", 60, said=TOLD), said("k15", 90, said=LEFT)]

    one, two = followed(plan, crew, 95)
    assert (one.state, one.told_min, one.left_min) == (LEFT, 60, 90)
    assert two.state == TO_COME
    assert two.left_min is None
    one, two = followed(plan, [*crew, said("k15", 105)], 110)
    assert (one.state, one.left_min, two.state) == (MADE, 90, TO_COME)
    again = [*crew, said("k15", 105), said("k15", 640, said=TOLD)]
    assert [one.told_min for one in followed(plan, again, 650)] == [60, 640]
    # They turned back and put it on a bay: told, but not out any more.
    back = [*crew, said("k15", 98, station="")]
    assert states(plan, back, 99) == [TOLD, TO_COME]


def test_spares_and_fetches_are_moves_too():
    """A spare put into use at once is made otherwise; what is taken home is fetched."""
    spare = due("k07", 100, is_spare=True)
    assert states([spare], [said("k07", 101, is_spare=True)], 120) == [MADE]
    assert states([spare], [said("k07", 101)], 120) == [OTHERWISE]
    fetch = due("", 300, taken="k07")
    noted = [said("k07", 101), said("k07", 310, station="")]
    assert states([fetch], noted[:1], 290) == [TO_COME]
    assert states([fetch], noted, 320) == [MADE]


batteries = st.sampled_from(["k1", "k2", "k3"])
stations = st.sampled_from([DRUMLIN, "esker"])
minutes = st.integers(0, 900)
plans = st.lists(
    st.builds(
        PlannedMove,
        station=stations,
        battery=batteries,
        arrive_min=minutes.map(float),
        is_spare=st.booleans(),
    ),
    max_size=8,
)
logs = st.lists(
    st.builds(
        NotedMove,
        key=st.uuids().map(str),
        battery=batteries,
        station=st.sampled_from([DRUMLIN, "esker", ""]),
        at_min=minutes.map(float),
        said=st.sampled_from(["", "", TOLD, LEFT]),
        is_spare=st.booleans(),
    ),
    max_size=12,
).map(lambda log: sorted(log, key=lambda one: one.at_min))


@given(plans, logs, minutes)
def test_each_move_is_in_one_state_and_each_entry_made_one_move(plan, log, now):
    """Whatever was logged: one to one, at its own station, in order of time."""
    found = followed(plan, log, now)

    assert len(found) == len(plan)
    assert {one.state for one in found} <= set(STATES)
    for move, one in zip(plan, found, strict=True):
        assert (one.by is None) == (one.state in (*OPEN, GIVEN_UP))
        if one.by is not None:
            assert one.by.station == move.station
            assert (one.by.battery == move.battery) or one.state == OTHERWISE
    for is_spare in (False, True):
        for station in (DRUMLIN, "esker"):
            made = [
                (move.arrive_min, one.by.at_min, one.by.key)
                for move, one in zip(plan, found, strict=True)
                if (move.station, move.is_spare) == (station, is_spare)
                and one.by is not None
                and one.by.is_spare == is_spare
            ]
            assert len({key for *_, key in made}) == len(made)
            at = [came for _, came, _ in sorted(made)]
            assert at == sorted(at)


@given(plans, logs, minutes)
def test_a_word_to_a_crew_is_about_one_move(plan, log, now):
    """As many moves are told as were said, at the most; more said later undoes none."""
    found = followed(plan, log, now)
    told = [one.told_min for one in found if one.told_min is not None]

    assert len(told) <= sum(one.said == TOLD for one in log)
