"""Event passes: made, shown once, revoked."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from hollow_kettle.people import passes
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.people.models import EventPass
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.changelog import note
from hollow_kettle.ui.codes import drawn_code

from .forms import PassForm


@require_http_methods(["GET", "POST"])
@coordinator_only
def pass_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show an event's passes and who joined by them; make one, which is shown once."""
    event = event_or_404(request, uid)
    form = PassForm(request.POST or None, event=event)
    shown = None
    if request.method == "POST" and form.is_valid():
        station = form.cleaned_data["station"]
        shown = passes.make_pass(
            event.pk,
            event.name,
            role=form.cleaned_data["role"],
            station_key=station.pk if station else None,
            hours=form.cleaned_data["hours"],
            by=actor_of(request),
        )
        note(
            event, actor_of(request), f"{shown.made} for {form.cleaned_data['hours']} h"
        )
        form = PassForm(event=event)
    names = {station.pk: station.name for station in event.stations.all()}
    rows = [
        (one, names.get(one.station_key, "") if one.station_key else "")
        for one in EventPass.objects.filter(event_key=event.pk).prefetch_related(
            "guests__actor"
        )
    ]
    context = {"event": event, "form": form, "rows": rows, "shown": shown}
    if shown is not None:
        path = reverse("people:join_link", args=[shown.token])
        link = request.build_absolute_uri(path)
        context |= {"link": link, "code": drawn_code(link)}
    status = 422 if form.is_bound else 200
    return render(request, "plan/passes.html", context, status=status)


@require_POST
@coordinator_only
def pass_revoke(request: HttpRequest, uid: UUID, pass_uid: UUID) -> HttpResponse:
    """End a pass at once."""
    event = event_or_404(request, uid)
    own = get_object_or_404(EventPass, pk=pass_uid, event_key=event.pk)
    passes.revoke(own)
    note(event, actor_of(request), f"{own} revoked")
    messages.success(
        request, "Revoked: nobody is in by it any more. What they noted stays."
    )
    return redirect("plan:pass_list", event.pk)
