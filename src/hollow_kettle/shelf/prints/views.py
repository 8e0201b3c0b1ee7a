"""Paper: labels, kit cards, packing lists, drawings."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_safe

from hollow_kettle.shelf.access import kit_or_404
from hollow_kettle.shelf.kits.bridge import rows_of_kit
from hollow_kettle.shelf.kits.page import kit_page, packing_of
from hollow_kettle.shelf.kits.views import ask_for_stops
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.asked import whole_number

from . import paper


def pdf(content: bytes, name: str) -> HttpResponse:
    """Show a page on paper."""
    response = HttpResponse(content, content_type="application/pdf")
    response["Content-Disposition"] = f'inline; filename="{name}.pdf"'
    return response


def _size(request: HttpRequest, default: str = "a4") -> str:
    asked = request.GET.get("paper", default)
    return asked if asked in paper.SIZES else default


@require_safe
def labels(request: HttpRequest) -> HttpResponse:
    """Labels with codes: first which and on what, then the PDF."""
    words = request.GET.get("tags", "").replace(",", " ").split()[:500]
    chosen = [
        asset
        for asset in Asset.objects.here()
        if not words or asset.tag.casefold() in {word.casefold() for word in words}
    ]
    sheet = request.GET.get("sheet", "")
    if sheet not in paper.SHEETS:
        context = {
            "assets": chosen,
            "tags": " ".join(words),
            "sheets": paper.SHEETS.values(),
        }
        return render(request, "shelf/labels.html", context)
    if not chosen:
        messages.error(request, "Nothing on the shelf has these tags.")
        return redirect("shelf:labels")
    skip = request.GET.get("skip", "0")
    used = whole_number(skip) or 0
    with_ports = "ports" in request.GET
    content = paper.label_sheet(
        chosen, paper.SHEETS[sheet], used, with_ports=with_ports
    )
    return pdf(content, "labels")


@require_safe
def kit_card(request: HttpRequest, uid: UUID) -> HttpResponse:
    """A card for whoever picks the kit up; first for its stops to be accepted."""
    kit = kit_or_404(uid)
    asked = ask_for_stops(request, kit, request.get_full_path())
    if asked is not None:
        return asked
    content = paper.kit_card(kit_page(kit), _size(request, "a6"))
    return pdf(content, f"{kit.tag}-card")


@require_safe
def packing_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The packing list on paper."""
    kit = kit_or_404(uid)
    page = packing_of(kit, rows_of_kit(kit))
    return pdf(paper.packing_list(kit, page, _size(request)), f"{kit.tag}-packing")


@require_safe
def kit_drawing(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The kit's power path and findings on paper."""
    kit = kit_or_404(uid)
    return pdf(paper.kit_drawing(kit_page(kit), _size(request)), f"{kit.tag}-path")
