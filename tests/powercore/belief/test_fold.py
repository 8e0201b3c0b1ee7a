"""The fold of the log: pure, order-free, and honest about contradictions."""

import itertools
from datetime import UTC, datetime, timedelta
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.belief.fold import Before, Entry, fold, outages, spans

START = datetime(2026, 6, 27, 18, 0, tzinfo=UTC)
K = [UUID(int=100 + n) for n in range(5)]
ESKER, DRUMLIN, BAY, RACK = (UUID(int=200 + n) for n in range(4))
EXCLUSIVE = {ESKER, DRUMLIN, BAY}


def uid(number: int) -> UUID:
    """A uid for an entry."""
    return UUID(int=number)


def at(minutes: float) -> datetime:
    """Minutes after the start."""
    return START + timedelta(minutes=minutes)


def swap(number, minute, place, battery, out=None, place_out=None):
    """A swap entry."""
    return Entry(
        uid=uid(number),
        kind="swap",
        at=at(minute),
        battery=battery,
        battery_out=out,
        place=place,
        place_out=place_out,
        station=place,
    )


def move(number, minute, battery, place):
    """A move entry."""
    return Entry(
        uid=uid(number), kind="move", at=at(minute), battery=battery, place=place
    )


def strike(number, target, minute=500):
    """A strike entry."""
    return Entry(uid=uid(number), kind="strike", at=at(minute), strikes=uid(target))


@st.composite
def logs(draw):
    """Any log of moves, swaps and strikes, contradictory or not."""
    count = draw(st.integers(0, 14))
    entries = []
    for number in range(count):
        minute = draw(st.integers(0, 200))
        battery = draw(st.sampled_from(K))
        what = draw(st.integers(0, 5))
        if what == 0:
            target = draw(st.integers(0, count))
            entries.append(strike(number, target, minute))
        elif what <= 2:
            place = draw(st.sampled_from([ESKER, DRUMLIN]))
            out = draw(st.sampled_from([None, *K]))
            went = draw(st.sampled_from([None, RACK, BAY]))
            if out != battery:
                entries.append(swap(number, minute, place, battery, out, went))
        else:
            place = draw(st.sampled_from([RACK, BAY, ESKER, None]))
            entries.append(move(number, minute, battery, place))
    return entries


@given(logs(), st.randoms())
def test_order_of_arrival_and_resending_change_nothing(entries, random):
    """However entries arrive, and however often, the fold is the same."""
    mixed = [*entries, *entries[: len(entries) // 2]]
    random.shuffle(mixed)

    assert fold(mixed, EXCLUSIVE) == fold(entries, EXCLUSIVE)


@given(logs(), st.data())
def test_striking_equals_never_having_had_it(entries, data):
    """A struck entry leaves no trace, wherever its strike stands in time."""
    targets = [entry for entry in entries if entry.kind != "strike"]
    if not targets:
        return
    target = data.draw(st.sampled_from(targets))
    minute = data.draw(st.integers(-100, 400))
    struck = [*entries, strike(900, target.uid.int, minute)]
    without = [entry for entry in entries if entry.uid != target.uid]

    assert fold(struck, EXCLUSIVE) == fold(without, EXCLUSIVE)


@given(logs())
def test_a_battery_is_in_one_place_and_a_place_holds_one(entries):
    """Whatever was noted, placements never overlap."""
    placements, _ = fold(entries, EXCLUSIVE)
    never = at(10_000)
    for key in ("battery", "place"):
        for thing in {getattr(p, key) for p in placements}:
            if key == "place" and thing not in EXCLUSIVE:
                continue
            own = sorted(
                (p.start, p.end or never)
                for p in placements
                if getattr(p, key) == thing
            )
            for (_, end), (start, _) in itertools.pairwise(own):
                assert end <= start


@given(logs())
def test_every_battery_is_accounted_for_from_its_first_entry(entries):
    """Between its first entry and now a battery has no gap."""
    placements, _ = fold(entries, EXCLUSIVE)
    for battery in {p.battery for p in placements}:
        own = [p for p in placements if p.battery == battery]
        assert own[-1].end is None
        for before, after in itertools.pairwise(own):
            assert before.end == after.start


def test_two_reports_of_one_swap_end_in_one():
    """Minutes apart, the second adds only what the first left out."""
    first = [move(1, 0, K[0], ESKER), swap(2, 60, ESKER, K[1])]
    both = [*first, swap(3, 64, ESKER, K[1], out=K[0], place_out=RACK)]

    placements, conflicts = fold(both, EXCLUSIVE)

    assert conflicts == []
    assert [p.start for p in placements if p.battery == K[1]] == [at(60)]
    last = [p for p in placements if p.battery == K[0]][-1]
    assert last.place == RACK


def test_a_swap_hours_later_is_another_swap():
    """The same battery in again after more than half an hour is news."""
    entries = [
        swap(1, 0, ESKER, K[1]),
        swap(2, 40, ESKER, K[2], out=K[1]),
        swap(3, 120, ESKER, K[1], out=K[2]),
    ]

    placements, conflicts = fold(entries, EXCLUSIVE)

    assert conflicts == []
    assert [p.battery for p in placements if p.place == ESKER] == [K[1], K[2], K[1]]


def test_what_people_do_not_say_follows_from_what_they_say():
    """Out of a bay, off the air, onto a bay that held another: nobody contradicts."""
    entries = [
        move(1, 0, K[0], BAY),
        swap(2, 30, ESKER, K[0], out=K[1]),
        move(3, 40, K[1], BAY),
        move(4, 90, K[2], BAY),  # who takes K[1] off says nothing
        move(5, 95, K[3], ESKER),  # a move onto a station is a swap
    ]

    placements, conflicts = fold(entries, EXCLUSIVE, {BAY})

    assert conflicts == []
    now = {p.battery: p.place for p in placements if p.end is None}
    assert now == {K[0]: None, K[1]: None, K[2]: BAY, K[3]: ESKER}


@pytest.mark.parametrize(
    ("entries", "kind", "battery", "other"),
    [
        (
            [move(1, 0, K[0], ESKER), swap(2, 30, ESKER, K[1], out=K[2])],
            "other_battery_was_there",
            K[2],
            K[0],
        ),
        (
            [move(1, 0, K[0], ESKER), swap(2, 30, DRUMLIN, K[0])],
            "battery_was_elsewhere",
            K[0],
            None,
        ),
        (
            [swap(1, 0, ESKER, K[0], out=K[1]), swap(2, 9, ESKER, K[0], out=K[2])],
            "swap_reports_differ",
            K[2],
            K[1],
        ),
    ],
)
def test_contradictions_become_visible_conflicts(entries, kind, battery, other):
    """Both sides are named, nothing is dropped."""
    _, (conflict, *more) = fold(entries, EXCLUSIVE)

    assert (conflict.kind, conflict.battery, conflict.other_battery) == (
        kind,
        battery,
        other,
    )
    assert more == []


def station(number, minute, kind, step=""):
    """An entry about a station."""
    return Entry(uid=uid(number), kind=kind, at=at(minute), station=ESKER, step=step)


def test_spans_open_and_close_by_their_own_kind():
    """Off the air ends with back, low power with full; an open one has no end."""
    found = spans(
        [
            station(1, 10, "off_air"),
            station(2, 15, "off_air"),
            station(3, 40, "back"),
            station(4, 50, "power_step", "low"),
            station(5, 90, "power_step", "full"),
            station(6, 95, "shed"),
        ]
    )

    assert [(s.what, s.start, s.end) for s in found] == [
        ("off_air", at(10), at(40)),
        ("low_power", at(50), at(90)),
        ("shed", at(95), None),
    ]


def test_a_struck_back_leaves_the_station_off_the_air():
    """Striking works for spans as for placements."""
    entries = [station(1, 10, "off_air"), station(2, 40, "back"), strike(3, 2, 41)]

    assert [s.end for s in spans(entries)] == [None]


def switch(number, minute, source, *, is_on):
    """An entry about a source."""
    return Entry(
        uid=uid(number), kind="source", at=at(minute), source=source, is_on=is_on
    )


@given(
    st.lists(st.tuples(st.integers(0, 300), st.sampled_from(K[:2]), st.booleans())),
    st.randoms(),
    st.data(),
)
def test_a_source_gives_nothing_from_off_until_on_again(said, random, data):
    """At every minute as the last word before it says, however the entries came."""
    entries = [
        switch(n, minute, source, is_on=is_on)
        for n, (minute, source, is_on) in enumerate(said)
    ]
    gone = data.draw(st.sets(st.sampled_from(entries)) if entries else st.just(set()))
    strikes = [strike(1000 + n, one.uid.int) for n, one in enumerate(gone)]
    sent = [*entries, *strikes, *entries[:2]]
    random.shuffle(sent)

    found = outages(sent)

    heard = sorted(set(entries) - gone, key=lambda one: (one.at, one.uid))
    for source in K[:2]:
        own = [one for one in heard if one.source == source]
        for minute in range(0, 320, 7):
            last = [one.is_on for one in own if one.at <= at(minute)][-1:]
            is_off = any(
                one.source == source
                and one.start <= at(minute)
                and (one.end is None or at(minute) < one.end)
                for one in found
            )
            assert is_off == (last == [False])


@given(logs(), st.integers(0, 24))
def test_folding_on_from_a_moment_is_folding_it_all(entries, hours):
    """What stood before, and the swaps shortly before, are all that a fold needs."""
    since = START + timedelta(minutes=10 * hours)
    placements, conflicts = fold(entries, EXCLUSIVE, {BAY})
    before = Before(
        open=tuple(
            one
            for one in placements
            if one.start < since and (one.end is None or one.end >= since)
        ),
        recent=tuple(e for e in entries if e.kind == "strike" or e.at < since),
    )
    later = [e for e in entries if e.kind == "strike" or e.at >= since]
    found, new_conflicts = fold(later, EXCLUSIVE, {BAY}, before)
    kept = [one for one in placements if one.end is not None and one.end < since]

    assert sorted([*kept, *found], key=lambda p: (p.start, p.battery)) == placements
    assert [c for c in conflicts if c.at < since] + new_conflicts == conflicts
