"""The Debrief's pages: parse, call, render."""

from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_safe

from hollow_kettle.clock import local
from hollow_kettle.people.access import access_of
from hollow_kettle.plan.access import event_or_404, events_visible_to
from hollow_kettle.plan.models import Event

from .page import report_of


@require_safe
def home(request: HttpRequest) -> HttpResponse:
    """Go to the latest closed event, or say that there is none."""
    closed = events_visible_to(access_of(request)).filter(state=Event.State.CLOSED)
    latest = closed.first()
    if latest is not None:
        return redirect("debrief:event", latest.pk)
    return render(request, "debrief/home.html")


@require_safe
def event(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show where power ran short in an event."""
    found = event_or_404(request, uid)
    others = (
        events_visible_to(access_of(request))
        .exclude(pk=found.pk)
        .exclude(state=Event.State.PLANNED)
    )
    days = {local(at, found.zone).date() for at in (found.starts_at, found.ends_at)}
    context = {
        "event": found,
        "report": report_of(found, found.clock.now()),
        #: How moments are shown: an event of one day needs no dates.
        "when": "time" if len(days) == 1 else "day",
        "others": others,
    }
    return render(request, "debrief/event.html", context)
