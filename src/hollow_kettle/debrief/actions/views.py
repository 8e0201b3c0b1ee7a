"""What is to be otherwise next time: the actions of an event's debrief."""

from __future__ import annotations

from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_safe

from hollow_kettle.people.access import coordinator_only
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.shelf.actions.views import edit
from hollow_kettle.shelf.models import Action

from .page import page_of


@require_safe
def action_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show what came of an event, and what its causes suggest."""
    event = event_or_404(request, uid)
    context = {"event": event, "page": page_of(event)}
    return render(request, "debrief/actions.html", context)


@require_http_methods(["GET", "HEAD", "POST"])
@coordinator_only
def action_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take an action on, as it is suggested or otherwise."""
    event = event_or_404(request, uid)
    return edit(
        request,
        Action(),
        event=(event.pk, event.name),
        back=reverse("debrief:action_list", args=[event.pk]),
        initial={
            "words": request.GET.get("words", "")[:200],
            "station": request.GET.get("station", "")[:80],
            "evidence": request.GET.get("why", "")[:300],
        },
    )
