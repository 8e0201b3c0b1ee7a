"""The calendar feed: an address that nobody guesses, and that can be taken back."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_safe

from hollow_kettle.exchange.answers import file_answer
from hollow_kettle.exchange.calendars import as_ical
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.people.tokens import digest_of, new_token
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.models import CalendarFeed

from .paper_views import walks_of

_FEED = "plan.feed"


@require_http_methods(["GET", "POST"])
@coordinator_only
def feed(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Make the address of an event's calendar anew, or take it back."""
    event = event_or_404(request, uid)
    link = ""
    if request.method == "POST":
        CalendarFeed.objects.filter(event=event).delete()
        if request.POST.get("what") == "make":
            token = new_token()
            CalendarFeed.objects.create(event=event, digest=digest_of(_FEED, token))
            path = reverse("plan:feed_read", args=[token])
            link = request.build_absolute_uri(path)
            note(event, actor_of(request), "calendar address made")
        else:
            note(event, actor_of(request), "calendar address taken back")
            messages.success(request, "Taken back: no calendar reads it any more.")
            return redirect("plan:feed", event.pk)
    is_made = CalendarFeed.objects.filter(event=event).exists()
    context = {"event": event, "link": link, "is_made": is_made}
    return render(request, "plan/feed.html", context)


@login_not_required
@require_safe
def feed_read(request: HttpRequest, token: str) -> HttpResponse:
    """The published walks of an event for whoever has its address."""
    found = CalendarFeed.objects.select_related("event")
    own = found.filter(digest=digest_of(_FEED, token)).first()
    if own is None:
        raise Http404
    rotation = published(own.event)
    entries = [] if rotation is None else walks_of(own.event, rotation)
    content = as_ical(own.event.name, entries)
    return file_answer(content, "text/calendar; charset=utf-8", "rounds.ics")
