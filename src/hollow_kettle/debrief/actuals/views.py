"""Planned against actual: the page."""

from __future__ import annotations

from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from hollow_kettle.debrief.history import History
from hollow_kettle.plan.access import event_or_404

from .page import page_of


@require_safe
def actuals(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show what was planned beside what was."""
    event = event_or_404(request, uid)
    page = page_of(History(event, event.clock.now()))
    return render(request, "debrief/actuals.html", {"event": event, "page": page})
