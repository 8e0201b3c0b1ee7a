"""The guide's pages, written once in Markdown for people, pages and a test."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from django.utils.safestring import SafeString, mark_safe
from markdown_it import MarkdownIt
from mdit_py_plugins.anchors import anchors_plugin

from hollow_kettle.database.home import COMMAND

FOLDER = Path(__file__).parent / "pages"
#: In the order in which a club needs them.
SLUGS = ("first-event", "night", "day-after", "when-things-break")

_HEADING = re.compile(r"^## (.+)$", re.MULTILINE)
_TO_A_PAGE = re.compile(r'href="([a-z-]+)\.md(#[a-z-]+)?"')
_TO_THE_DOCS = re.compile(r'<a href="\.\./[^"]+">(.+?)</a>')


@dataclass(frozen=True, slots=True)
class Page:
    """One page: its title, what it begins with, its sections and its HTML."""

    slug: str
    title: str
    first: SafeString
    #: Anchor and title of each section.
    sections: tuple[tuple[str, str], ...]
    html: SafeString


def source_of(slug: str) -> str:
    """The Markdown of a page."""
    return (FOLDER / f"{slug}.md").read_text()


@cache
def page_of(slug: str) -> Page:
    """A page, ready to be shown; raises KeyError where there is none."""
    if slug not in SLUGS:
        raise KeyError(slug)
    # Who installed the wheel types the command without its folder.
    text = source_of(slug).replace("./kettle", COMMAND)
    title, _, body = text.partition("\n")
    reader = MarkdownIt("commonmark", {"html": False}).enable("table")
    reader.use(anchors_plugin, max_level=2, slug_func=anchor_of)
    html = _TO_A_PAGE.sub(r'href="../\1/\2"', reader.render(body))
    # What lies beside the guide in the source tree is no page of the application.
    html = _TO_THE_DOCS.sub(r"\1", html)
    return Page(
        slug=slug,
        title=title.removeprefix("# "),
        first=mark_safe(  # noqa: S308 - likewise
            reader.renderInline(body.strip().partition("\n")[0])
        ),
        sections=tuple((anchor_of(it), it) for it in _HEADING.findall(body)),
        html=mark_safe(html),  # noqa: S308 - our own text, and no HTML is let through
    )


def pages() -> list[Page]:
    """All pages, in their order."""
    return [page_of(slug) for slug in SLUGS]


def anchor_of(heading: str) -> str:
    """What a link to a section ends with, as source viewers make it too."""
    return re.sub(r"[^a-z0-9 -]", "", heading.lower()).replace(" ", "-")
