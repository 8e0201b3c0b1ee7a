"""The debrief: minutes and watt-hours of what ran short."""

from datetime import UTC, datetime, timedelta
from uuid import uuid4

import numpy as np
import pytest
from django.urls import reverse
from hypothesis import given
from hypothesis import strategies as st

from hollow_kettle.debrief.page import report_of
from hollow_kettle.field import services
from hollow_kettle.field.queries import entries_of
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.log.services import rebuild
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.events.services import set_state
from hollow_kettle.plan.models import Event
from powercore.debrief.shortfall import Stretch, below, shortfall
from powercore.values import TimeGrid
from tests.conftest import set_clock

GRID = TimeGrid.covering(120)
FULL_W = np.where(GRID.edges_min[:-1] < 60, 60.0, 0.0)


@pytest.mark.parametrize(
    ("what", "start", "end", "minutes", "energy_wh"),
    [
        ("off_air", 10, 40, 30, 30.0),
        ("off_air", 50, 100, 10, 10.0),  # open until minute 60 only
        ("off_air", -30, 15, 15, 15.0),  # the event begins at 0
        ("low_power", 0, 60, 60, 40.0),  # 60 W planned, 20 W on low power
        ("shed", 0, 30, 30, None),
        ("reserve", 0, 30, 30, 0.0),
    ],
)
def test_each_way_of_running_short_is_measured(what, start, end, minutes, energy_wh):
    """60 W are 1 Wh a minute; arithmetic by hand."""
    stretch = Stretch(start_min=start, end_min=end)

    found = shortfall(what, stretch, grid=GRID, full_w=FULL_W, low_w=FULL_W / 3)

    assert found.minutes == pytest.approx(minutes)
    assert found.energy_wh == (None if energy_wh is None else pytest.approx(energy_wh))


def test_a_level_below_its_limit_is_found_with_interpolated_crossings():
    """From 0.4 to 0.0 in 40 min it crosses 0.2 half way, and again on the way up."""
    (found,) = below([0, 40, 80], [0.4, 0.0, 0.4], 0.2)

    assert (found.start_min, found.end_min) == (20, 60)


@given(st.lists(st.floats(0, 1), min_size=2, max_size=30), st.floats(0.1, 0.9))
def test_stretches_below_are_in_order_and_within_the_samples(levels, limit):
    """They never overlap and never leave the time that was sampled."""
    times = [10.0 * i for i in range(len(levels))]
    found = below(times, levels, limit)

    ends = [moment for s in found for moment in (s.start_min, s.end_min)]
    assert ends == sorted(ends)
    assert all(0 <= moment <= times[-1] for moment in ends)


@pytest.fixture
def over(event, shelf, esker, drumlin, marin):
    """An event with 45 min off the air at Drumlin and a battery run deep at Esker."""
    set_clock(event, 480)
    start = event.starts_at

    def at(minutes):
        return start + timedelta(minutes=minutes)

    quiet = {"by": marin, "refresh": False}
    for tag, station in (("K01", esker), ("K02", drumlin)):
        services.note(
            event, "reading", at=start, battery=shelf[tag].pk, gauge_pct=100.0, **quiet
        )
        services.log_swap(event, station, battery=shelf[tag], at=start, **quiet)
    services.log_station(
        event, drumlin, what="off_air", at=at(100), note="lead", **quiet
    )
    services.log_station(event, drumlin, what="back", at=at(145), **quiet)
    for minute, gauge in ((120, 70.0), (240, 40.0), (360, 10.0)):
        services.note(
            event,
            "reading",
            at=at(minute),
            battery=shelf["K01"].pk,
            gauge_pct=gauge,
            **quiet,
        )
    services.note(event, "note", by=marin, at=at(470), note="over")
    from hollow_kettle.log.services import rebuild

    rebuild(event.pk)
    set_state(event, state=Event.State.CLOSED)
    return event


def test_off_the_air_has_its_minutes_and_watt_hours(over, drumlin):
    """45 min of what Drumlin was planned to draw: 2.244 A at 12.8 V (by hand)."""
    mean_a = 0.6 * 0.7 + 0.4 * (1.6 + 0.4 * 7.4)
    report = report_of(over, over.ends_at)

    (line,) = report.harm
    assert (line.station, line.words, line.note) == (drumlin, "off the air", "lead")
    assert line.measured.minutes == pytest.approx(45)
    assert line.measured.energy_wh == pytest.approx(0.75 * mean_a * 12.8)
    assert line.low_wh < line.measured.energy_wh < line.high_wh


def test_into_reserve_is_counted_apart_from_the_readings(over, esker):
    """Esker's gauge fell from 40 to 10 % between hours 4 and 6: below 20 % since."""
    report = report_of(over, over.ends_at)

    falls = [fall for fall in report.reserve if fall.station == esker]
    assert 120 < sum(fall.measured.minutes for fall in falls) < 240
    assert falls[0].words == "into reserve"
    assert falls[0].evidence == "gauge 10 %"
    assert report.missing_wh == pytest.approx(report.harm[0].measured.energy_wh)


def test_into_reserve_is_only_likely_without_a_reading_and_never_against_one(
    over, shelf, esker, marin
):
    """Of a 19 Ah pack at 2.2 A for 8 h nobody read anything; then a gauge says 60 %."""
    battery = shelf["K01"].pk
    quiet = {"by": marin, "refresh": False}
    later = FieldEntry.objects.filter(battery=battery, effective_at__gt=over.starts_at)
    for entry in later:
        services.strike(over, entry, because="not so", at=over.ends_at, by=marin)
    rebuild(over.pk)
    falls = report_of(over, over.ends_at).reserve
    (likely,) = (fall for fall in falls if fall.station == esker)
    late = over.starts_at + timedelta(minutes=470)
    services.note(over, "reading", at=late, battery=battery, gauge_pct=60.0, **quiet)
    rebuild(over.pk)

    assert likely.words.startswith("likely into reserve, ")
    assert likely.words.endswith(" in 10")
    assert likely.evidence == "no reading; by what it drew"
    now = report_of(over, over.ends_at).reserve
    assert esker not in [fall.station for fall in now]


def test_used_energy_follows_the_readings_not_the_plan(over, esker, drumlin):
    """Esker used nearly all of 19 Ah, more than planned; Drumlin less, it was off."""
    lines = {line.station: line for line in report_of(over, over.ends_at).stations}

    assert lines[esker].used_wh == pytest.approx(0.9 * 19 * 13.0, rel=0.12)
    assert lines[esker].used_wh > lines[esker].planned_wh
    assert lines[drumlin].used_wh < lines[drumlin].planned_wh


def test_the_page_shows_it_to_an_observer(over, client_of):
    """Minutes, watt-hours, and where nobody knows."""
    page = client_of("observer").get(reverse("debrief:event", args=[over.pk]))

    text = page.content.decode()
    assert "Where power ran short" in text
    assert "<b>45</b>" in text
    assert client_of("observer").get(reverse("debrief:home")).status_code == 302


def test_an_entry_of_the_year_one_costs_a_page_nothing(over, shelf, esker, drumlin):
    """Kept before anybody checked: a page goes by the event, whatever the log says."""
    before = report_of(over, over.clock.now())
    for day in (datetime(1, 1, 1, tzinfo=UTC), datetime(2025, 6, 27, tzinfo=UTC)):
        FieldEntry.objects.create(
            uid=uuid4(), device="old", kind="swap", event_key=over.pk,
            actor=Actor.objects.first(), effective_at=day, battery=shelf["K03"].pk,
            place=services.position_of(drumlin), station_key=drumlin.pk,
        )  # fmt: skip
    rebuild(over.pk)
    report = report_of(over, over.clock.now())

    turns = [turn for line in report.stations for turn in line.turns]
    assert min(turn.start for turn in turns) >= over.starts_at
    assert len(turns) <= sum(len(line.turns) for line in before.stations) + 2


def test_a_closed_event_takes_strikes_and_late_entries_from_a_coordinator(
    over, shelf, drumlin, client_of, people
):
    """The debrief counts anew and says so; a logger's waits, and shows as waiting."""
    set_state(over, state=Event.State.RUNNING)
    note = {"at": over.starts_at + timedelta(minutes=200), "note": "a lead"}
    mine = services.log_station(
        over, drumlin, what="off_air", by=people["logger"], **note
    )
    set_state(over, state=Event.State.CLOSED)
    before = report_of(over, over.clock.now()).off_min
    entry = FieldEntry.objects.get(uid=mine.uid)
    url = reverse("field:entry_strike", args=[over.pk, entry.pk])

    set_clock(over, 480 + 3 * 1440)  # days later
    said = client_of("logger").post(url, {"because": "not so"}, follow=True)
    assert "Kept aside (quarantine): the event is closed" in said.content.decode()
    assert entry.pk not in {e.pk for e in entries_of(over) if e.is_struck}
    assert report_of(over, over.clock.now()).off_min == before
    said = client_of("coordinator").post(url, {"because": "not so"}, follow=True)
    assert "The debrief is worked out again" in said.content.decode()
    assert report_of(over, over.clock.now()).off_min < before
    late = {
        "uid": uuid4(), "station": drumlin.pk, "what": "off_air",
        "taken": "2026-06-27 19:00",
    }  # fmt: skip
    add = reverse("field:entry_add", args=[over.pk, "station"])
    said = client_of("coordinator").post(add, late, follow=True).content.decode()
    assert "Station is saved. The debrief is worked out again." in said
