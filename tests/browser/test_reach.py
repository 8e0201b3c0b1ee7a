"""
Every page of the demo for people who see, read or move differently.

axe-core (Deque's engine, as its package ships it) checks the rules of WCAG 2.2 A and AA
that a program can check, in the three lights; sizes of what is pressed and of small
print are measured in the page itself. Target sizes: WCAG 2.2, 2.5.8 (24 px) and 2.5.5
(44 px, AAA, kept on phones and in the Field).
"""

from pathlib import Path

import axe_playwright_python
import pytest
from django.db import connections
from django.test import Client
from playwright.sync_api import sync_playwright

from hollow_kettle.people.models import Actor
from tests.chromium import launch
from tests.walker import shape, walk

pytestmark = pytest.mark.django_db  # asks for the database; the site commits

AXE = (Path(axe_playwright_python.__file__).parent / "axe.min.js").read_text()
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
EVERY = {"runOnly": {"type": "tag", "values": RULES}}
CONTRAST = {"runOnly": {"type": "rule", "values": ["color-contrast"]}}
#: A phone's colours are the desk's.
NO_CONTRAST = {"rules": {"color-contrast": {"enabled": False}}}
RUN = """async (asked) => {
  const found = await axe.run(document, { ...asked, resultTypes: ["violations"] });
  return found.violations.flatMap((one) =>
    one.nodes.map((node) => `${one.id}: ${node.html.slice(0, 120)}`));
}"""
#: What is pressed and too small, links in running text aside; and small print.
MEASURE = """({ wanted, print, wide }) => {
  const faults = [];
  const all = "a[href], button, input:not([type=hidden]), select, textarea, summary";
  for (const one of document.querySelectorAll(all)) {
    if (one.closest("p, .skip, .running") || !one.getClientRects().length) continue;
    const label = one.tagName === "INPUT" && one.labels?.[0];
    const boxes = [one, label].filter(Boolean).map((it) => it.getBoundingClientRect());
    // Tags stand close beside one another in lists; each is a way to one page.
    const least = one.matches(".tag") ? 24 : wanted, half = least / 2 - 1.5;
    const size = (side) => Math.max(...boxes.map((box) => box[side]));
    if (Math.min(size("width"), size("height")) >= least - 0.5) continue;
    one.scrollIntoView({ block: "center", behavior: "instant" });
    const box = one.getBoundingClientRect();
    const [x, y] = [box.left + box.width / 2, box.top + box.height / 2];
    const hits = (dx, dy) => {
      const there = document.elementFromPoint(x + dx, y + dy);
      return there === one || one.contains(there);
    };
    const isTall = size("height") >= least - 0.5 || (hits(0, -half) && hits(0, half));
    const isWide = size("width") >= least - 0.5 || (hits(-half, 0) && hits(half, 0));
    if (!isTall || !isWide)
      faults.push(`${one.tagName} ${(one.textContent || one.name).trim().slice(0, 30)} `
        + `${Math.round(size("width"))}x${Math.round(size("height"))}`);
  }
  for (const text of document.querySelectorAll("svg text")) {
    if (!text.textContent.trim() || !text.getClientRects().length) continue;
    const scale = text.ownerSVGElement.getScreenCTM()?.a ?? 1;
    const px = parseFloat(getComputedStyle(text).fontSize) * scale;
    if (px < print - 0.05) faults.push(`“${text.textContent}” ${px.toFixed(1)} px`);
  }
  // A phone widens its window to what is too wide: innerWidth would never tell.
  if (document.documentElement.scrollWidth > wide) faults.push("too wide");
  return faults;
}"""


@pytest.fixture(scope="module")
def pages(demo_site):
    """One page of each shape that the coordinator can reach, and a session."""
    client = Client()
    client.force_login(Actor.objects.get(user__username="marin").user)
    found = {}
    for page in walk(client, each=1):
        if "<html" in page.html:
            found.setdefault(shape(page.address), page.address)
    assert len(found) > 100
    return client.cookies["sessionid"].value, found


def open_context(browser, site, session, **options):
    """A browser that is signed in, and is told to move nothing."""
    context = browser.new_context(bypass_csp=True, reduced_motion="reduce", **options)
    context.add_cookies([{"name": "sessionid", "value": session, "url": site}])
    return context


@pytest.mark.parametrize("kind", ["desk", "phone"])
def test_every_page_can_be_read_and_pressed(pages, demo_site, kind):
    """No violation of WCAG 2.2 AA in any light, nothing small, text of 200 % fits."""
    session, found = pages
    desk, phone = {"width": 1280, "height": 800}, {"width": 390, "height": 844}
    faults = []
    with sync_playwright() as driver:
        browser = launch(driver.chromium)
        context = open_context(
            browser, demo_site, session, viewport=desk if kind == "desk" else phone,
            is_mobile=kind == "phone", has_touch=kind == "phone",
        )  # fmt: skip
        page = context.new_page()
        letters = context.new_cdp_session(page)

        def is_too_wide(size):
            """Whether it runs out of the screen with the browser's text at a size."""
            letters.send("Page.setFontSizes", {"fontSizes": {"standard": size}})
            return page.evaluate("document.documentElement.scrollWidth > innerWidth")

        for form, address in found.items():
            page.goto(demo_site + address)
            thumb = kind == "phone" or form.startswith("*/field/")
            sizes = {
                "wanted": 44 if thumb else 24,
                "print": 11 if kind == "desk" else 9,
                "wide": (desk if kind == "desk" else phone)["width"],
            }
            said = page.evaluate(MEASURE, sizes)
            page.evaluate(AXE)
            said += page.evaluate(RUN, EVERY | ({} if kind == "desk" else NO_CONTRAST))
            if kind == "desk":
                for light in ("sun", "night"):
                    page.evaluate(
                        "(it) => { document.documentElement.dataset.light = it }", light
                    )
                    said += [f"{light}: {one}" for one in page.evaluate(RUN, CONTRAST)]
                said += ["too wide with text of 200 %"] if is_too_wide(32) else []
                is_too_wide(16)
            faults += [f"{address} {one}" for one in said]
        browser.close()
    connections.close_all()
    assert not faults, "\n".join(faults)
