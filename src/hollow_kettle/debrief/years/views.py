"""Statistics over years: the page."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from hollow_kettle.people.access import access_of
from hollow_kettle.plan.access import events_visible_to
from hollow_kettle.plan.models import Event

from .page import page_of


@require_safe
def years(request: HttpRequest) -> HttpResponse:
    """Show what closed events say together."""
    closed = events_visible_to(access_of(request)).filter(state=Event.State.CLOSED)
    return render(request, "debrief/years.html", {"page": page_of(list(closed))})
