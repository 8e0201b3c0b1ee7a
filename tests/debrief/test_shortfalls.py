"""Shortfalls as people enter, correct, join, cut and drop them, through the pages."""

import io
from datetime import timedelta

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from PIL import Image

from hollow_kettle.debrief.page import report_of
from hollow_kettle.field import services
from hollow_kettle.log.services import rebuild
from hollow_kettle.plan.events.services import set_state
from tests.conftest import set_clock


@pytest.fixture
def over(event, shelf, esker, drumlin, marin):
    """Drumlin off the air from minute 100 to 145 and from 150 to 160, by a plug."""
    set_clock(event, 480)
    quiet = {"by": marin, "refresh": False}

    def at(minutes):
        return event.starts_at + timedelta(minutes=minutes)

    for tag, station in (("K01", esker), ("K02", drumlin)):
        services.log_swap(
            event, station, battery=shelf[tag], at=event.starts_at, **quiet
        )
    services.note(
        event, "fault", at=at(105), station_key=drumlin.pk, symptom="quits",
        cause="plug", note="dark on the dashes", **quiet,
    )  # fmt: skip
    for start, end in ((100, 145), (150, 160)):
        services.log_station(event, drumlin, what="off_air", at=at(start), **quiet)
        services.log_station(event, drumlin, what="back", at=at(end), **quiet)
    rebuild(event.pk)
    set_state(event, state="closed")
    return event


def harm(event):
    """Minutes off the air of each shortfall, and its cause."""
    return [
        (round(fall.measured.minutes), fall.why, fall.group)
        for fall in report_of(event, event.ends_at).harm
    ]


def page(event, name, *more):
    """An address of the debrief."""
    return reverse(f"debrief:{name}", args=[event.pk, *more])


def test_a_fault_beside_it_is_its_cause(over):
    """The plug was noted while Drumlin was off; ten minutes later it went again."""
    assert harm(over) == [(45, "plug", "connection"), (10, "", "")]


def test_two_become_one_and_one_becomes_two(over, boss):
    """10 + 45 min, and 5 between, are 60; cut at 14:00 they are 20 and 40."""
    falls = report_of(over, over.ends_at).harm

    said = boss.post(page(over, "shortfall_merge"), {"key": falls[0].key}, follow=True)
    assert "Choose at least two" in said.content.decode()
    boss.post(page(over, "shortfall_merge"), {"key": [one.key for one in falls]})
    assert harm(over) == [(60, "plug", "connection")]
    (one,) = report_of(over, over.ends_at).harm
    split = page(over, "shortfall_split", one.key)
    said = boss.post(split, {"at": "2026-06-27 13:00"})
    assert said.status_code == 422
    assert "between its start and its end" in said.content.decode()
    boss.post(split, {"at": "2026-06-27 14:00"})
    assert [minutes for minutes, *_ in harm(over)] == [20, 40]


def test_one_is_corrected_dropped_and_brought_back(over, boss, drumlin):
    """What somebody says stands for what was found; the log keeps it all the while."""
    first = report_of(over, over.ends_at).harm[0]
    edit = page(over, "shortfall_edit", first.key)
    said = {
        "station": drumlin.pk, "what": "off_air", "starts": "2026-06-27 13:40",
        "ends": "2026-06-27 13:30", "why": "fuse", "people": "3", "done": "new fuse",
    }  # fmt: skip

    wrong = boss.post(edit, said | {"people": "200000"}).content.decode()
    assert "To must be after From." in wrong
    assert "People affected must be between 0 and 100000, not 200000" in wrong
    late = boss.post(edit, said | {"ends": "2026-06-28 13:30"}).content.decode()
    assert "To must lie in the event, 2026-06-27 12:00 to 2026-06-27 20:00." in late
    boss.post(edit, said | {"ends": "2026-06-27 14:00"})
    assert harm(over)[0] == (20, "fuse", "connection")
    text = boss.get(page(over, "event")).content.decode()
    assert "3 people affected" in text
    assert "by hand, Marin" in text

    now = report_of(over, over.ends_at).harm[0]
    boss.post(page(over, "shortfall_drop", now.key))
    assert harm(over) == [(10, "", "")]
    (dropped,) = report_of(over, over.ends_at).dropped
    boss.post(page(over, "shortfall_back", dropped.pk))
    assert harm(over)[0] == (45, "plug", "connection")


def test_one_that_the_log_does_not_have_is_entered(over, boss, esker):
    """Esker was off for 30 min and nobody noted it."""
    said = {
        "station": esker.pk, "what": "off_air", "starts": "2026-06-27 18:00",
        "ends": "2026-06-27 18:30", "why": "", "note": "logger at supper",
    }  # fmt: skip
    boss.post(page(over, "shortfall_add"), said)

    assert harm(over)[-1] == (30, "", "")
    assert boss.get(page(over, "shortfall_edit", "nothing")).status_code == 404


def test_a_photo_is_kept_as_evidence_and_shown_to_members_only(over, boss, client_of):
    """Written anew as JPEG; what is no photo is refused; joined, it goes along."""
    falls = report_of(over, over.ends_at).harm
    add = page(over, "photo_add", falls[0].key)

    wrong = boss.post(add, {"file": SimpleUploadedFile("a.png", b"no picture")})
    assert wrong.status_code == 422
    assert "must be a JPEG, PNG or WebP photo" in wrong.content.decode()
    out = io.BytesIO()
    Image.new("RGB", (40, 30), "red").save(out, "PNG")
    photo = {"file": SimpleUploadedFile("a.png", out.getvalue()), "words": "the plug"}
    boss.post(add, photo)

    shown = report_of(over, over.ends_at).harm[0].photos[0]
    url = page(over, "photo", shown.pk)
    answer = client_of("observer").get(url)
    assert answer["Content-Type"] == "image/jpeg"
    assert answer.content[:3] == b"\xff\xd8\xff"
    assert client_of("stranger").get(url).status_code == 404
    assert "the plug" in boss.get(page(over, "event")).content.decode()
    keys = [one.key for one in report_of(over, over.ends_at).harm]
    boss.post(page(over, "shortfall_merge"), {"key": keys})
    (one,) = report_of(over, over.ends_at).harm
    assert [str(photo) for photo in one.photos] == ["the plug"]
