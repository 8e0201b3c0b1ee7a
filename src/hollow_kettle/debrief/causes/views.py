"""Why an event went otherwise than planned: the page, and having it worked out."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.people.access import coordinator_only
from hollow_kettle.plan.access import event_or_404

from . import services
from .page import page_of


@require_safe
def causes(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the ledgers of causes."""
    event = event_or_404(request, uid)
    context = {"event": event, "page": page_of(event)}
    return render(request, "debrief/causes.html", context)


@require_safe
def causes_results(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Send the ledgers alone: how far they are, or what came of it."""
    event = event_or_404(request, uid)
    context = {"event": event, "page": page_of(event)}
    return render(request, "debrief/_causes.html", context)


@require_POST
@coordinator_only
def causes_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Have the causes worked out, in the background."""
    event = event_or_404(request, uid)
    if services.ask(event) is None:
        messages.error(
            request,
            "No plan was published before it began, so there is nothing to compare.",
        )
    return redirect("debrief:causes", event.pk)
