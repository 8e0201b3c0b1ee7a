"""What a phone kept without network arrives once, whole, and as its author's."""

import json
from datetime import timedelta
from uuid import uuid4

import pytest
from django.urls import reverse
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase

from hollow_kettle.clock import real_now
from hollow_kettle.field import phone, services
from hollow_kettle.log.models import FieldEntry, Place
from hollow_kettle.plan.yard.services import add_bay


@pytest.fixture
def post(under_way, client_of):
    """Send a batch as a phone does."""
    url = reverse("field:entries_add", args=[under_way.pk])

    def sent(entries, role="logger", **more):
        body = {"v": 1, "device": "p1", "sent_at": real_now().isoformat(), **more}
        answer = client_of(role).post(
            url, json.dumps(body | {"entries": entries}), "application/json"
        )
        return answer.json()["answers"] if answer.status_code == 200 else answer

    return sent


def entry(what="reading", minutes_ago=0, **fields):
    """One entry as a phone keeps it."""
    return {
        "key": str(uuid4()),
        "what": what,
        "typed_at": (real_now() - timedelta(minutes=minutes_ago)).isoformat(),
        "fields": fields,
        "late": True,
    }


def test_a_batch_is_answered_item_by_item_and_sent_again_counts_once(post):
    """What is good is kept, what is not waits; nothing is refused, nothing doubled."""
    entries = [
        entry(tag="K01", gauge_pct="61"),
        entry(tag="K99", gauge_pct="50"),
        entry(tag="K01", volts="a lot"),
        entry(what="dance"),
    ]
    first, again = post(entries), post(entries[::-1])

    assert [one["kept"] for one in first] == [True] * 4
    assert first[0]["words"] == "Reading is saved."
    assert "no battery K99" in first[1]["words"]
    assert "Volts must be a plain number" in first[2]["words"]
    assert all("counts once" in one["words"] for one in (again[3], again[0]))
    assert FieldEntry.objects.filter(device="phone p1").count() == 4
    kept = FieldEntry.objects.filter(device="phone p1", standing="kept")
    assert kept.get().gauge_pct == 61


def test_it_happened_when_it_was_typed_by_the_right_clock(post, under_way):
    """The phone is ten minutes behind; an hour later it finds the network."""
    behind = timedelta(minutes=10)
    typed = real_now() - behind - timedelta(minutes=60)
    late = entry(tag="K01", gauge_pct="61") | {"typed_at": typed.isoformat()}
    post([late], sent_at=(real_now() - behind).isoformat())

    found = FieldEntry.objects.get(gauge_pct=61)
    expected = under_way.clock.at(real_now() - timedelta(minutes=60))
    assert abs((found.effective_at - expected).total_seconds()) < 10
    assert found.skew_s == pytest.approx(600, abs=10)
    assert found.device_at == typed


def test_an_entry_stays_its_author_s_whoever_sends_it(post, people, esker, drumlin):
    """Typed by the lead of Esker, sent by a logger: the lead's, and his rights."""
    author = phone.author_token(people["station_lead"])
    own = entry(what="station", station=str(esker.pk), what_="", text="fuse")
    own["fields"]["what"] = "off_air"
    other = json.loads(json.dumps(own)) | {"key": str(uuid4())}
    other["fields"]["station"] = str(drumlin.pk)
    answers = post([one | {"author": author} for one in (own, other)])

    assert answers[0]["words"] == "Station is saved."
    assert "a station that its author does not log for" in answers[1]["words"]
    kept = FieldEntry.objects.get(station_key=esker.pk, kind="off_air")
    assert kept.actor == people["station_lead"]
    forged = entry(tag="K01", gauge_pct="12") | {"author": author[:-2] + "xx"}
    post([forged])
    assert FieldEntry.objects.get(gauge_pct=12).actor == people["logger"]


def test_what_waits_is_answered_from_what_was_typed(post, under_way, esker, boss):
    """The form of a waiting entry shows the phone's own fields."""
    bad = entry(what="station", station=str(esker.pk), what_="", taken="half nine")
    bad["fields"]["what"] = "low"
    post([bad])
    waits = FieldEntry.objects.get(standing="quarantine")
    page = boss.get(reverse("field:entry_answer", args=[under_way.pk, waits.pk]))

    assert page.status_code == 200
    assert '<option value="low" selected>' in page.content.decode()
    assert "author" not in waits.raw["sent"]


def test_what_is_odd_is_asked_about_while_somebody_is_there(post):
    """The form comes back with its question; sent late, it is kept as it was meant."""
    odd = entry(tag="K01", volts="31") | {"late": False}
    (asked,) = post([odd])
    assert not asked["kept"]
    assert "such a battery lies between" in asked["form"]
    assert not FieldEntry.objects.filter(volts=31).exists()

    (kept,) = post([odd | {"late": True}])
    assert kept["kept"]
    assert FieldEntry.objects.get(volts=31).standing == "kept"


def test_who_may_log_nothing_sends_nothing(post):
    """An observer's phone is refused as its form is."""
    assert post([entry(tag="K01", gauge_pct="61")], role="observer").status_code == 403


@pytest.mark.parametrize("body", ["", "[]", "{}", '{"entries": 3}', '{"entries": [1]}'])
def test_what_is_no_batch_is_said_so(under_way, client_of, body):
    """A sentence, not an error page."""
    url = reverse("field:entries_add", args=[under_way.pk])
    answer = client_of("logger").post(url, body, "application/json")

    assert answer.status_code == 422
    assert answer.json()["error"]


json_value = st.recursive(
    st.none() | st.booleans() | st.floats(allow_nan=False) | st.text(max_size=20),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.text(max_size=8), inner, max_size=4)
    ),
    max_leaves=8,
)
like_an_entry = st.fixed_dictionaries(
    {},
    optional={
        "key": json_value,
        "what": st.sampled_from(["reading", "swap", "move", "note", "x"]) | json_value,
        "typed_at": json_value,
        "author": json_value,
        "late": json_value,
        "fields": st.dictionaries(
            st.sampled_from(["tag", "volts", "taken", "station", "to", "text", "sure"]),
            json_value,
        )
        | json_value,
    },
)


@pytest.mark.usefixtures("fuzzed")
class TestAnything(TestCase):
    """Whatever is sent as an entry is answered, and kept or asked about."""

    @given(st.lists(like_an_entry, max_size=3))
    def test_any_entry_is_answered(self, entries):
        """No error page, and no half of an entry."""
        answer = self.client.post(
            self.url, json.dumps({"entries": entries}), "application/json"
        )

        assert answer.status_code == 200
        assert len(answer.json()["answers"]) == len(entries)


@pytest.fixture
def fuzzed(request, under_way, client_of):
    """Give a test's class a signed-in client."""
    request.cls.url = reverse("field:entries_add", args=[under_way.pk])
    signed_in = client_of("logger")
    request.cls.setUp = lambda self: setattr(self, "client", signed_in)


def test_a_battery_that_must_not_charge_there_is_stopped(
    post, under_way, boss, shelf, marin
):
    """The page is full of it, a near miss is noted once, and nothing was moved."""
    source = under_way.sources.get()
    add_bay(under_way, name="Lead bay", source=source, max_w=100, chemistries=["agm"])
    bay = under_way.bays.get(name="Lead bay")
    services.note_set_up(under_way, by=marin)
    place = Place.objects.get(pk=bay.pk)
    url = reverse("field:entry_add", args=[under_way.pk, "move"])
    sent = {"uid": str(uuid4()), "tag": "K03", "to": place.pk}
    for _ in range(2):
        page = boss.post(url, sent)
        assert page.status_code == 422
        assert "K03 must not charge on Lead bay" in page.content.decode()
        assert "It may charge on <b>Bay 1</b>" in page.content.decode()
    moves = FieldEntry.objects.filter(kind="move", place=place)
    misses = FieldEntry.objects.filter(note__startswith="near miss, stopped: K03 must")
    assert (moves.count(), misses.count()) == (0, 1)

    now = entry(what="move", tag="K03", to=str(place.pk)) | {"late": False}
    assert post([now])[0]["kept"] is False
    assert "full-stop-word" in post([now])[0]["stop"]
    assert (moves.count(), misses.count()) == (0, 2)
    assert post([now | {"late": True}])[0]["kept"]  # it was done, out of reach
    assert moves.count() == 1
    fits = entry(what="move", tag="K03", to=str(under_way.bays.get(name="Bay 1").pk))
    assert post([fits | {"late": False}])[0]["kept"]
