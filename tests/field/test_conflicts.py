"""Contradictions are one question each, and an answer settles them."""

from datetime import timedelta
from uuid import uuid4

import pytest
from django.urls import reverse

from hollow_kettle.field import services
from hollow_kettle.field.conflicts import questions, settle
from hollow_kettle.log.models import Conflict, FieldEntry, Placement

AT_ESKER, AT_DRUMLIN, AWAY = "Esker", "Drumlin", None


@pytest.fixture
def said(event, shelf, esker, drumlin, marin):
    """Note swaps: minutes after noon, the station, what went in and came out."""

    def say(*swaps):
        for minute, station, battery, out in swaps:
            services.log_swap(
                event,
                {"Esker": esker, "Drumlin": drumlin}[station],
                battery=shelf[battery],
                battery_out=shelf[out] if out else None,
                by=marin,
                at=event.starts_at + timedelta(minutes=minute),
            )

    return say


def where(shelf):
    """Where each battery is now, by tag."""
    tags = {asset.pk: tag for tag, asset in shelf.items()}
    return {
        tags[row.battery]: row.place.name.split(",")[0] if row.place else None
        for row in Placement.objects.filter(ended_at=None).select_related("place")
    }


ELSEWHERE = [(0, "Esker", "K01", None), (60, "Drumlin", "K01", None)]
OTHER = [(0, "Esker", "K01", None), (60, "Esker", "K02", "K03")]
TWICE = [
    (0, "Esker", "K01", None),
    (60, "Esker", "K02", "K01"),
    (70, "Esker", "K02", "K03"),
]


@pytest.mark.parametrize(
    ("swaps", "asks", "answer", "then"),
    [
        (ELSEWHERE, "Where is K01?", 0, {"K01": AT_DRUMLIN}),
        (ELSEWHERE, "Where is K01?", 1, {"K01": AT_ESKER}),
        (OTHER, "Which came out?", 0, {"K02": AT_ESKER, "K03": AWAY}),
        (OTHER, "Which came out?", 1, {"K02": AT_ESKER, "K01": AWAY}),
        (TWICE, "Which came out?", 0, {"K02": AT_ESKER, "K03": AWAY}),
        (TWICE, "Which came out?", 1, {"K02": AT_ESKER, "K01": AWAY}),
    ],
)
def test_an_answer_settles_a_conflict_and_nothing_is_changed(
    event, shelf, boss, said, swaps, asks, answer, then
):
    """What was wrong is struck, what was right stands; no entry is rewritten."""
    said(*swaps)
    tags = {asset.pk: tag for tag, asset in shelf.items()}
    (question,) = questions(event, tags)
    assert question.asks == asks
    before = list(FieldEntry.objects.order_by("pk").values())
    board = reverse("field:board", args=[event.pk])
    assert question.words in boss.get(board).content.decode()

    sent = {"entry": question.entry, "kind": question.kind, "answer": answer}
    url = reverse("field:conflict_answer", args=[event.pk])
    page = boss.post(url, sent, follow=True).content.decode()

    assert "Settled: " in page
    assert questions(event, tags) == []
    now = where(shelf)
    assert {tag: now[tag] for tag in then} == then
    assert list(FieldEntry.objects.order_by("pk").values())[: len(before)] == before
    again = boss.post(url, sent, follow=True).content.decode()
    assert "settled already" in again


@pytest.mark.parametrize(
    "change", [{"answer": "7"}, {"answer": "x"}, {"entry": uuid4()}]
)
def test_a_foreign_answer_settles_nothing(event, shelf, boss, said, change):
    """Only what was asked can be answered."""
    said(*ELSEWHERE)
    conflict = Conflict.objects.get()
    sent = {"entry": conflict.entry_uid, "kind": conflict.kind, "answer": "0"}

    boss.post(reverse("field:conflict_answer", args=[event.pk]), sent | change)

    assert len(questions(event, {})) == 1
    assert not FieldEntry.objects.exclude(kind="swap").exists()


def test_each_answer_says_before_what_it_would_change(event, said, boss, marin):
    """The page's words are what is so afterwards; looking changes nothing."""
    said(*ELSEWHERE)
    before = FieldEntry.objects.count(), list(Placement.objects.values_list())
    url = reverse("field:conflict_list", args=[event.pk])
    ((question, answers),) = boss.get(url).context["asked"]
    told = {answer.words: moved for answer, moved in answers}

    assert (FieldEntry.objects.count(), list(Placement.objects.values_list())) == before
    assert set(told) == {"at Drumlin; it had left Esker", "still at Esker"}
    stays = told["still at Esker"]
    assert any(words.startswith("K01 Esker, not Drumlin") for words in stays)
    assert not any("K01" in one for one in told[next(iter(told))])
    assert "Which came out?" not in boss.get(url).content.decode()
    settle(event, question, question.answers[1], by=marin, at=event.last_moment)
    assert boss.get(url).context["asked"] == []


def test_a_late_entry_and_a_strike_say_what_they_moved(event, said, shelf, boss):
    """K02 was put in at Drumlin an hour ago; it is noted now, and struck again."""
    said((0, "Esker", "K01", None))
    url = reverse("field:line_add", args=[event.pk])
    page = boss.post(url, {"line": "drumlin K02 in at 1300"}, follow=True)
    page = page.content.decode()
    assert "Counted anew from 13:00 on: Drumlin at its reserve" in page
    assert "K02 Drumlin, not unknown" in page

    entry = FieldEntry.objects.get(kind="swap", battery=shelf["K02"].pk)
    strike = reverse("field:entry_strike", args=[event.pk, entry.pk])
    page = boss.post(strike, {"because": "misheard"}, follow=True).content.decode()
    assert "K02 unknown, not Drumlin" in page
    on_time = boss.post(url, {"line": "drumlin K02 in"}, follow=True).content.decode()
    assert "Counted anew" not in on_time
