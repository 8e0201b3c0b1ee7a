"""Designed pages on paper, made by WeasyPrint from our own files only."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.contrib.staticfiles import finders
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils.safestring import SafeString, mark_safe
from weasyprint import CSS, HTML
from weasyprint.text.fonts import FontConfiguration
from weasyprint.urls import URLFetcher

from hollow_kettle.people.models import Club
from hollow_kettle.shelf.assets.queries import attach_details
from hollow_kettle.shelf.browse.queries import about
from hollow_kettle.shelf.models import Asset, Port
from hollow_kettle.ui.codes import drawn_code

#: Paper that people have: width and height. [mm]
SIZES = {
    "a3": (297, 420),
    "a4": (210, 297),
    "letter": (215.9, 279.4),
    "a6": (105, 148),
}


@dataclass(frozen=True, slots=True)
class Sheet:
    """A sheet of labels, or continuous tape: all in millimetres."""

    key: str
    name: str
    #: Width and height of the page, and of a label.
    page: tuple[float, float]
    #: Columns and rows.
    grid: tuple[int, int]
    label: tuple[float, float]
    #: Left and upper edge of the first label, and the gap between columns.
    first: tuple[float, float] = (0.0, 0.0)
    gap: float = 0.0

    @property
    def each(self) -> int:
        """Labels on one page."""
        return self.grid[0] * self.grid[1]

    @property
    def css(self) -> str:
        """Page, label and place of each label as a style sheet."""
        (page_w, page_h), (width, height) = self.page, self.label
        rules = [
            f"@page {{ size: {page_w}mm {page_h}mm; margin: 0 }}",
            f".sheet {{ width: {page_w}mm; height: {page_h}mm }}",
            f".label {{ width: {width}mm; height: {height}mm }}",
        ]
        for n in range(self.each):
            row, column = divmod(n, self.grid[0])
            left = self.first[0] + column * (width + self.gap)
            top = self.first[1] + row * height
            rules.append(f".at-{n} {{ left: {left:.2f}mm; top: {top:.2f}mm }}")
        return "\n".join(rules)


#: Sheets and tapes in common use: page, grid, label, and where the first one is.
SHEETS = {
    sheet.key: sheet
    for sheet in (
        Sheet("a4-24", "A4, 24 labels of 70 × 37 mm", (210, 297), (3, 8), (70, 37)),
        Sheet(
            "a4-65",
            "A4, 65 labels of 38 × 21 mm",
            (210, 297),
            (5, 13),
            (38.1, 21.2),
            (4.7, 10.7),
            2.5,
        ),
        Sheet(
            "letter-30",
            "Letter, 30 labels of 67 × 25 mm",
            (215.9, 279.4),
            (3, 10),
            (66.7, 25.4),
            (4.8, 12.7),
            3.2,
        ),
        Sheet("tape-24", "Tape 24 mm wide, 60 mm each", (60, 24), (1, 1), (60, 24)),
        Sheet("tape-62", "Tape 62 mm wide, 29 mm each", (62, 29), (1, 1), (62, 29)),
    )
}


class OwnFilesOnly(URLFetcher):
    """Gives our own static files and nothing else; a page on paper asks no host."""

    def fetch(self, url: str, headers: Any = None) -> Any:
        """Return a static file named by a `static:` address."""
        prefix = "static:"
        if not url.startswith(prefix):
            raise ValueError(f"A printed page may not ask for {url[:80]}.")
        found = _own(url.removeprefix(prefix).lstrip("/"))
        return super().fetch(Path(found).as_uri(), headers)


def _own(name: str) -> str:
    """Path of one of our static files."""
    found = finders.find(name)
    if not isinstance(found, str):
        raise FileNotFoundError(name)
    return found


def _render(template: str, context: dict[str, Any], page_css: str) -> bytes:
    html = render_to_string(template, context | {"club": Club.the()})
    fetcher = OwnFilesOnly(allowed_protocols=("file", "static"))
    document = HTML(string=html, url_fetcher=fetcher, base_url="static:/")
    fonts = FontConfiguration()
    sheets = [
        CSS(filename=_own("shelf/paper.css"), url_fetcher=fetcher, font_config=fonts),
        CSS(string=page_css, url_fetcher=fetcher),
    ]
    return document.write_pdf(stylesheets=sheets, font_config=fonts)


def _page(size: str, margin_mm: float, *, is_wide: bool = False) -> str:
    width, height = SIZES[size]
    if is_wide:
        width, height = height, width
    return f"@page {{ size: {width}mm {height}mm; margin: {margin_mm}mm }}"


def printed(
    template: str, context: dict[str, Any], size: str, *, is_wide: bool = False
) -> bytes:
    """A template of any room as PDF, in the look of all our paper."""
    return _render(template, context, _page(size, 12, is_wide=is_wide))


def code_of(asset: Asset) -> SafeString:
    """
    A label's QR code as SVG.

    It holds the path alone, in capitals, which makes it small; the scanner adds
    whatever address the site has in its tent.
    """
    path = reverse("label", args=[asset.token]).upper()
    return drawn_code(path)


def port_words(port: Port) -> str:
    """What a port's label says: "gives 11.5–14.4 V, 20 A, genderless pair"."""
    way = {"out": "gives", "in": "takes", "both": "gives and takes"}[port.flow]
    volts = f"{port.low_v:g}–{port.high_v:g} V" if port.high_v else ""
    amps = f"{port.max_a:g} A" if port.max_a else ""
    plug = f"{port.get_connector_display()} {port.gender}".strip()
    reverse_words = "REVERSED" if port.is_reversed else ""
    live = "live when open" if port.is_live else ""
    first = f"{way} {volts}".strip()
    return ", ".join(filter(None, (first, amps, plug, reverse_words, live)))


def label_sheet(
    assets: list[Asset], sheet: Sheet, used: int = 0, *, with_ports: bool = False
) -> bytes:
    """Labels of assets, beginning after those that are used up, as PDF."""
    slots: list[tuple[str, SafeString, str] | None] = [None] * min(used, sheet.each - 1)
    for asset in attach_details(assets):
        code = code_of(asset)
        slots.append((asset.tag, code, asset.name or about(asset)))
        if with_ports:
            slots += [
                (f"{asset.tag} {port.name}", code, port_words(port))
                for port in asset.ports.all()
            ]
    pages = [slots[n : n + sheet.each] for n in range(0, len(slots), sheet.each)]
    return _render(
        "shelf/paper/labels.html", {"pages": pages, "sheet": sheet}, sheet.css
    )


def kit_card(page: dict[str, Any], size: str) -> bytes:
    """A kit's card for a stranger, as PDF."""
    context = page | {"code": code_of(page["asset"]), "size": size}
    return _render(
        "shelf/paper/card.html", context, _page(size, 6 if size == "a6" else 14)
    )


def packing_list(asset: Asset, page: Any, size: str) -> bytes:
    """A kit's packing list, as PDF."""
    context = {"asset": asset, "page": page, "code": code_of(asset)}
    return _render(
        "shelf/paper/packing.html", context, _page(size, 6 if size == "a6" else 14)
    )


def kit_drawing(page: dict[str, Any], size: str) -> bytes:
    """A kit's drawing and findings, as PDF on paper laid wide."""
    style = Path(_own("shelf/paper-drawing.css")).read_text(encoding="utf-8")
    context = page | {"drawing_style": mark_safe(style)}  # noqa: S308 - our own file
    return _render("shelf/paper/drawing.html", context, _page(size, 10, is_wide=True))
