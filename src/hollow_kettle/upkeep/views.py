"""The page for the coordinator, and figures for a collector."""

from __future__ import annotations

import secrets
from contextlib import suppress

from django.conf import settings
from django.contrib import messages
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe
from procrastinate.exceptions import AlreadyEnqueued

from hollow_kettle.clock import local, moment_of
from hollow_kettle.people.access import coordinator_only
from hollow_kettle.people.models import Club

from . import audit, figures, page
from .tasks import back_up_now


@require_safe
@coordinator_only
def how(request: HttpRequest) -> HttpResponse:
    """Say how the kettle is."""
    return render(request, "upkeep/how.html", page.values())


@require_safe
@coordinator_only
def audit_list(request: HttpRequest) -> HttpResponse:
    """Say who changed what, the latest first; from `before` on, where that is said."""
    said = request.GET.get("before", "")
    found, zone = audit.lines(moment_of(said) if said else None), Club.the().zone
    shown = found[: audit.LINES]
    context = {
        "lines": [(local(line.at, zone), line) for line in shown],
        "older": shown[-1].at.isoformat() if len(found) > audit.LINES else "",
    }
    return render(request, "upkeep/audit.html", context)


@require_POST
@coordinator_only
def back_up(request: HttpRequest) -> HttpResponse:
    """Have a backup made now."""
    if settings.IS_DEMO:
        messages.error(request, "The demo club is not backed up.")
        return redirect("upkeep:how")
    with suppress(AlreadyEnqueued), transaction.atomic():
        back_up_now.defer()
    messages.success(
        request, "The worker makes a backup now, and restores it for a test."
    )
    return redirect("upkeep:how")


@require_safe
def metrics(request: HttpRequest) -> HttpResponse:
    """Return figures to whoever has the collector's token."""
    token = settings.KETTLE_METRICS_TOKEN
    said = request.headers.get("Authorization", "").removeprefix("Bearer ")
    if not token or not secrets.compare_digest(said.encode(), token.encode()):
        words = "Say KETTLE_METRICS_TOKEN as a bearer token.\n"
        return HttpResponse(words, status=401, content_type="text/plain")
    return HttpResponse(figures.exposition(), content_type="text/plain; version=0.0.4")
