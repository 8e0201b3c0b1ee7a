"""The yard: sources, bays, crews, places and walks."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django import forms as django_forms
from django.contrib import messages
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.bridge.places import walk_minutes
from hollow_kettle.plan.drawing import span_of
from hollow_kettle.plan.models import Bay, Crew, Event, Source
from hollow_kettle.plan.rows import remove
from hollow_kettle.shelf.fits.queries import charge_plan
from hollow_kettle.ui.asked import whole_number
from hollow_kettle.ui.seen import wait_for
from hollow_kettle.ui.tried import tried

from . import forms, services
from .page import bay_lines, little_map, source_strip


@require_safe
def yard(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the charging yard, its sources, bays and crews."""
    return _yard_page(request, event_or_404(request, uid))


def _yard_page(
    request: HttpRequest,
    event: Event,
    windows: dict[UUID, django_forms.Form] | None = None,
    **bound: django_forms.Form,
) -> HttpResponse:
    """The yard, with what was refused: a form, or a source's hours."""
    span, windows = span_of(event), windows or {}
    context = {
        "event": event,
        "sources": [
            (source, windows.get(source.pk) or _window_form(source, initial=span))
            for source in event.sources.prefetch_related("windows", "bays")
        ],
        "strip": source_strip(event),
        "bays": bay_lines(event),
        "crews": event.crews.all(),
        "source_form": forms.SourceForm(initial=span),
        "bay_form": forms.BayForm(event=event),
        "crew_form": forms.CrewForm(initial=span),
        **bound,
    }
    status = 422 if bound or windows else 200
    return render(request, "plan/yard.html", context, status=status)


def _window_form(source: Source, *args: Any, **kwargs: Any) -> forms.WindowForm:
    """A source's own form for more hours."""
    return forms.WindowForm(*args, auto_id=f"window_{source.pk}_%s", **kwargs)


@require_POST
@coordinator_only
def source_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add a source."""
    event = event_or_404(request, uid)
    form, by = forms.SourceForm(request.POST), actor_of(request)
    if form.is_valid() and tried(
        form, services.add_source, event, by=by, **form.cleaned_data
    ):
        return redirect("plan:yard", event.pk)
    return _yard_page(request, event, source_form=form)


@require_POST
@coordinator_only
def window_add(request: HttpRequest, uid: UUID, source_uid: UUID) -> HttpResponse:
    """Let a source run for another stretch."""
    event = event_or_404(request, uid)
    source = get_object_or_404(Source, pk=source_uid, event=event)
    form, by = _window_form(source, request.POST), actor_of(request)
    if form.is_valid() and tried(
        form, services.add_window, source, by=by, **form.cleaned_data
    ):
        return redirect("plan:yard", event.pk)
    return _yard_page(request, event, windows={source.pk: form})


@require_POST
@coordinator_only
def bay_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add a bay."""
    event = event_or_404(request, uid)
    form, by = forms.BayForm(request.POST, event=event), actor_of(request)
    if form.is_valid() and tried(
        form, services.add_bay, event, by=by, **form.cleaned_data
    ):
        return redirect("plan:yard", event.pk)
    return _yard_page(request, event, bay_form=form)


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def bay_edit(request: HttpRequest, uid: UUID, bay_uid: UUID) -> HttpResponse:
    """Change a bay: its source, its charger, whether it may charge unwatched."""
    wait_for(request, Bay, bay_uid)
    event = event_or_404(request, uid)
    bay = get_object_or_404(event.bays, pk=bay_uid)
    names = ("name", "source", "charger", "max_w", "ends_itself", "unwatched_why")
    initial = {name: getattr(bay, name) for name in names}
    initial["chemistries"] = bay.chemistries.split(",")
    form = forms.BayForm(request.POST or None, event=event, initial=initial)
    if request.method == "POST" and form.is_valid():
        by = actor_of(request)
        if tried(form, services.change_bay, bay, by=by, **form.cleaned_data):
            messages.success(
                request, f"{bay} is saved; it counts from the next rotation on."
            )
            return redirect("plan:yard", event.pk)
    context = {"event": event, "bay": bay, "form": form}
    status = 422 if form.is_bound else 200
    return render(request, "plan/bay_edit.html", context, status=status)


@require_POST
@coordinator_only
def crew_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Put people on duty."""
    event = event_or_404(request, uid)
    form, by = forms.CrewForm(request.POST), actor_of(request)
    if form.is_valid() and tried(
        form, services.add_crew, event, by=by, **form.cleaned_data
    ):
        return redirect("plan:yard", event.pk)
    return _yard_page(request, event, crew_form=form)


_YARD_ROWS: dict[str, type[Source | Bay | Crew]] = {
    "source": Source,
    "bay": Bay,
    "crew": Crew,
}


@require_POST
@coordinator_only
def yard_row_delete(
    request: HttpRequest, uid: UUID, what: str, key: str
) -> HttpResponse:
    """Take a source, bay or crew out of the event."""
    event = event_or_404(request, uid)
    model = _YARD_ROWS.get(what)
    if model is None:
        raise Http404
    try:
        row = model.objects.filter(event=event, pk=key).first()
    except (ValueError, ValidationError) as error:
        raise Http404 from error
    if row is None:
        raise Http404
    try:
        remove(event, row, by=actor_of(request))
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
    return redirect("plan:yard", event.pk)


@require_safe
def charge_by(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show when each battery must start charging to be full when it begins."""
    event = event_or_404(request, uid)
    watches = list(event.crews.filter(does="yard", starts_at__lt=event.starts_at))
    plan = None
    if event.starts_at > event.clock.now():
        plan = charge_plan(
            list(event.batteries.filter(hold="").select_related("battery")),
            departs=event.starts_at,
            watches=[(crew.starts_at, crew.ends_at) for crew in watches],
        )
    context = {"event": event, "plan": plan, "watches": watches}
    return render(request, "plan/charge_by.html", context)


@require_safe
def places(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the walking minutes between every pair of places."""
    return _places_page(request, event_or_404(request, uid))


def _places_page(
    request: HttpRequest,
    event: Event,
    faults: dict[str, str] | None = None,
    yard_form: django_forms.Form | None = None,
) -> HttpResponse:
    sites = list(event.sites.all())
    yard = next((site for site in sites if site.is_yard), None)
    names = forms.YardPlaceForm.base_fields
    minutes = walk_minutes(event)
    rows = [(a, [(b, minutes.get((a.pk, b.pk))) for b in sites]) for a in sites]
    context = {
        "event": event,
        "sites": sites,
        "rows": rows,
        "faults": faults or {},
        "map": little_map(sites),
        "yard_form": yard_form
        or forms.YardPlaceForm(
            initial={name: getattr(yard, name) for name in names} if yard else None
        ),
    }
    status = 422 if faults or yard_form else 200
    return render(request, "plan/places.html", context, status=status)


@require_POST
@coordinator_only
def yard_place(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Put the charging yard on the map."""
    event = event_or_404(request, uid)
    form = forms.YardPlaceForm(request.POST)
    if not form.is_valid():
        return _places_page(request, event, yard_form=form)
    site, by = event.sites.get(is_yard=True), actor_of(request)
    services.place_site(site, by=by, **form.cleaned_data)
    messages.success(request, "The yard is on the map.")
    return redirect("plan:places", event.pk)


@require_POST
@coordinator_only
def walk_edit(request: HttpRequest, uid: UUID) -> HttpResponse:
    """State the walking minutes between two sites, or leave them to the map."""
    event = event_or_404(request, uid)
    a, b = (
        event.sites.filter(pk=whole_number(request.POST.get(name)) or 0).first()
        for name in ("a", "b")
    )
    form = forms.WalkForm(request.POST)
    if a is None or b is None or a == b or not form.is_valid():
        faults = [str(fault) for fault in form.errors.get("minutes", [])]
        words = "; ".join(faults) or "Choose two different places."
        return _places_page(request, event, {"walk": words})
    services.state_walk(a, b, by=actor_of(request), **form.cleaned_data)
    messages.success(request, f"The walk between {a} and {b} is saved.")
    return redirect("plan:places", event.pk)


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def source_edit(request: HttpRequest, uid: UUID, source_uid: UUID) -> HttpResponse:
    """Change what a source gives, when it is quiet, what it burns."""
    wait_for(request, Source, source_uid)
    event = event_or_404(request, uid)
    source = get_object_or_404(Source, pk=source_uid, event=event)
    names = list(forms.LimitsForm.base_fields)
    form = forms.LimitsForm(
        request.POST or None,
        source=source,
        initial={name: getattr(source, name) for name in names},
    )
    is_sent, by = request.method == "POST" and form.is_valid(), actor_of(request)
    if is_sent and tried(
        form, services.change_source, source, by=by, **form.cleaned_data
    ):
        messages.success(request, f"{source} is saved.")
        return redirect("plan:yard", event.pk)
    context = {"event": event, "source": source, "form": form}
    status = 422 if form.is_bound else 200
    return render(request, "plan/source_edit.html", context, status=status)
