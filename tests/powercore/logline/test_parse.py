"""The log line: what people type, and what it means."""

from dataclasses import replace
from datetime import datetime, timedelta, timezone
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from powercore.logline.message import parse_all
from powercore.logline.names import Names
from powercore.logline.parse import Question, parse
from powercore.logline.said import IS, SKY, WRONG, Said, write

NOW = datetime(2026, 6, 27, 15, 30)  # noqa: DTZ001 - the clock on the wall
TAGS = [f"K{number:02}" for number in range(1, 14)] + ["L3"]
NAMES = Names(
    batteries=dict.fromkeys(TAGS, (9.8, 14.8)),
    unknown_v=(9.0, 15.0),
    stations=("Drumlin", "Esker Ridge", "Kame", "Marin"),
    bays=("Bay 1", "Bay 2", "Bay 10"),
    sources=("Generator", "Hall mains"),
    feeds={"Drumlin": "K08", "Esker Ridge": "K11", "Kame": "K02"},
    now=NOW,
    zone=timezone(timedelta(hours=-5)),
)
CORPUS = [
    line
    for line in Path(__file__).with_name("corpus.txt").read_text().splitlines()
    if line and not line.startswith("#")
]


@pytest.mark.parametrize("line", CORPUS)
def test_the_corpus(line):
    """Each line means what stands beside it, or is asked about."""
    if " ?? " in line:
        typed, asks = line.split(" ?? ")
        found = parse(typed, NAMES)
        assert isinstance(found, Question), found
        assert asks.casefold() in found.asks.casefold()
        return
    typed, full = line.split(" => ")
    found = parse(typed, NAMES)
    assert isinstance(found, Said), found
    assert write(found) == full
    assert parse(full, NAMES) == found


amount = st.integers(-90_000, 90_000).map(lambda whole: whole / 100)
when = st.none() | st.datetimes(datetime(2020, 1, 1), datetime(2030, 1, 1)).map(  # noqa: DTZ001
    lambda at: at.replace(second=0, microsecond=0)
)
text = st.sampled_from(["", "fuse blown", "K08 smells odd, at 1420", "64 % they say"])
common = {"text": text, "when": when, "is_sure": st.booleans()}
tag = st.sampled_from(TAGS)
station = st.sampled_from(NAMES.stations)
place = st.sampled_from([*NAMES.bays, NAMES.rack])


@st.composite
def readings(draw):
    volts = draw(st.none() | st.floats(-100, 1000).map(lambda v: round(v, 2)))
    how = draw(st.sampled_from(["receiving", "key_down", "unplugged"]))
    ah = draw(st.none() | amount.filter(bool))
    has_more = volts is not None or ah is not None
    rest = draw(st.none() | st.integers(0, 9000).map(float))
    return Said(
        kind="reading",
        battery=draw(tag),
        volts=volts,
        amps=draw(st.none() | amount) if volts is not None else None,
        how=how if volts is not None else "",
        unplugged_min=rest if volts is not None and how == "unplugged" else None,
        amp_hours=ah,
        ah_in=draw(st.none() | amount.map(abs)) if ah is not None and ah > 0 else None,
        gauge_pct=draw(
            (st.none() if has_more else st.nothing()) | st.integers(0, 100).map(float)
        ),
        **{name: draw(one) for name, one in common.items()},
    )


swaps = (
    st.tuples(tag, tag)
    .filter(lambda two: two[0] != two[1])
    .flatmap(
        lambda two: st.builds(
            Said,
            kind=st.just("swap"),
            station=station,
            battery=st.just(two[0]),
            battery_out=st.sampled_from(["", two[1]]),
            **common,
        )
    )
)
moves = st.one_of(
    st.builds(
        Said, kind=st.just("move"), battery=tag, place=place | st.just(""), **common
    ),
    st.builds(
        Said,
        kind=st.just("move"),
        battery=tag,
        station=station,
        is_spare=st.just(True),
        **common,
    ),
)
others = st.one_of(
    st.builds(
        Said,
        kind=st.just("station"),
        station=station,
        what=st.sampled_from([*IS]),
        **common,
    ),
    st.builds(
        Said,
        kind=st.just("source"),
        source=st.sampled_from(NAMES.sources),
        what=st.sampled_from(["on", "off"]),
        **common,
    ),
    st.builds(
        Said, kind=st.just("note"), text=st.sampled_from(["rain", "at 1420 K08"])
    ),
)


conditions = st.one_of(
    st.builds(
        Said,
        kind=st.just("fault"),
        station=station | st.just(""),
        battery=tag | st.just(""),
        what=st.sampled_from([*WRONG]),
        **common,
    ),
    st.builds(Said, kind=st.just("panel"), what=st.sampled_from(SKY), **common),
    st.builds(
        Said,
        kind=st.just("panel"),
        station=station,
        amps=st.integers(0, 9000).map(lambda whole: whole / 100),
        volts=st.none() | st.integers(0, 9000).map(lambda whole: whole / 100),
        what=st.sampled_from(["", *SKY]),
        **common,
    ),
)


@given(readings() | swaps | moves | others | conditions)
def test_what_is_written_in_full_is_read_as_the_same(said):
    """For every entry: parse(write(entry)) = entry."""
    assert parse(write(said), NAMES) == said


@given(
    st.text(max_size=60)
    | st.lists(st.sampled_from("".join(CORPUS).split())).map(" ".join)
)
def test_any_text_is_understood_or_asked_about(line):
    """Whatever is typed: something is said, or something is asked."""
    found = parse(line, NAMES)

    assert isinstance(found, Said) or found.asks
    if isinstance(found, Question):
        for choice in found.choices:
            assert choice.line


def test_a_whole_message_is_read_line_by_line():
    """A line that only names a station, with a colon, is a head for what follows."""
    found = parse_all("Drumlin:\n12.9 V 1.8 A\noff the air\n\nK11 64 %\n", NAMES)

    assert [write(said) for _, said in found] == [
        "K08 12.9 V 1.8 A receiving",
        "Drumlin off the air",
        "K11 64 %",
    ]


@pytest.mark.parametrize(
    ("line", "swap", "reading"),
    [
        ("drumlin K13 in K08 out 12.4 V", "", "K08 12.4 V receiving"),
        ("K13 in at drumlin, K08 out, 31 %", "", "K08 31 %"),
        ("drumlin K13 13.3 V in K08 out", "", "K13 13.3 V receiving"),
        ("drumlin K13 in K08 out 6.2 Ah at 1420: warm", " at 2026-06-27 14:20: warm",
         "K08 6.2 Ah out at 2026-06-27 14:20"),
    ],
)  # fmt: skip
def test_a_swap_with_a_reading_is_two_entries(line, swap, reading):
    """What was read at a swap is of the battery before it; neither is lost."""
    found = [write(said) for _, said in parse_all(line, NAMES)]

    assert found == [f"Drumlin K13 in K08 out{swap}", reading]


def test_a_choice_is_a_line_that_says_it():
    """What is asked comes with answers to tap; each is understood."""
    for typed in (
        "K11 64",
        "drumlin 08",
        "K13 in K08 out",
        "K08 off bay 2",
        "bay 2 K08",
    ):
        found = parse(typed, NAMES)
        if isinstance(found, Question):
            assert found.choices, typed
            assert any(isinstance(parse(c.line, NAMES), Said) for c in found.choices)


#: Places whose names begin as words of the line do.
LIKE_WORDS = (
    "Outwash", "Lowland Inn", "Backwater", "Downhill", "Offshore Rock", "Inlet Hut",
    "Full Moon Bay", "Spare Creek", "Changed Corner", "Forest Hut", "Deadman",
)  # fmt: skip


@pytest.mark.parametrize("line", [one for one in CORPUS if " => " in one])
def test_the_corpus_means_the_same_beside_places_that_begin_like_words(line):
    """“K08 out” is no station Outwash."""
    typed, full = line.split(" => ")
    names = replace(NAMES, stations=(*NAMES.stations, *LIKE_WORDS))
    found = parse(typed, names)
    assert isinstance(found, Said), found
    assert write(found) == full


@pytest.mark.parametrize(
    ("typed", "station"),
    [("outwash", "Outwash"), ("outw", "Outwash"), ("backwater", "Backwater"),
     ("full moon bay", "Full Moon Bay"), ("spare creek", "Spare Creek"),
     ("lowland inn", "Lowland Inn"), ("deadman", "Deadman")],
)  # fmt: skip
def test_such_a_place_is_named_by_more_of_its_name(typed, station):
    """All of it, or more letters than the word has."""
    names = replace(NAMES, stations=(*NAMES.stations, *LIKE_WORDS))
    found = parse(f"{typed} off the air", names)
    assert isinstance(found, Said), found
    assert (found.station, found.what) == (station, "off_air")
