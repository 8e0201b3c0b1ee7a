"""An event copied, and handed over as a file."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.exchange.answers import file_answer
from hollow_kettle.exchange.files import TableFault
from hollow_kettle.exchange.forms import UploadForm
from hollow_kettle.exchange.imports import apply_upload
from hollow_kettle.exchange.services import keep_upload
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.models import Event
from hollow_kettle.ui.tried import tried
from powercore.errors import PowercoreError

from . import forms
from .copies import copy_event, next_year
from .export import export_scenario, hours_calendar, places_geojson
from .imports import import_scenario
from .preview import example_file, examples, preview_scenario

PURPOSE = "scenario"


@require_http_methods(["GET", "POST"])
@coordinator_only
def event_copy(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Copy an event to another date."""
    event = event_or_404(request, uid)
    initial = {"name": event.name, "starts": next_year(event)}
    form = forms.CopyForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        by = actor_of(request)
        copy = tried(form, copy_event, event, by=by, **form.cleaned_data)
        if copy is not None:
            messages.success(
                request, f"{copy} is a copy now; change what is different."
            )
            return redirect(copy)
    context = {"event": event, "form": form}
    status = 422 if form.is_bound else 200
    return render(request, "plan/event_copy.html", context, status=status)


@require_safe
def scenario_export(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give the whole event as one open file."""
    event = event_or_404(request, uid)
    try:
        content = export_scenario(event)
    except PowercoreError as error:
        messages.error(request, str(error))
        return redirect(event)
    return file_answer(content, "application/json", "scenario.json")


@require_safe
def places_export(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give the places as GeoJSON."""
    event: Event = event_or_404(request, uid)
    content = places_geojson(event)
    return file_answer(content, "application/geo+json", "places.geojson")


@require_safe
def hours_export(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give open hours and duties as iCalendar."""
    event = event_or_404(request, uid)
    content = hours_calendar(event)
    return file_answer(content, "text/calendar; charset=utf-8", "hours.ics")


@require_http_methods(["GET", "POST"])
@coordinator_only
def scenario_import(request: HttpRequest) -> HttpResponse:
    """Read a scenario file and show what it would do, before anything is kept."""
    chosen = example_file(request.POST.get("example", ""))
    files = {"file": chosen} if chosen else request.FILES
    form = UploadForm(request.POST or None, files or None)
    form.fields["file"].label = "Scenario file (JSON)"
    context: dict[str, object] = {"form": form, "examples": examples()}
    if request.method == "POST" and form.is_valid():
        try:
            upload = keep_upload(
                form.cleaned_data["file"], purpose=PURPOSE, by=actor_of(request)
            )
            preview = preview_scenario(bytes(upload.content))
            context |= {"upload": upload, "preview": preview}
        except (TableFault, PowercoreError) as error:
            form.add_error("file", str(error))
    status = 422 if form.errors else 200
    return render(request, "plan/scenario_import.html", context, status=status)


@require_POST
@coordinator_only
def scenario_import_apply(request: HttpRequest, upload_uid: UUID) -> HttpResponse:
    """Make an event of a file whose preview was seen."""
    by, is_template = actor_of(request), request.POST.get("as") == "template"

    def apply(content: bytes) -> Event:
        return import_scenario(content, by=by, is_template=is_template)

    event = apply_upload(request, upload_uid, purpose=PURPOSE, apply=apply)
    if event is None:
        return redirect("plan:scenario_import")
    messages.success(request, f"{event} is in the plan.")
    return redirect(event)
