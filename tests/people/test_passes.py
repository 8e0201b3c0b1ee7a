"""Event passes: in without an account, for some hours, at one event."""

import json
import re
from datetime import timedelta
from uuid import uuid4

import pytest
from django.test import Client
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.people import passes
from hollow_kettle.people.models import Duty, EventPass, Guest, PassTry

WHO = {"name": "Robin", "call_sign": "qx1abc/p"}


@pytest.fixture
def made(event, esker, marin):
    """Make a pass for a role."""

    def make(role="logger"):
        station = esker.pk if role == "station_lead" else None
        return passes.make_pass(
            event.pk, event.name, role=role, station_key=station, hours=2, by=marin
        )

    return make


def joined(shown):
    client = Client()
    client.post(reverse("people:join_link", args=[shown.token]), WHO)
    return client


def test_a_coordinator_makes_one_that_is_shown_once(event, boss):
    """The link and the code let somebody in; nothing kept says them again."""
    url = reverse("plan:pass_list", args=[event.pk])
    page = boss.post(url, {"role": "logger", "hours": "3"}).content.decode()
    code = re.search(r"Read out: <b class=\"mono\">([A-Z0-9 ]{9})<", page)[1]
    (link,) = set(re.findall(r"/join/([\w-]{22})/", page))
    assert code not in boss.get(url).content.decode()
    kept = EventPass.objects.values_list("link_digest", "code_digest").get()
    assert link not in kept
    assert code.replace(" ", "") not in kept

    board = reverse("field:board", args=[event.pk])
    for way, more in (
        (reverse("people:join"), {"code": code.lower()}),
        (reverse("people:join_link", args=[link]), {}),
    ):
        client = Client()
        assert event.name in client.post(way, WHO | more, follow=True).content.decode()
        assert client.get(board).status_code == 200
    assert {str(g) for g in Guest.objects.all()} == {"Robin (QX1ABC/P)"}
    assert not Duty.objects.filter(actor__guest__isnull=False).exists()


@pytest.mark.parametrize("hours", ["0", "97", "soon", ""])
def test_a_pass_lives_for_hours(event, boss, hours):
    """The field and its range are named."""
    url = reverse("plan:pass_list", args=[event.pk])
    page = boss.post(url, {"role": "logger", "hours": hours})

    assert page.status_code == 422
    assert not EventPass.objects.exists()


def test_a_guest_logs_by_role_and_sees_no_other_room(
    made, event, esker, drumlin, shelf
):
    """A lead's pass is for its station; the shelf, passwords and people are shut."""
    client = joined(made("station_lead"))
    url = reverse("field:entry_add", args=[event.pk, "station"])
    for station, want in ((esker, 302), (drumlin, 403)):
        sent = {"uid": uuid4(), "station": station.pk, "what": "off_air"}
        assert client.post(url, sent).status_code == want
    assert FieldEntry.objects.get().actor.name == "Robin (QX1ABC/P)"
    shut = [
        reverse("shelf:asset_list"), reverse("shelf:export_all"),
        reverse("people:own_password"), reverse("people:person_list"),
        reverse("plan:pass_list", args=[event.pk]),
    ]  # fmt: skip
    assert {client.get(one).status_code for one in shut} == {403}
    assert client.get(reverse("home"), follow=True).status_code == 200
    client.post(reverse("people:sign_out"))
    board = reverse("field:board", args=[event.pk])
    assert "/sign-in/" in client.get(board)["Location"]


@pytest.mark.parametrize("ends", ["revoked", "expired"])
def test_who_joined_by_a_pass_that_ended_is_out_and_nothing_seen_is_lost(
    made, event, boss, shelf, ends
):
    """The next page is the door; what the phone still holds waits in quarantine."""
    shown = made()
    client = joined(shown)
    board = reverse("field:board", args=[event.pk])
    assert client.get(board).status_code == 200
    if ends == "revoked":
        key = [event.pk, shown.made.pk]
        boss.post(reverse("plan:pass_revoke", args=key))
    else:
        past = real_now() - timedelta(seconds=1)
        EventPass.objects.update(expires_at=past)

    assert "/sign-in/" in client.get(board)["Location"]
    again = Client().post(reverse("people:join_link", args=[shown.token]), WHO)
    assert again.status_code == 404
    assert passes.by_code(shown.code) is None
    entry = {"key": str(uuid4()), "what": "reading",
             "fields": {"tag": "K01", "gauge_pct": "61"}, "late": True}  # fmt: skip
    body = {"device": "p1", "sent_at": real_now().isoformat(), "entries": [entry]}
    for _ in range(2):
        answer = client.post(
            reverse("field:entries_add", args=[event.pk]),
            json.dumps(body), "application/json",
        )  # fmt: skip
        (one,) = answer.json()["answers"]
        assert one["kept"]
    waits = FieldEntry.objects.get(device="phone p1")
    assert (waits.standing, waits.standing_why) == ("quarantine", "the pass has ended")
    nobody = Client().post(
        reverse("field:entries_add", args=[event.pk]), "{}", "application/json"
    )
    assert "/sign-in/" in nobody["Location"]


def test_guessing_a_code_is_slow_and_links_go_on_working(made):
    """Five times the same, sixty times any within ten minutes; then they are forgot."""
    shown = made()
    url = reverse("people:join")
    sent = WHO | {"code": "AAAA AAAA"}
    answers = [Client().post(url, sent).status_code for _ in range(6)]
    assert answers == [422] * 5 + [429]
    assert Client().post(url, WHO | {"code": shown.code}).status_code == 302
    for number in range(60):
        PassTry.objects.create(digest=str(number))
    assert Client().post(url, WHO | {"code": shown.code}).status_code == 429
    assert joined(shown).get(reverse("home"), follow=True).status_code == 200
    PassTry.objects.update(at=real_now() - passes.WITHIN)
    assert Client().post(url, WHO | {"code": shown.code}).status_code == 302


def test_who_joins_says_a_name(made):
    """Bad input names its field; nobody is in by it."""
    url = reverse("people:join_link", args=[made().token])
    for sent, words in (
        ({"name": " "}, "This field is required"),
        ({"name": "Robin", "call_sign": "<QX>"}, "A call sign has letters"),
    ):
        page = Client().post(url, sent)
        assert page.status_code == 422
        assert words in page.content.decode()
    assert not Guest.objects.exists()


def test_who_is_signed_in_is_not_put_out_by_a_pass(made, boss):
    """A coordinator who tries the link stays who they are."""
    for url in (
        reverse("people:join"),
        reverse("people:join_link", args=[made().token]),
    ):
        page = boss.post(url, WHO, follow=True).content.decode()
        assert "You are signed in as" in page
    assert not Guest.objects.exists()
    assert boss.get(reverse("people:person_list")).status_code == 200
