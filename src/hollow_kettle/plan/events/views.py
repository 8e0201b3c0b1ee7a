"""Events, who does what there, and their batteries."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.core.paginator import Paginator
from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.people.access import access_of, actor_of, coordinator_only
from hollow_kettle.people.models import Club, Duty
from hollow_kettle.plan import removed
from hollow_kettle.plan.access import event_or_404, events_visible_to
from hollow_kettle.plan.changelog import notes_of
from hollow_kettle.plan.drawing import span_of
from hollow_kettle.plan.models import Event, Purpose
from hollow_kettle.plan.policy import POLICIES
from hollow_kettle.shelf.charge.queries import shelf_batteries
from hollow_kettle.shelf.estimates.queries import lateness
from hollow_kettle.ui.seen import wait_for
from hollow_kettle.ui.tried import tried

from . import forms, services, sets

#: Lines of the change log on a page.
CHANGES_A_PAGE = 100


@require_safe
def event_list(request: HttpRequest) -> HttpResponse:
    """Show the events the person may know of."""
    events = events_visible_to(access_of(request)).prefetch_related("stations")
    return render(request, "plan/event_list.html", {"events": events})


@require_http_methods(["GET", "POST"])
@coordinator_only
def event_add(request: HttpRequest) -> HttpResponse:
    """Set up an event."""
    return _event_form(request, None)


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def event_edit(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Change an event's name, zone and span."""
    wait_for(request, Event, uid)
    return _event_form(request, event_or_404(request, uid))


def _event_form(request: HttpRequest, event: Event | None) -> HttpResponse:
    initial: dict[str, Any] = {"zone": Club.the().zone, "purpose": Purpose.EXERCISE}
    if event is not None:
        initial = span_of(event) | {
            name: getattr(event, name)
            for name in forms.EventForm.base_fields
            if name not in ("starts", "ends")
        }
    elif (late := lateness()) is not None:
        initial = {"lateness_min": round(late.mean)}
    form = forms.EventForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        by = actor_of(request)
        saved = tried(form, services.save_event, event, by=by, **form.cleaned_data)
        if saved is not None:
            messages.success(request, f"{saved} is saved.")
            return redirect(saved)
    policies = [(Purpose(key).label, one) for key, one in POLICIES.items()]
    context = {"form": form, "event": event, "policies": policies}
    status = 422 if form.is_bound else 200
    return render(request, "plan/event_edit.html", context, status=status)


@require_POST
@coordinator_only
def event_state(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Start an event, close it, or take it back to planning."""
    event = event_or_404(request, uid)
    state = request.POST.get("state", "")
    if state not in Event.State.values:
        raise Http404
    try:
        services.set_state(event, state=state, by=actor_of(request))
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
    else:
        messages.success(request, f"{event} is {event.get_state_display()} now.")
    return redirect(event)


@require_safe
@coordinator_only
def change_log(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show who changed what of an event's set-up."""
    event = event_or_404(request, uid)
    pages = Paginator(notes_of(event), CHANGES_A_PAGE)
    page = pages.get_page(request.GET.get("page"))
    return render(request, "plan/change_log.html", {"event": event, "page": page})


@require_POST
@coordinator_only
def bring_back(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Bring back what was removed from the event's set-up."""
    event = event_or_404(request, uid)
    try:
        line = removed.bring_back(event, pk, by=actor_of(request))
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
    else:
        messages.success(request, f"Brought back: {line.words}.")
    return redirect("plan:change_log", event.pk)


@require_http_methods(["GET", "POST"])
def batteries(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Choose which batteries take part."""
    event = event_or_404(request, uid)
    if request.method == "POST":
        return _choose_batteries(request, event)
    return _batteries_page(request, event)


def _batteries_page(
    request: HttpRequest, event: Event, trouble: str = ""
) -> HttpResponse:
    chosen = set(event.batteries.values_list("pk", flat=True))
    rows = [(item, item.asset.pk in chosen) for item in shelf_batteries()]
    leads = event.joined.values("lead")
    single = event.units.filter(archived_at=None).exclude(pk__in=leads)
    context = {
        "event": event,
        "rows": rows,
        "count": len(chosen),
        "sets": sets.sets_of(event),
        "single": single.order_by("tag"),
        "trouble": trouble,
        "asked": request.POST.getlist("join"),
    }
    status = 422 if trouble else 200
    return render(request, "plan/batteries.html", context, status=status)


@require_POST
@coordinator_only
def batteries_join(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Join batteries to a set for the event."""
    event = event_or_404(request, uid)
    try:
        keys = request.POST.getlist("join")
        tag = sets.join_batteries(event, keys, by=actor_of(request))
    except ValidationError as error:
        return _batteries_page(request, event, " ".join(error.messages))
    messages.success(request, f"{tag} moves as one from the next rotation on.")
    return redirect("plan:batteries", event.pk)


@require_POST
@coordinator_only
def batteries_apart(request: HttpRequest, uid: UUID, lead: UUID) -> HttpResponse:
    """Take a set apart again."""
    event = event_or_404(request, uid)
    if tag := sets.take_apart(event, lead, by=actor_of(request)):
        messages.success(request, f"{tag} is taken apart.")
    return redirect("plan:batteries", event.pk)


@coordinator_only
def _choose_batteries(request: HttpRequest, event: Event) -> HttpResponse:
    uids = []
    for text in request.POST.getlist("battery"):
        try:
            uids.append(UUID(text))
        except ValueError:
            continue
    services.choose_batteries(event, uids, by=actor_of(request))
    messages.success(request, f"{len(uids)} batteries take part.")
    return redirect("plan:batteries", event.pk)


@require_http_methods(["GET", "POST"])
@coordinator_only
def duties(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give people roles at an event."""
    event = event_or_404(request, uid)
    form = forms.DutyForm(request.POST or None, event=event)
    if request.method == "POST" and form.is_valid():
        services.give_role(event, by=actor_of(request), **form.cleaned_data)
        return redirect("plan:duties", event.pk)
    names = {station.pk: station.name for station in event.stations.all()}
    rows = [
        (duty, names.get(duty.station_key) if duty.station_key else None)
        for duty in Duty.objects.filter(event_key=event.pk).select_related("actor")
    ]
    context = {"event": event, "form": form, "rows": rows}
    return render(
        request, "plan/duties.html", context, status=422 if form.is_bound else 200
    )


@require_POST
@coordinator_only
def duty_delete(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Take a role away."""
    event = event_or_404(request, uid)
    duty = get_object_or_404(Duty, pk=pk, event_key=event.pk)
    services.take_role(event, duty, by=actor_of(request))
    return redirect("plan:duties", event.pk)
