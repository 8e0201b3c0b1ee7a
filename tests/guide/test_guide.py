"""The guide is followed in a browser, word by word, by a club that has nothing yet."""

import os
import re
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from django.db import connections
from django.test import Client, RequestFactory
from django.urls import get_resolver, resolve, reverse
from playwright.sync_api import expect, sync_playwright
from pytest_django.live_server_helper import LiveServer

from hollow_kettle.clock import from_local, real_now
from hollow_kettle.command.__main__ import JOBS
from hollow_kettle.guide import context, text
from hollow_kettle.people.services import make_person
from hollow_kettle.plan.models import Event
from tests.chromium import launch
from tests.conftest import PASSWORD
from tests.guide.follow import follow, steps_of

ROOT = Path(__file__).resolve().parents[2]
#: What the clock on the wall shows while each page is followed.
WALL = {
    "night": datetime(2026, 12, 12, 13, 0),  # noqa: DTZ001 - expanded with the zone
    "when-things-break": datetime(2026, 12, 12, 14, 0),  # noqa: DTZ001 - likewise
    "day-after": datetime(2026, 12, 13, 10, 0),  # noqa: DTZ001 - likewise
}
expect.set_options(timeout=20_000)


@pytest.fixture
def site(transactional_db):
    """An empty club behind a live server."""
    server = LiveServer("127.0.0.1")
    yield server
    server.stop()


@pytest.fixture
def page(site):
    """A browser in which an empty club's first person signs in, and is led on."""
    make_person("fern", password=PASSWORD, name="fern", is_coordinator=True)
    with sync_playwright() as driver:
        browser = launch(driver.chromium)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(site.url)
        page.get_by_label("User name").fill("fern")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("heading", name="Your first event")).to_be_visible()
        yield page
        browser.close()
        connections.close_all()  # those opened while the event loop ran


def test_a_club_goes_by_the_guide_from_nothing_to_its_report(page, site):
    """All four pages, the night's troubles in the night."""
    done = 0
    for slug in ("first-event", "night", "when-things-break", "day-after"):
        if slug in WALL:
            event = Event.objects.get()
            event.clock_offset = from_local(WALL[slug], event.zone) - real_now()
            event.save()
            # The plan was published the evening before, by that clock too.
            evening = event.starts_at - event.clock_offset - timedelta(hours=12)
            event.rotations.filter(number=1).update(published_at=evening)
        for step in steps_of(text.source_of(slug)):
            here = follow(page, step)
            assert here, f"nothing is done or read in: {step.words}"
            done += here

    assert done > 140
    page.goto(site.url + reverse("guide:contents"))
    expect(page.get_by_role("heading", name="Guide", exact=True)).to_be_visible()
    expect(page.locator(".first-steps")).to_have_count(0)  # every one is done
    page.goto(site.url + "/shelf/")
    page.get_by_role("link", name="? Guide to this page").click()
    expect(page.get_by_role("heading", name="Your batteries")).to_be_in_viewport()


@pytest.mark.parametrize("slug", text.SLUGS)
def test_what_the_guide_names_is_there(slug):
    """Commands, other pages and their sections, files beside it, keys of the page."""
    source = text.source_of(slug)
    for job in re.findall(r"\./kettle ([a-z-]+)", source):
        assert job in JOBS
    for target in re.findall(r"\]\(([^)]+)\)", source):
        file, _, section = target.partition("#")
        assert Path(os.path.normpath(ROOT / "docs" / "guide" / file)).is_file(), target
        if section:
            known = dict(text.page_of(file.removesuffix(".md")).sections)
            assert section in known
    shown = text.page_of(slug)
    assert not re.search(r'href="[^"]*\.md', shown.html)
    for anchor, _ in shown.sections:
        assert f'id="{anchor}"' in shown.html


def test_every_page_s_question_mark_leads_to_a_section_that_is_there(marin):
    """Every place that is named has a page, and its section is in the guide."""
    for slug, section in context.PLACES.values():
        assert section in dict(text.page_of(slug).sections), section
    names = {
        f"{room}:{name}"
        for room, (_, sub) in get_resolver().namespace_dict.items()
        for name in sub.reverse_dict
        if isinstance(name, str)
    }
    for place in context.PLACES:
        assert [it for it in names if it.startswith(place)], f"no page is {place}"
    asked = RequestFactory().get("/field/")
    asked.resolver_match = resolve("/field/")
    assert context.address_of(asked).endswith("/night/#it-begins")


def test_steps_end_when_an_event_begins_whatever_a_club_does_without(boss, event):
    """One station and nothing to charge needs no yard, and is not told to make one."""
    assert event.state == Event.State.RUNNING
    event.bays.all().delete()
    contents = reverse("guide:contents")
    assert boss.get(contents).context["steps"] == []
    Event.objects.update(state=Event.State.PLANNED)
    left = [one.words for one in boss.get(contents).context["steps"] if not one.is_done]
    assert "the yard: power, a bay, who walks" in left


def test_who_may_not_coordinate_reads_the_guide_and_is_not_sent_to_first_steps(db):
    """Steps are a coordinator's; an address that is no page is said to be none."""
    person = make_person("wren", password=PASSWORD, name="Wren")
    wren = Client()
    wren.force_login(person.user, backend="django.contrib.auth.backends.ModelBackend")

    assert wren.get("/").url == reverse("field:home")
    answer = wren.get(reverse("guide:contents")).content.decode()
    assert ("The night of the event" in answer, "first-steps" in answer) == (True, 0)
    assert wren.get(reverse("guide:page", args=["nothing"])).status_code == 404
