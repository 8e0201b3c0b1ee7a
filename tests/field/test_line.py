"""The log line on the board: understood, asked about, noted."""

from datetime import UTC, datetime, timedelta

import pytest
from django.core.exceptions import ValidationError
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.field.times import typed_moment
from hollow_kettle.log.models import BatteryNow, FieldEntry
from hollow_kettle.ui.forms import check_year

HOUR = timedelta(hours=1)


@pytest.fixture
def say(under_way, client_of):
    """Type a line as somebody does; give the answer's words back."""

    def typed(line, role="coordinator", **more):
        url = reverse("field:line_add", args=[under_way.pk])
        client = client_of(role)
        page = client.post(url, {"line": line, **more}, headers={"HX-Request": "true"})
        return page.content.decode()

    return typed


def kinds():
    """What was noted since the event began, oldest first."""
    return list(
        FieldEntry.objects.filter(device="page")
        .order_by("pk")
        .values_list("kind", flat=True)
    )[-3:]


def last():
    return FieldEntry.objects.order_by("pk").last()


@pytest.mark.parametrize(
    ("line", "kind", "fields"),
    [
        ("k1 12.9 v 2.4 a key down", "reading", {"volts": 12.9, "how": "key_down"}),
        ("esker 5.5 Ah out, 61 %", "reading", {"amp_hours": 5.5, "gauge_pct": 61}),
        ("esker K03 in K01 out", "swap", {}),
        ("K03 to drumlin as spare", "move", {}),
        ("K03 on the way", "move", {"place": None}),
        ("drumlin off the air: fuse blown", "off_air", {"note": "fuse blown"}),
        ("drumlin low power", "power_step", {"step": "low"}),
        ("note rain: a lot", "note", {"note": "rain: a lot"}),
    ],
)
def test_a_line_is_noted_as_its_form_would(say, line, kind, fields):
    """One line, one entry, by the same rules; the line itself is kept."""
    answer = say(line)

    entry = last()
    assert "saved" in answer
    assert entry.kind == kind
    assert entry.raw["line"] == line
    assert {name: getattr(entry, name) for name in fields} == fields


@pytest.mark.parametrize(
    ("line", "asks"),
    [
        ("esker 03", "K03"),
        ("K01 61", "61 of what"),
        ("K01 31 V", "such a battery lies between"),
        ("K77 12.9 V", "no battery K77"),
        ("esker K03 in K03 out", "go in and come out"),
        ("K01 12.9 V at 2099-01-01 10:00", "The event goes from"),
        ("", "Type what you hear"),
        ("K01 12.9 V zzz", "zzz"),
    ],
)
def test_what_is_unclear_or_odd_is_asked_about_and_nothing_is_lost(say, line, asks):
    """Nothing is noted; what was typed is still there, with answers to tap."""
    before = FieldEntry.objects.count()
    answer = say(line)

    answer = answer.replace("&#x27;", "'")
    assert asks in answer
    is_odd = "31 V" in line or "2099" in line
    assert ("I'm sure: keep it" in answer) == is_odd
    assert FieldEntry.objects.count() == before
    assert f">{line}</textarea>" in answer


def test_an_answer_is_tapped_and_what_is_odd_kept_when_it_is_meant(say):
    """ "K01 61 %" is an answer to 61; "!" keeps 31 V, and an unknown tag waits."""
    assert "saved" in say("K01 61", answer="K01 61 %")
    assert last().gauge_pct == 61
    assert "saved" in say("K01 31 V", answer="K01 31 V !")
    assert last().volts == 31
    assert "kept aside" in say("K77 12.9 V !")
    assert last().standing == "quarantine"


def test_a_line_sent_twice_counts_once(say):
    """The same key from the same page: one entry."""
    key = "3e5b0a52-4c0c-4c8e-9d8b-0a52cc4c8e9d"
    say("K01 61 %", key=key)
    answer = say("K01 61 %", key=key)

    assert "counts once" in answer
    assert FieldEntry.objects.filter(gauge_pct=61).count() == 1


def test_a_pasted_message_is_noted_but_for_the_line_that_is_asked_about(say):
    """What is clear is noted; the rest stays in the line with its question."""
    answer = say("Esker:\n12.9 V 1.8 A\nK02 55 %\nK03 70\n")

    assert FieldEntry.objects.filter(volts=12.9).count() == 1
    assert FieldEntry.objects.filter(gauge_pct=55).count() == 1
    assert "70 of what" in answer
    assert "K03 70</textarea>" in answer


def test_an_answer_to_one_line_keeps_the_others(say):
    """Two lines are asked about; the second is answered, the first stays."""
    answer = say("K01 61\nK02 55", answer="1|K02 55 %")

    assert FieldEntry.objects.filter(gauge_pct=55).count() == 1
    assert "61 of what" in answer
    assert ">K01 61</textarea>" in answer
    long = "\n".join(f"note n{number}" for number in range(62))
    answer = say(long)
    assert "log this one next" in answer
    assert "note n60\nnote n61</textarea>" in answer


def test_three_fields_say_a_line(say):
    """For somebody who does not know the line."""
    say("", who="esker", reads="12.9 V 1.8 A", when="5 min ago")

    assert last().volts == 12.9


def test_the_preview_says_what_a_reading_means_alone_and_together(under_way, client_of):
    """Nothing is noted by looking."""
    before = list(BatteryNow.objects.values_list("battery", "soc_typical"))
    count = FieldEntry.objects.count()
    url = reverse("field:line_preview", args=[under_way.pk])
    page = client_of("coordinator").get(url, {"line": "K01 60 %"}).content.decode()

    assert "K01 at Esker: 60 %" in page
    assert "gauge alone" in page
    assert "together" in page
    assert FieldEntry.objects.count() == count
    assert list(BatteryNow.objects.values_list("battery", "soc_typical")) == before


def test_a_station_lead_notes_the_own_station_only(say, under_way):
    """Another's station by the line is refused as by the form."""
    assert "saved" in say("esker off the air", role="station_lead")
    before = FieldEntry.objects.count()
    say("drumlin off the air", role="station_lead")
    assert FieldEntry.objects.count() == before


@pytest.mark.parametrize("zone", ["America/Chicago", "Europe/Helsinki"])
@pytest.mark.parametrize("typed", ["9999-12-31 23:59", "0001-01-01 00:00"])
def test_a_year_beyond_all_clocks_is_named(under_way, typed, zone):
    """In a zone ahead or behind, neither end of the calendar breaks."""
    found = typed_moment(typed, under_way.starts_at, zone)
    assert f"{found.year:04}" == typed[:4]
    with pytest.raises(ValidationError, match="between 1970 and 2099"):
        check_year(found.year)


@pytest.mark.parametrize(
    ("line", "utc"),
    [
        ("{tag} 13.1 V 1 A 10 min ago", "06:30"),
        ("{tag} 13.1 V 1 A 0530z", "05:30"),
        ("{tag} 13.1 V 1 A 0630z", "06:30"),
        ("{tag} 13.1 V 1 A at 0125", "06:25"),
        ("{tag} 13.1 V 1 A at 0155", "05:55"),
    ],
)
def test_in_the_night_when_clocks_go_back_each_time_is_one_moment(
    under_way, shelf, marin, boss, line, utc
):
    """01:40 EST at the second 01:xx: the latest that has been, z and ago exactly."""
    night = datetime(2026, 11, 1, 6, 40, tzinfo=UTC)
    under_way.zone = "America/New_York"
    under_way.starts_at, under_way.ends_at = night - 6 * HOUR, night + 6 * HOUR
    under_way.clock_offset = night - real_now()
    under_way.save()
    battery = shelf["K01"]
    url = reverse("field:line_add", args=[under_way.pk])
    said = {"line": line.format(tag=battery.tag) + " !"}
    page = boss.post(url, said, headers={"HX-Request": "true"})

    entry = FieldEntry.objects.filter(kind="reading").latest("pk")
    assert f"{entry.effective_at:%H:%M}" == utc
    here = "EST" if utc >= "06" else "EDT"
    assert f"01:{utc[3:]} {here}" in page.content.decode() or "ago" in line


def test_what_goes_backwards_or_lies_ahead_is_asked_about(say, under_way):
    """Back before it went off would leave it off; a move ahead of now is not made."""
    say("drumlin off the air at 1358 !")
    said = say("drumlin back at 1355")
    assert "is noted off the air since 13:58, later than 13:55" in said
    assert last().kind == "off_air"
    assert "min ahead of now" in say("k03 to bay 1 at 1409")
    say("drumlin back at 1359")
    assert last().kind == "back"
