"""
Do in a browser what a page of the guide says, with the keyboard alone.

Of a page, the numbered steps are followed, word by word in this order: what to press,
type and choose, and in “these quotes” what must then be read on the page. Lines
of `log` blocks are typed into the log line, one after the other; a `csv` block is the
file that a step then chooses. All else is for people only.
"""

import re
from dataclasses import dataclass, field

from playwright.sync_api import Locator, Page, expect

_ACTS = re.compile(
    r"(?P<rail>[Aa]t the left, )?[Pp]ress \*\*(?P<press>.+?)\*\*"
    r"|(?P<typed>`[^`]*`) into \*\*(?P<into>.+?)\*\*"
    r"|(?P<option>`[^`]*`) (?:under|as) \*\*(?P<under>.+?)\*\*"
    r"|[Ii]n \*\*(?P<within>.+?)\*\*:"
    r"|“(?P<read>.+?)”",
)
_STEP = re.compile(r"\d+\. ")


@dataclass
class Step:
    """One numbered step: its words, and the block that stands in it."""

    words: str
    kind: str = ""
    block: list[str] = field(default_factory=list)


def steps_of(text: str) -> list[Step]:
    """The numbered steps of a page."""
    steps: list[Step] = []
    inside = is_block = False
    for line in text.splitlines():
        if is_block:
            if line.strip() == "```":
                is_block = False
            elif inside:
                steps[-1].block.append(line.strip())
        elif line.strip().startswith("```"):
            is_block = True
            if inside:
                steps[-1].kind = line.strip().removeprefix("```")
        elif _STEP.match(line):
            inside = True
            steps.append(Step(_STEP.sub("", line, count=1)))
        elif line and not line.startswith("   "):
            inside = False
        elif inside and line.strip():
            steps[-1].words += " " + line.strip()
    return steps


def follow(page: Page, step: Step) -> int:
    """Do one step; returns how many things were done or read."""
    done, within = 0, page.locator("body")
    for act in _ACTS.finditer(step.words):
        done += 1
        if name := act["press"]:
            _press(page.locator(".rail") if act["rail"] else within, page, name)
            within = page.locator("body")
        elif name := act["into"]:
            _labelled(within, name).fill(act["typed"].strip("`"))
        elif name := act["under"]:
            _choose(_labelled(within, name), act["option"].strip("`"), step)
        elif name := act["within"]:
            within = _part(page, name)
        else:
            expect(page.get_by_text(act["read"]).first).to_be_visible()
    if step.kind == "log":
        for line in step.block:
            _log(page, line)
            done += 1
    return done


def _first(*choices: Locator) -> Locator:
    """The first that is to be seen, in the order of the choices; waits for one."""
    anyone = choices[0]
    for one in choices[1:]:
        anyone = anyone.or_(one)
    expect(anyone.filter(visible=True).first).to_be_visible()
    seen = (one.filter(visible=True) for one in choices)
    return next(one.first for one in seen if one.count())


def _press(within: Locator, page: Page, name: str) -> None:
    page.wait_for_load_state()
    roles = ("button", "link")
    inside = within.locator("main, .strip, .side, dialog[open]")
    found = _first(
        *(
            where.get_by_role(role, name=name, exact=True)
            for where in (inside, within)
            for role in roles
        ),
        within.get_by_role("link", name=re.compile(rf"^{re.escape(name)} \(")),
        within.locator("summary", has_text=name),
    )
    found.focus()
    expect(found).to_be_focused()
    found.press("Enter")


def _labelled(within: Locator, name: str) -> Locator:
    box = within.page.locator("input, select, textarea")
    begins = re.compile(rf"^\s*{re.escape(name)}\b")
    exact = within.get_by_label(name, exact=True)
    return _first(exact.and_(box), within.get_by_label(begins).and_(box))


def _choose(box: Locator, option: str, step: Step) -> None:
    if box.get_attribute("type") == "file":
        content = "\n".join(step.block).encode()
        box.set_input_files({"name": option, "mimeType": "text/csv", "buffer": content})
    else:
        box.select_option(label=option)


def _part(page: Page, name: str) -> Locator:
    """The innermost row, section or form with that at its head."""
    head = page.locator("h2, h3, legend, summary, th, td, dt", has_text=name)
    parts = page.locator("tr, section, form, details, fieldset, article, li, dl")
    return parts.filter(has=head).last


def _log(page: Page, line: str) -> None:
    box = page.locator("[data-log-line]")
    box.fill(line)
    with page.expect_response("**/line/"):
        box.press("Enter")
    expect(box).to_have_value("")  # it was taken, and nothing was asked
