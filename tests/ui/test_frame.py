"""The frame: built files are fresh, pages for trouble, weight of a first load."""

import gzip
import hashlib
from pathlib import Path

import pytest
from django.template import Context, Template
from django.test import Client, override_settings
from django.urls import reverse
from hypothesis import given
from hypothesis import strategies as st

from hollow_kettle.ui.drawing import Scale, kettle

ROOT = Path(__file__).resolve().parents[2]
UI = ROOT / "src/hollow_kettle/ui"


def test_built_files_match_their_inputs():
    """After a change of Sass or packages: npm ci && npm run build."""
    inputs = [
        "package.json", "package-lock.json", "scripts/build-ui.mjs",
        *(str(path.relative_to(ROOT)) for path in sorted(UI.glob("scss/*"))),
    ]  # fmt: skip
    digest = hashlib.sha256()
    for name in inputs:
        digest.update(name.encode() + b"\0" + (ROOT / name).read_bytes() + b"\0")

    assert (
        UI / "static/ui/built/inputs.sha256"
    ).read_text().strip() == digest.hexdigest()


def test_a_first_load_weighs_less_than_300_kb(boss, shelf):
    """Page, styles, scripts and fonts, compressed as they are sent."""
    built = UI / "static/ui/built"
    text = [*built.glob("*.css"), *built.glob("*.js"), *UI.glob("static/ui/js/*.js")]
    total = sum(len(gzip.compress(path.read_bytes())) for path in text)
    total += sum(path.stat().st_size for path in built.glob("fonts/*.woff2"))
    total += len(gzip.compress(boss.get(reverse("shelf:asset_list")).content))

    assert total < 300_000


def test_pages_for_trouble_are_ours(boss, client_of, event, rf):
    """404, 403, a stale form and a broken server each say what to do."""
    from hollow_kettle.ui.views import broken

    assert "nothing at this address" in boss.get("/no/such/").content.decode()
    refused = client_of("observer").get(reverse("people:person_list"))
    assert "Your role doesn't include this" in refused.content.decode()
    strict = Client(enforce_csrf_checks=True)
    stale = strict.post(reverse("people:sign_in"), {"username": "x"})
    assert (stale.status_code, b"has expired" in stale.content) == (403, True)
    assert b"isn't your fault" in broken(rf.get("/")).content


def test_no_template_has_inline_script_style_or_foreign_host():
    """The content security policy allows none of them."""
    for path in ROOT.glob("src/**/templates/**/*.html"):
        text = path.read_text()
        for banned in (" style=", "<script>", " onclick=", "https://", "http://"):
            assert banned not in text.replace("http://www.w3.org", ""), (path, banned)


@given(st.floats(0, 1), st.floats(0, 1), st.floats(0, 1))
def test_the_kettle_stays_in_its_box_and_fills_with_the_charge(a, b, c):
    """Low ≤ typical ≤ high from bottom to top, all inside the vessel."""
    low, typical, high = sorted((a, b, c))
    drawn = kettle(typical, low, high, 0.2)
    tops = [
        min(float(pair.split(",")[1]) for pair in polygon.split())
        for polygon in (drawn.fill, drawn.band)
    ]

    assert 15 <= tops[1] <= tops[0] <= 45
    assert 15 <= drawn.mean[2] <= 45


@given(st.floats(-1e6, 1e6))
def test_a_scale_never_leaves_the_drawing(value):
    """Whatever the value, it stays between the ends."""
    assert 10 <= Scale(0, 24, 10, 500)(value) <= 500


def test_times_carry_local_and_utc():
    """The `u` key flips between them; UTC says its Z."""
    from datetime import UTC, datetime

    moment = datetime(2026, 6, 28, 4, 30, tzinfo=UTC)
    text = Template('{% at moment "America/Chicago" "day" %}').render(
        Context({"moment": moment})
    )

    assert 'data-local="Sat 27 Jun 23:30"' in text
    assert 'data-utc="Sun 28 Jun 04:30Z"' in text


@pytest.mark.parametrize(("cookie", "light"), [("night", "night"), ("disco", "day")])
def test_the_light_is_remembered_per_device(boss, stocked, cookie, light):
    """The server draws the page in the light the device chose; nonsense is day."""
    boss.cookies["light"] = cookie

    assert (
        f'data-light="{light}"'
        in boss.get(reverse("shelf:asset_list")).content.decode()
    )


@override_settings(IS_DEMO=True)
def test_the_demo_says_so_on_every_page(boss, stocked):
    """A permanent banner."""
    page = boss.get("/shelf/").content.decode()

    assert "Everything here is invented" in " ".join(page.split())


def test_an_empty_club_says_what_to_do_first(boss, stocked):
    """No battery, no event, nothing running, nothing to debrief."""
    for url, words in (
        ("shelf:asset_list", "The shelf is empty"),
        ("plan:event_list", "No event yet"),
        ("field:home", "No event is under way"),
        ("debrief:home", "No event is closed yet"),
    ):
        assert words in boss.get(reverse(url)).content.decode()
