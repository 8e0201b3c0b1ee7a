"""No page breaks: clubs unlike any other, and what nobody would type."""

import json
import re
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import timedelta
from pathlib import Path
from random import Random
from threading import Barrier
from uuid import UUID

import pytest
from django.core.exceptions import ValidationError
from django.db import connection, transaction
from django.test import Client
from django.urls import reverse

import hollow_kettle
from hollow_kettle.field import services as field
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.people.services import make_person
from hollow_kettle.plan.events.services import save_event
from hollow_kettle.plan.files.export import export_scenario
from hollow_kettle.plan.files.imports import import_scenario
from hollow_kettle.plan.ledger.page import ledger_page
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.stations.services import (
    add_supply,
    remove_station,
    save_station,
)
from hollow_kettle.plan.sun.services import add_array
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.prints import paper
from tests.conftest import NOON, PASSWORD
from tests.walker import Form, at_limits, shape, walk


@pytest.fixture(autouse=True)
def quick_paper(monkeypatch):
    """Pages on paper have tests of their own; here they need not be drawn."""
    monkeypatch.setattr(paper, "_render", lambda *args: b"%PDF-")


@pytest.fixture
def empty(boss):
    """A club of nothing but its coordinator."""
    return boss


@pytest.fixture
def bare(boss, stocked):
    """Two events with one station each and nothing else at all."""
    for name in ("Bare", "Bald"):
        event = save_event(
            None, name=name, zone="UTC", starts=NOON, ends=NOON + timedelta(hours=1)
        )
        save_station(event, name="Only", tier=1, walk_min=1)
    return boss


@pytest.fixture
def full(boss, event, kit):
    """The event of the other tests, with a rotation and the kit on the shelf."""
    make_rotation(event, by=make_person("fern", password=PASSWORD))
    return boss


@pytest.fixture
def limits(full):
    """The same, and then everything its forms take at both ends of each range."""
    for is_high in (False, True):
        for page in walk(full, each=2):
            for address, sent in at_limits(page, is_high=is_high):
                if "sign-out" not in address and "password" not in address:
                    assert full.post(address, sent).status_code < 500, address
    return full


@pytest.mark.parametrize(
    "club", ["empty", "bare", "full", pytest.param("limits", marks=pytest.mark.full)]
)
def test_every_page_of_a_strange_club_answers(club, request, db):
    """All that links lead to, as its coordinator and as somebody without a duty."""
    pages = walk(request.getfixturevalue(club))
    stranger = Client()
    stranger.force_login(make_person("sedge", password=PASSWORD).user)

    assert len(pages) > len(walk(stranger)) > 5


ODD = (
    "", "abc", "-1", "0", "1e309", "nan", "²", "\0", "22:00Z", "25:61", "9999-12-31",
    "0001-01-01", "9999-12-31 23:59", "0001-01-01 00:00", "99999999999999999999",
    "½", "\ud7ff\uffff", "x" * 5000, "../..", "[]", "{}", str(UUID(int=0)),
)  # fmt: skip
LOOKS = r"GET(?:\.get|\.getlist)?[([]\"(\w+)\""
#: Every name that a view looks for in an address.
ASKED = sorted(
    {"one", "other", "by", "at", "tag", "station"}
    | {
        name
        for path in Path(hollow_kettle.__file__).parent.rglob("*.py")
        for name in re.findall(LOOKS, path.read_text())
    }
)


@pytest.mark.full
@pytest.mark.parametrize("club", ["empty", "bare", "full"])
def test_no_form_breaks_whatever_is_typed(club, request, db):
    """Each field of each form, one odd value at a time; nothing is an error page."""
    client = request.getfixturevalue(club)
    pages = walk(client, each=2)
    forms = {form.key: form for page in pages for form in page.forms}
    for page in pages:
        address = page.address.partition("?")[0]
        asked = Form(address, "get", dict.fromkeys(ASKED, ""))
        forms.setdefault((shape(address), "asked"), asked)
    pick = Random(7)
    broken, cookies = [], client.cookies.copy()
    for form in forms.values():
        for name in form.fields:
            for odd in pick.sample(ODD, 3):
                is_asked = form.method == "get"
                sent = ({} if is_asked else form.fields) | {name: odd}
                send = client.post if form.method.lower() == "post" else client.get
                client.cookies = cookies.copy()  # one of the forms signs out
                try:
                    with transaction.atomic():
                        status = send(form.action, sent).status_code
                        transaction.set_rollback(True)
                except Exception as error:
                    broken.append((form.action, name, odd[:20], repr(error)[:120]))
                else:
                    if status >= 500:
                        broken.append((form.action, name, odd[:20], status))
    assert not broken, "\n".join(map(str, broken))


@pytest.fixture
def race(transactional_db, event, marin):
    """Send two forms at the very same time; their answers."""
    start = Barrier(2)

    def send(address, sent):
        client = Client()
        client.force_login(marin.user)
        start.wait()
        try:
            return client.post(address, sent)
        finally:
            connection.close()

    def both(address, one, other):
        with ThreadPoolExecutor(2) as pool:
            return list(pool.map(send, (address, address), (one, other)))

    return both


def test_of_two_saved_at_once_the_second_is_told(race, event, shelf):
    """People, stations, tags that look alike: one is kept, the other told why."""
    person = {"username": "fern", "name": "Fern", "password": PASSWORD}
    station = {"name": "Kame", "tier": 1, "walk_min": 5, "changeover_s": 120}
    radio = {"tag": "R7", "name": "radio", "receive_a": 1, "key_down_a": 9}
    told = {
        reverse("people:person_add"): (person, person | {"username": "FERN"}),
        reverse("plan:station_add", args=[event.pk]): (station, station),
        reverse("shelf:asset_add", args=["device"]): (radio, radio | {"tag": "R07"}),
    }
    for address, (one, other) in told.items():
        for _ in range(3):
            answers = race(address, one, other)
            kept = [answer for answer in answers if answer.status_code == 302]
            refused = [answer for answer in answers if answer.status_code == 422]
            assert len(kept) + len(refused) == 2, answers
            words = "".join(answer.content.decode() for answer in refused)
            assert re.search("taken|is there|mistaken|saved a moment ago", words)
    assert event.stations.filter(name="Kame").count() == 1
    assert Asset.objects.filter(tag__in=("R7", "R07")).count() == 1


def test_a_station_taken_out_while_it_is_changed_does_not_come_back(event, esker):
    """Who saves it is told; nothing of it is kept."""
    remove_station(event.stations.get(pk=esker.pk))

    with pytest.raises(ValidationError, match="removed from the event meanwhile"):
        save_station(event, esker, name="Esker", tier=3)
    assert not event.stations.filter(name="Esker").exists()


def test_a_station_named_by_a_struck_entry_stays(event, esker, boss, shelf, marin):
    """The page says so; nothing breaks."""
    field.log_swap(event, esker, battery=shelf["K01"], by=marin, at=event.starts_at)
    entry = FieldEntry.objects.get()
    field.strike(event, entry, because="not so", by=marin, at=event.starts_at)
    gone = boss.post(
        reverse("plan:station_delete", args=[event.pk, esker.pk]), follow=True
    )

    assert "so it can&#x27;t be removed" in gone.content.decode()
    assert event.stations.filter(pk=esker.pk).exists()


ODD_VALUES = (
    None,
    "",
    "abc",
    -1,
    0,
    10**9,
    1e300,
    True,
    [],
    {},
    "9999-12-31T00:00:00Z",
)


def leaves(value, path=()):
    """Every place in a file that holds a value, by its path."""
    inner = value.items() if isinstance(value, dict) else enumerate(value)
    for key, one in inner:
        yield (*path, key)
        if isinstance(one, dict | list):
            yield from leaves(one, (*path, key))


@pytest.mark.full
def test_no_file_of_an_event_breaks_its_import(event, esker, shelf, marin):
    """Each value of a file, replaced by odd ones: made, or refused in words."""
    span = {"starts": NOON, "ends": NOON + timedelta(hours=2)}
    add_supply(esker, kind="mains", max_w=50, **span)
    add_array(event, station=esker, watts=100)
    whole = json.loads(export_scenario(event))
    pick, broken = Random(7), []
    for path in leaves(whole):
        for odd in pick.sample(ODD_VALUES, 4):
            file = json.loads(json.dumps(whole))
            at = file
            for key in path[:-1]:
                at = at[key]
            at[path[-1]] = odd
            try:
                with transaction.atomic():
                    with suppress(ValidationError):
                        content = json.dumps(file).encode()
                        ledger_page(import_scenario(content, by=marin), "")
                    transaction.set_rollback(True)
            except Exception as error:
                broken.append((path, odd, repr(error)[:120]))
    assert not broken, "\n".join(map(str, broken))
