"""What the numbers taught: accepted or refused, and held against past events."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.people.access import access_of, actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404, events_visible_to
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.estimates import services
from hollow_kettle.shelf.models import Estimate

from .page import backtest, learned_at


@require_safe
def learned(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show what an event taught."""
    event = event_or_404(request, uid)
    context = {"event": event, "rows": learned_at(event)}
    return render(request, "debrief/learned.html", context)


@require_POST
@coordinator_only
def learned_answer(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Accept an estimate, or refuse it."""
    event = event_or_404(request, uid)
    found = Estimate.objects.filter(event_key=event.pk)
    estimate = get_object_or_404(found, pk=pk)
    if request.POST.get("answer") == "accept":
        services.accept(estimate, by=actor_of(request))
        messages.success(request, "It is planned with from now on.")
    else:
        services.refuse(estimate, by=actor_of(request))
        messages.success(request, "It is not planned with.")
    return redirect("debrief:learned", event.pk)


@require_safe
def backtest_page(request: HttpRequest) -> HttpResponse:
    """Show what past plans foretold, then and with what is known now."""
    events = events_visible_to(access_of(request)).filter(state=Event.State.CLOSED)
    return render(request, "debrief/backtest.html", {"test": backtest(list(events))})
