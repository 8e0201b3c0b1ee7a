"""Reports: on paper, for the served agency, as text and as a package."""

from __future__ import annotations

from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils.text import slugify
from django.views.decorators.http import require_safe

from hollow_kettle.exchange.answers import file_answer
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.shelf.prints.paper import printed
from hollow_kettle.shelf.prints.views import pdf

from .files import as_markdown, tables_of
from .page import paper_of

SHEETS = ("a4", "letter")


@require_safe
def report(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show what the report says, and how it may be taken along."""
    event = event_or_404(request, uid)
    context = {"event": event, "paper": paper_of(event)}
    return render(request, "debrief/report.html", context)


@require_safe
def report_print(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The after-action report on paper."""
    return _printed(request, uid, "report")


@require_safe
def agency_print(request: HttpRequest, uid: UUID) -> HttpResponse:
    """One page for whom the club served."""
    return _printed(request, uid, "agency")


@require_safe
def power_log_print(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The power section of a unit's log."""
    return _printed(request, uid, "power-log")


def _printed(request: HttpRequest, uid: UUID, what: str) -> HttpResponse:
    event = event_or_404(request, uid)
    size = request.GET.get("paper", "a4")
    context = {"event": event, "paper": paper_of(event)}
    template = f"debrief/paper/{what.replace('-', '_')}.html"
    content = printed(template, context, size if size in SHEETS else "a4")
    return pdf(content, f"{what}-{slugify(event.name)}")


@require_safe
def report_text(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The report as Markdown."""
    event = event_or_404(request, uid)
    content = as_markdown(paper_of(event)).encode()
    name = f"report-{slugify(event.name)}.md"
    return file_answer(content, "text/markdown; charset=utf-8", name)


@require_safe
def report_package(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The report's tables as an open Data Package."""
    event = event_or_404(request, uid)
    content = tables_of(paper_of(event))
    return file_answer(content, "application/zip", f"debrief-{slugify(event.name)}.zip")
