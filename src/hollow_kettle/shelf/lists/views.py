"""Lists in and out: CSV and XLSX of each kind, and the whole shelf as a zip."""

from __future__ import annotations

from functools import partial
from uuid import UUID

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.exchange.imports import apply_upload, read_again, read_upload
from hollow_kettle.exchange.services import (
    all_headings,
    headings_of,
    remember_headings,
)
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.shelf.access import kind_or_404
from hollow_kettle.shelf.fields import Kind
from hollow_kettle.shelf.kinds import KINDS

from . import tables

_START = "shelf-"


def _purpose(kind: Kind) -> str:
    return f"{_START}{kind.key}"


@require_safe
def export_kind(request: HttpRequest, kind: str) -> HttpResponse:
    """Give the list of one kind as CSV."""
    found = kind_or_404(kind)
    response = HttpResponse(
        tables.export_list(found), content_type="text/csv; charset=utf-8"
    )
    name = found.plural.replace(" ", "-").replace(",", "")
    response["Content-Disposition"] = f'attachment; filename="{name}.csv"'
    return response


@require_safe
def export_all(request: HttpRequest) -> HttpResponse:
    """Give the whole shelf as a zip of CSVs with a description."""
    response = HttpResponse(tables.export_all(), content_type="application/zip")
    response["Content-Disposition"] = 'attachment; filename="shelf.zip"'
    return response


@require_http_methods(["GET", "POST"])
@coordinator_only
def import_kind(request: HttpRequest, kind: str) -> HttpResponse:
    """Read a list and show what it would do, before anything is kept."""
    found = kind_or_404(kind)
    preview = partial(tables.preview_list, found, headings=headings_of(_purpose(found)))
    context = read_upload(request, purpose=_purpose(found), preview=preview)
    status = 422 if context["form"].errors else 200
    return _page(request, found, context, status)


def _page(
    request: HttpRequest, kind: Kind, context: dict, status: int = 200
) -> HttpResponse:
    context |= {"columns": tables.columns_of(kind), "kind": kind}
    return render(request, "shelf/import.html", context, status=status)


@require_POST
@coordinator_only
def import_columns(request: HttpRequest, kind: str, uid: UUID) -> HttpResponse:
    """Take what somebody's own headings mean, remember it, and read again."""
    found = kind_or_404(kind)
    names = {column.name for column in tables.columns_of(found)}
    headings = request.POST.getlist("heading")
    columns = request.POST.getlist("column")
    meanings = {
        heading: column if column in names else ""
        for heading, column in zip(headings, columns, strict=False)
    }
    remember_headings(_purpose(found), meanings)
    preview = partial(tables.preview_list, found, headings=headings_of(_purpose(found)))
    context = read_again(request, uid, purpose=_purpose(found), preview=preview)
    if context is None:
        return redirect("shelf:import", found.key)
    return _page(request, found, context)


@require_http_methods(["GET", "POST"])
@coordinator_only
def headings(request: HttpRequest) -> HttpResponse:
    """Show what a club's own headings mean; change or forget one."""
    if request.method == "POST":
        found = KINDS.get(request.POST.get("kind", ""))
        column = request.POST.get("column", "")
        known = tables.columns_of(found) if found is not None else ()
        heading = request.POST.get("heading", "")[:80]
        if found and heading and column in {"", *(one.name for one in known)}:
            remember_headings(_purpose(found), {heading: column})
            said = f"means {column} now" if column else "is forgotten"
            messages.success(request, f"“{heading}” {said}.")
        return redirect("shelf:headings")
    rows = [
        (kind, heading, [column.name for column in tables.columns_of(kind)])
        for heading in all_headings(_START)
        if (kind := KINDS.get(heading.purpose.removeprefix(_START))) is not None
    ]
    return render(request, "shelf/headings.html", {"rows": rows})


@require_POST
@coordinator_only
def import_apply(request: HttpRequest, kind: str, uid: UUID) -> HttpResponse:
    """Import a list whose preview was seen."""
    found = kind_or_404(kind)
    apply = partial(
        _apply, found, by=actor_of(request), headings=headings_of(_purpose(found))
    )
    done = apply_upload(request, uid, purpose=_purpose(found), apply=apply)
    if done is None:
        return redirect("shelf:import", found.key)
    messages.success(request, f"{done[0]} {found.plural} are new, {done[1]} changed.")
    return redirect("shelf:asset_list")


def _apply(kind: Kind, content: bytes, **options) -> tuple[int, int]:
    return tables.apply_list(kind, content, **options)
