"""One browser test per room's main job, on a live server and PostgreSQL."""

import re
from threading import Thread

import numpy as np
import pytest
import segno
from django.db import connections
from django.urls import reverse
from playwright.sync_api import expect, sync_playwright

from hollow_kettle.debrief import tasks as debrief_tasks
from hollow_kettle.debrief.models import Causes
from hollow_kettle.demo.club import PASSWORD
from hollow_kettle.shelf.models import Asset
from tests.chromium import launch

pytestmark = pytest.mark.django_db  # asks for the database; the site commits

PHONE = {"width": 390, "height": 844}
DESK = {"width": 1280, "height": 800}
expect.set_options(timeout=20_000)  # a busy machine is slow, not wrong


@pytest.fixture(scope="module")
def chromium(demo_site):
    """Debian's Chromium, headless; the site is up before its event loop begins."""
    with sync_playwright() as driver:
        here = "--host-resolver-rules=MAP kettle.test 127.0.0.1"
        browser = launch(driver.chromium, here)
        yield browser
        browser.close()
        connections.close_all()  # those opened while the event loop ran


@pytest.fixture
def open_as(chromium, demo_site):
    """Open a page signed in; any policy violation or foreign request fails the test."""
    troubles, contexts = [], []

    def _open(name, path="/", size=DESK, site=demo_site):
        context = chromium.new_context(viewport=size)
        contexts.append(context)
        page = context.new_page()
        page.on(
            "console", lambda m: troubles.append(m.text) if m.type == "error" else 0
        )
        page.on("pageerror", lambda error: troubles.append(str(error)))
        page.on(
            "request",
            lambda r: (
                troubles.append(f"foreign host: {r.url}")
                if not r.url.startswith((site, "data:"))
                else 0
            ),
        )
        page.goto(site + "/sign-in/?next=" + path)
        page.fill("[name=username]", name)
        page.fill("[name=password]", PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.wait_for_url(lambda url: "sign-in" not in url)
        page.wait_for_load_state()
        return page

    yield _open
    for context in contexts:
        context.close()
    # What a test makes happen, and what a browser says of any plain http address.
    known = ("status of 422", "ERR_INTERNET_DISCONNECTED", "Cross-Origin-Opener-Policy")
    unexpected = [t for t in troubles if not any(words in t for words in known)]
    assert unexpected == []


def test_shelf_filter_add_and_bring_in_a_list(open_as, tmp_path):
    """Find a battery by typing, add one with a slip on the way, import two."""
    page = open_as("marin", "/shelf/")
    page.get_by_role("searchbox").fill("agm")
    expect(page.locator("tr[data-row]:visible")).to_have_count(2)

    page.get_by_role("link", name="Add or import").click()
    page.get_by_role("link", name="Add one").first.click()
    page.get_by_label("Tag", exact=True).fill("B21")
    page.get_by_label("Cells in series").fill("0")
    page.get_by_label("Nameplate capacity").fill("20,5")
    page.get_by_role("button", name="Add to the shelf").click()
    expect(
        page.get_by_text("Cells in series must be between 1 and 120")
    ).to_be_visible()
    expect(page.get_by_label("Tag", exact=True)).to_have_value("B21")
    page.get_by_label("Cells in series").fill("4")
    page.get_by_role("button", name="Add to the shelf").click()
    expect(page.get_by_role("heading", name="Battery B21")).to_be_visible()

    table = tmp_path / "list.csv"
    table.write_text("tag;chemistry;series;nameplate_ah\nB22;agm;6;35\n4;agm;0;12,5\n")
    page.goto(page.url.split("/shelf/")[0] + "/shelf/import/battery/")
    page.set_input_files("input[type=file]", table)
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("cell", name="must be between 1 and 120")).to_be_visible()
    table.write_text(
        "tag;chemistry;series;nameplate_ah\nB22;agm;6;35\nB23;agm;6;12,5\n"
    )
    page.set_input_files("input[type=file]", table)
    page.get_by_role("button", name="Preview").click()
    page.get_by_role("button", name="Import these 2 rows").click()
    expect(page.get_by_text("2 batteries are new, 0 changed")).to_be_visible()


def test_a_kit_is_read_put_right_and_its_card_printed(open_as):
    """What is wrong, a fuse fitted where one was missing, a finding accepted."""
    page = open_as("marin", "/shelf/?q=Q01")
    page.get_by_role("link", name="Q01", exact=True).first.click()
    expect(page.get_by_text("Light's holder has no fuse")).to_be_visible()
    expect(page.locator("svg.path .part-missing")).to_have_count(1)

    page.get_by_role("link", name="Its parts").click()
    row = page.get_by_role("row").filter(has_text="light's holder")
    row.get_by_role("link", name="Change").click()
    expect(page.get_by_label("Gauge")).to_be_hidden()
    page.get_by_label("Rating").fill("3")
    page.get_by_role("button", name="Save this part").click()
    page.get_by_role("link", name="Power path").click()
    expect(page.locator("svg.path .part-missing")).to_have_count(0)
    expect(page.get_by_text("Light's holder has no fuse")).to_have_count(0)

    first = page.locator(".finding").first
    first.get_by_text("Why").click()
    first.get_by_label("Accept because").fill("low power on that antenna")
    first.get_by_label("Until").fill("2026-12-31")
    first.get_by_role("button", name="Accept").click()
    expect(page.get_by_text("low power on that antenna")).to_be_visible()
    card = page.get_by_role("link", name="Print card").get_attribute("href")
    paper = page.request.get(page.url.split("/shelf/")[0] + card)
    assert paper.body().startswith(b"%PDF-")


def test_packing_on_a_phone_waits_for_the_network(open_as):
    """A tick without network is shown as not sent, and is sent later."""
    page = open_as("wren", "/shelf/?q=Q02", size=PHONE)
    page.get_by_role("link", name="Q02", exact=True).first.click()
    page.get_by_role("link", name="Pack", exact=True).click()
    page.get_by_role("button", name="log book").click()
    expect(page.get_by_text("1 of 7 in the box")).to_be_visible()

    page.context.set_offline(True)
    page.get_by_role("button", name="wire antenna").click()
    expect(page.get_by_text("1 NOT SENT")).to_be_visible()
    page.context.set_offline(False)
    expect(page.get_by_text("2 of 7 in the box")).to_be_visible(timeout=15_000)
    assert page.evaluate("document.documentElement.scrollWidth") <= 390


def test_plan_reads_the_ledger_and_gets_a_rotation(open_as):
    """Who runs short without a plan, then a complete rotation, its way, published."""
    page = open_as("marin", "/plan/")
    page.get_by_role("link", name="Ice Storm exercise").click()
    expect(page.get_by_text("Who runs short")).to_be_visible()
    expect(page.locator(".ledger-item.is-short")).not_to_have_count(0)

    page.get_by_role("button", name="Make a plan").click()
    expect(page.get_by_text("is complete and breaks no rule")).to_be_visible()
    page.locator("#board").focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    expect(page.locator("#board .leg.is-at")).to_have_count(1)
    page.get_by_role("button", name=re.compile("Publish draft")).click()
    expect(page.get_by_text("is published; field and debrief use it")).to_be_visible()
    page.get_by_role("link", name="Energy ledger").click()
    expect(page.get_by_text("Nobody, as planned")).to_be_visible()


def test_plan_raises_a_tree_and_asks_what_low_power_buys(open_as):
    """A point of the horizon moved by keys costs sun; a change shows what it buys."""
    page = open_as("marin", "/plan/")
    page.get_by_role("link", name="Cold Tarn Field Day").click()
    page.get_by_role("link", name="Sun", exact=True).click()
    page.get_by_role("link", name="Peat Landing").click()
    day = page.locator("table", has_text="Forecast").first.locator("td").first
    before = float(day.inner_text().replace(",", ""))
    page.locator('.handle[data-azimuth="235.0"]').focus()
    for _ in range(40):
        page.keyboard.press("ArrowUp")
    assert "235 50" in page.locator("#points").input_value()
    page.get_by_role("button", name="Save horizon").click()
    expect(page.get_by_text("The horizon of Peat Landing is saved")).to_be_visible()
    assert float(day.inner_text().replace(",", "")) < before

    page.get_by_role("link", name="Energy ledger").click()
    page.locator("summary", has_text="Drumlin").click()
    gains = page.locator(".ledger-item[open] .gains")
    expect(gains).to_contain_text("low power in the dark")
    page.get_by_label("from", exact=True).fill("22:00")
    page.get_by_label("to", exact=True).fill("7")
    page.get_by_role("button", name="What would it buy?").click()
    expect(page.get_by_text("both times of day like 22:00")).to_be_visible()
    page.get_by_label("to", exact=True).fill("07:00")
    page.get_by_role("button", name="What would it buy?").click()
    expect(gains).to_contain_text("low power from 22:00 to 07:00")


def test_a_stay_is_pinned_and_a_walk_forbidden_at_a_cost_and_taken_back(open_as):
    """By keys: the pin costs nothing. A forbidden walk makes a draft, then none."""
    page = open_as("marin", "/plan/")
    page.get_by_role("link", name="Cold Tarn Field Day").click()
    page.get_by_role("link", name="Rotation", exact=True).click()
    page.locator("#board .leg-serve", has_text="K05").last.click()
    expect(page.locator("#why")).to_contain_text("Why K05 at Drumlin")
    page.locator("#board").focus()
    page.keyboard.press("p")
    expect(page.locator("#change")).to_contain_text("it costs nothing")
    page.get_by_role("button", name="Pin it").last.click()
    expect(page.get_by_text("kept by this rotation")).to_be_visible()
    expect(page.locator("#board .pin-stays")).to_have_count(1)

    page.locator("#pin-form summary").click()
    form = page.locator("#pin-form")
    form.get_by_label("What").select_option("no walk there")
    form.get_by_role("button", name="See what it costs").click()
    expect(page.locator("#change")).to_contain_text("can't be kept: with the other")
    form.get_by_label("until", exact=True).fill("tomorrow")
    form.get_by_role("button", name="See what it costs").click()
    expect(page.locator("#change")).to_contain_text("Write the date and the time")
    form.get_by_label("Where").select_option("Drumlin")
    form.get_by_label("From, local time").fill("2026-06-28 05:00")
    form.get_by_label("until", exact=True).fill("2026-06-28 12:00")
    form.get_by_role("button", name="See what it costs").click()
    expect(page.locator("#change")).to_contain_text("off the air")
    page.get_by_role("button", name="Save as a new draft").click()
    expect(page.locator("#board .pin-no_walk")).to_have_count(1)
    page.get_by_role("link", name="compare").first.click()
    expect(page.get_by_text("Only in published")).to_be_visible()
    page.go_back()
    page.get_by_role("button", name="Undo this change").click()
    expect(page.get_by_text("Undone: No walk to Drumlin")).to_be_visible()
    page.get_by_role("button", name="Lift").click()
    expect(page.locator("#board .pin")).to_have_count(0)


def test_field_logs_a_reading_and_a_swap_and_the_board_follows(open_as):
    """From the line with a question answered, then a swap; the other screen follows."""
    watcher = open_as("lark", "/field/")
    page = open_as("wren", "/field/")
    line = page.locator("article[data-station=Drumlin]")
    old = line.locator(".tag").first.inner_text()

    page.keyboard.press("n")
    page.keyboard.type("drumlin 12,81 V 2.9")
    expect(page.get_by_text("2.9 of what?")).to_be_visible()
    with page.expect_response("**/line/"):
        page.keyboard.press("Enter")
    expect(page.locator("#log-line .htmx-request")).to_have_count(0)
    expect(page.locator("[data-log-line]")).to_have_value("drumlin 12,81 V 2.9")
    page.get_by_role("button", name="drumlin 12,81 V 2.9 A", exact=True).click()
    expect(
        page.get_by_text(f"{old} at Drumlin: 12.81 V 2.9 A receiving")
    ).to_be_visible()
    expect(line).to_contain_text("12.81 V")

    page.get_by_role("link", name="Log a swap").click()
    page.get_by_label("Station", exact=True).select_option("Drumlin")
    page.get_by_label("In", exact=True).fill("k03")
    page.get_by_label(re.compile("^Out")).fill(old)
    page.get_by_role("button", name="Save this swap").click()
    expect(page.get_by_text("Swap is saved")).to_be_visible()
    page.get_by_role("link", name="The log", exact=True).click()
    expect(page.get_by_text(f"Drumlin: K03 in, {old} out")).to_be_visible()
    expect(watcher.locator("article[data-station=Drumlin]")).to_contain_text(
        "K03", timeout=60_000
    )


def _as_the_worker(task, pk):
    """Do a job beside the test's own transaction, as the worker does."""

    def work():
        task(pk)
        connections.close_all()

    worker = Thread(target=work)
    worker.start()
    worker.join()


def test_a_debrief_goes_from_what_ran_short_to_what_is_planned_with(open_as):
    """A shortfall corrected, causes worked out again, an action, a draw accepted."""
    page = open_as("marin", "/debrief/")
    expect(page.get_by_role("heading", name="Where power ran short")).to_be_visible()
    expect(page.get_by_text("K10 quit").first).to_be_visible()
    page.get_by_role("link", name="off the air").first.click()
    page.get_by_label("People affected").fill("many")
    page.get_by_role("button", name="Save shortfall").click()
    expect(page.get_by_text("People affected must be a plain number")).to_be_visible()
    page.get_by_label("People affected").fill("4")
    page.get_by_role("button", name="Save shortfall").click()
    expect(page.get_by_text("4 people affected")).to_be_visible()

    page.get_by_role("link", name="Why", exact=True).click()
    expect(page.get_by_text("has changed since this was worked out")).to_be_visible()
    page.get_by_role("button", name="Work it out again").click()
    expect(page.get_by_text("0 % done")).to_be_visible()
    _as_the_worker(debrief_tasks.causes, Causes.objects.get(content__isnull=True).pk)
    expect(page.get_by_role("heading", name="All stations")).to_be_visible()
    expect(page.get_by_text("more than planned").first).to_be_visible()

    page.get_by_role("link", name="Actions", exact=True).click()
    page.get_by_role("link", name="Take it on").first.click()
    page.get_by_role("button", name="Save action").click()
    expect(page.get_by_text("This field is required").first).to_be_visible()
    page.get_by_label("Who does it").select_option("Wren")
    page.get_by_label("Until").fill("2026-08-01")
    page.get_by_role("button", name="Save action").click()
    expect(page.get_by_text("until 1 Aug 2026")).to_be_visible()

    page.get_by_role("link", name="Learned", exact=True).click()
    row = page.get_by_role("row").filter(has_text="Draw over its list Drumlin")
    row.get_by_role("button", name="Plan with it").click()
    expect(row.get_by_text("accepted by Marin")).to_be_visible()
    page.get_by_role("link", name="Report", exact=True).first.click()
    expect(page.get_by_text("station-hours asked")).to_be_visible()


def test_phone_takes_a_station_off_the_air_in_two_taps(open_as):
    """A lead at 390 px: nothing is wider than the screen, keys are big."""
    page = open_as("sorrel", "/field/", PHONE)
    page.get_by_role("link", name="A station is off the air").click()
    page.get_by_label("Station", exact=True).select_option("Drumlin")
    button = page.get_by_role("button", name="Save this")
    assert button.bounding_box()["height"] >= 44
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    button.click()
    expect(page.get_by_text("Station is saved")).to_be_visible()

    page.get_by_role("link", name="Field", exact=True).click()
    expect(page.locator("article").first).to_contain_text("OFF THE AIR")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390


@pytest.mark.parametrize("host", ["", "kettle.test"])
def test_a_phone_without_network_loses_nothing(open_as, demo_site, host, settings):
    """
    Two tiers: on a trusted address the page opens without network; elsewhere it stays.

    What is logged waits, says so, is not left behind by signing out, and is sent once.
    """
    settings.ALLOWED_HOSTS = [*settings.ALLOWED_HOSTS, "kettle.test"]
    site = demo_site.replace("127.0.0.1", host).replace("localhost", host)
    page = open_as("wren", "/field/", PHONE, site if host else demo_site)
    page.goto(page.url + "log/reading/")
    page.wait_for_load_state("networkidle")
    if not host:
        # A promise, since what is polled in the page is text that its policy refuses.
        page.evaluate(
            """() => navigator.serviceWorker.controller !== null || new Promise(taken =>
            navigator.serviceWorker.addEventListener("controllerchange", taken))"""
        )
        page.wait_for_timeout(1500)  # the pages are being kept
    page.context.set_offline(True)
    page.get_by_label("Battery").fill("K01")
    page.get_by_label("Gauge").fill("66")
    page.get_by_role("button", name="Save this reading").click()
    expect(page.get_by_text("1 NOT SENT")).to_be_visible()
    expect(page.get_by_label("Battery")).to_have_value("")
    if host:
        expect(page.get_by_text("keep this page open")).to_be_visible()
    else:
        page.reload()
        expect(page.get_by_text("1 NOT SENT")).to_be_visible()
    page.get_by_text("Show as text").click()
    expect(page.locator("#not-sent pre")).to_contain_text("K01 66 % at")

    page.context.set_offline(False)
    page.evaluate("window.dispatchEvent(new Event('online'))")
    # Two events may send it twice: whichever answer is shown, it counts once.
    said = re.compile(r"Reading (is saved\.|was saved before; it counts once\.)")
    expect(page.get_by_text(said)).to_be_visible()
    expect(page.locator("#not-sent")).to_be_hidden()
    page.get_by_role("link", name="The log", exact=True).click()
    expect(page.get_by_text("K01: gauge 66 %").first).to_be_visible()


def _filmed(path, text):
    """A film for the fake camera: a label's code, grey around it, as raw video."""
    matrix = np.array(
        [[*row] for row in segno.make(text, error="m").matrix_iter(border=4)]
    )
    code = np.kron(np.where(matrix > 0, 16, 235), np.ones((6, 6)))
    luma = np.full((480, 640), 128, dtype=np.uint8)
    top, left = (480 - code.shape[0]) // 2, (640 - code.shape[1]) // 2
    luma[top : top + code.shape[0], left : left + code.shape[1]] = code
    grey = np.full(2 * 320 * 240, 128, dtype=np.uint8).tobytes()
    frame = b"FRAME\n" + luma.tobytes() + grey
    path.write_bytes(b"YUV4MPEG2 W640 H480 F10:1 Ip A1:1 C420jpeg\n" + 10 * frame)


def test_what_a_phone_was_asked_about_is_not_lost_by_a_reload(open_as):
    """Asked, and the page goes: it was kept, and is sent for somebody to look at."""
    page = open_as("wren", "/field/", size=PHONE)
    page.get_by_role("link", name="Log a reading").click()
    page.wait_for_load_state("networkidle")
    page.get_by_label("Battery").fill("K07")
    page.get_by_label("Volts").fill("19.9")
    page.get_by_role("button", name="Save this reading").click()
    expect(page.get_by_text("Not saved yet: please look")).to_be_visible()
    expect(page.get_by_text("1 NOT SENT")).to_be_visible()

    page.reload()
    said = re.compile(r"Reading (is saved\.|was saved before; it counts once\.)")
    expect(page.get_by_text(said)).to_be_visible()
    expect(page.locator("#not-sent")).to_be_hidden()
    page.get_by_role("link", name="The log", exact=True).click()
    expect(page.get_by_text("K07: 19.90 V").first).to_be_visible()


def test_a_label_is_scanned(chromium, demo_site, tmp_path):
    """The camera sees a battery's label; its tag stands in the form and is logged."""
    label = reverse("label", args=[Asset.objects.get(tag="K07").token])
    _filmed(tmp_path / "label.y4m", label.upper())
    camera = launch(
        chromium.browser_type,
        "--use-fake-ui-for-media-stream",
        "--use-fake-device-for-media-stream",
        f"--use-file-for-fake-video-capture={tmp_path / 'label.y4m'}",
    )
    page = camera.new_context(viewport=PHONE, permissions=["camera"]).new_page()
    page.goto(demo_site + "/sign-in/?next=/field/")
    page.fill("[name=username]", "wren")
    page.fill("[name=password]", PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url(lambda url: "/field/" in url)
    page.goto(page.url + "log/reading/")
    page.get_by_role("button", name="Scan a label").click()
    expect(page.get_by_label("Battery")).to_have_value("K07")
    expect(page.locator("#scan-view")).to_be_hidden()
    page.get_by_label("Gauge").fill("64")
    page.get_by_role("button", name="Save this reading").click()
    expect(page.get_by_text("Reading is saved.")).to_be_visible()
    camera.close()


def test_lights_keys_and_the_finder_work(open_as):
    """Night is remembered, `u` flips to UTC, `/` finds, `2` changes room."""
    page = open_as("marin", "/shelf/")
    page.get_by_label("Light").select_option("night")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-light", "night")

    page.keyboard.press("/")
    page.keyboard.type("drum")
    expect(page.locator("#found")).to_contain_text("Drumlin")
    page.locator("#finder").get_by_role("button", name="Close").click()
    page.keyboard.press("2")
    expect(page.get_by_role("heading", name="Events")).to_be_visible()
    page.keyboard.press("u")
    expect(page.locator("time").first).to_contain_text("Z")


def test_gear_is_found_checked_out_and_noted_as_charged(open_as):
    """Typing finds it, ticking hands it out, two charges are noted in one go."""
    page = open_as("marin", "/shelf/")
    page.get_by_role("searchbox").fill("bench supply")
    expect(page.locator("tr[data-row]")).to_have_count(1)
    page.get_by_label("Tick S02").check()
    page.get_by_role("button", name="Check out").click()
    expect(page.get_by_label("What goes")).to_have_value("S02")
    page.get_by_role("button", name="Check out").click()
    expect(page.get_by_text("Say which station")).to_be_visible()
    page.get_by_label("called").fill("Lark")
    page.get_by_role("button", name="Check out").click()
    expect(page.get_by_text("Checked out to Lark: S02")).to_be_visible()

    page.goto(page.url.replace("out/", "?q=lifepo4"))
    for tag in ("K01", "K02"):
        page.get_by_label(f"Tick {tag}").check()
    page.get_by_role("button", name="Log a charge").click()
    volts = page.locator("input[name$=volts]")
    volts.nth(0).fill("14,4")
    page.locator("input[name$='-amps']").nth(0).fill("0,5")
    page.get_by_role("button", name="Save these charges").click()
    expect(page.get_by_text("1 charge is saved")).to_be_visible()


def test_a_bench_test_shows_only_the_fields_that_count_and_is_accepted(open_as):
    """Sag needs two voltages and no amp-hours; the resistance is trusted after."""
    page = open_as("marin", "/shelf/?q=K02")
    page.get_by_role("link", name="K02", exact=True).first.click()
    page.get_by_role("link", name="Enter a test").click()
    page.get_by_label("Test", exact=True).select_option("sag")
    expect(page.get_by_label("The meter counted")).to_be_hidden()
    page.get_by_label("Current", exact=False).first.fill("10")
    page.get_by_label("Volts before").fill("13,2")
    page.get_by_label("Volts at the end").fill("12,9")
    page.get_by_role("button", name="Save test").click()
    page.get_by_role("button", name="Trust this").click()
    expect(page.get_by_text("K02 is trusted with 30 mΩ now")).to_be_visible()


def test_trouble_is_taken_on_replanned_and_handed_over(open_as):
    """An alarm taken on by name, a new plan, one page for the next watch."""
    page = open_as("marin", "/field/")
    page.keyboard.press("n")
    page.keyboard.type("outwash off the air: fuse")
    page.keyboard.press("Enter")
    alarm = page.get_by_role("listitem").filter(has_text="Outwash is off the air since")
    alarm.get_by_role("button", name="I am on it").click()
    expect(alarm).to_contain_text("Marin is on it since")

    page.get_by_label("crews set off in").select_option("walks in 20 min")
    page.get_by_role("button", name="Replan from now").click()
    expect(page.get_by_text("Against rotation")).to_be_visible()
    page.get_by_role("button", name=re.compile("Publish draft")).click()
    expect(page.get_by_text(re.compile("rotation published"))).to_be_visible()

    page.get_by_role("link", name="Field").click()
    page.get_by_role("link", name="Handover").click()
    row = page.get_by_role("row").filter(has_text="Outwash").first
    expect(row).to_contain_text("OFF THE AIR")
