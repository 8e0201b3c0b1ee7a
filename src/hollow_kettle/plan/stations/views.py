"""Stations, what is there, and the list of them in and out."""

from __future__ import annotations

from functools import partial
from uuid import UUID

from django import forms as django_forms
from django.contrib import messages
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.clock import local, told
from hollow_kettle.exchange.imports import apply_upload, read_upload
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404, station_or_404
from hollow_kettle.plan.bridge.places import walk_minutes
from hollow_kettle.plan.drawing import span_of
from hollow_kettle.plan.ledger.demand import recharges, station_page
from hollow_kettle.plan.models import (
    Event,
    OpenHours,
    Station,
    StationEquipment,
    StationSupply,
)
from hollow_kettle.plan.rows import remove
from hollow_kettle.ui.seen import wait_for
from hollow_kettle.ui.tried import tried

from . import forms, learned, services, tables
from .order import order_by_hand

PURPOSE = "stations"


@require_safe
def station_detail(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Show what a station draws and how long each battery keeps it on."""
    event = event_or_404(request, uid)
    return _station_page(request, event, station_or_404(event, station_uid))


def _station_page(
    request: HttpRequest, event: Event, station: Station, **bound: django_forms.Form
) -> HttpResponse:
    charging = recharges(event, station)
    context = {
        "event": event,
        "station": station,
        "page": station_page(event, station),
        "equipment": station.equipment.select_related("equipment"),
        "supplies": [
            (supply, charging.get(supply.pk)) for supply in station.supplies.all()
        ],
        "arrays": station.arrays.all(),
        "hours": station.hours.select_related("pattern"),
        "walk_min": _walk_from_yard(event, station),
        "equipment_form": forms.EquipmentForm(),
        "hours_form": forms.HoursForm(initial=span_of(event)),
        "pattern_form": forms.PatternForm(),
        **bound,
    }
    status = 422 if bound else 200
    return render(request, "plan/station_detail.html", context, status=status)


def _walk_from_yard(event: Event, station: Station) -> int | None:
    yard = event.sites.filter(is_yard=True).first()
    walks = walk_minutes(event)
    return walks.get((yard.pk, station.site_id)) if yard else None


@require_http_methods(["GET", "POST"])
@coordinator_only
def station_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add a station."""
    return _station_form(request, event_or_404(request, uid), None)


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def station_edit(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Change a station."""
    wait_for(request, Station, station_uid)
    event = event_or_404(request, uid)
    return _station_form(request, event, station_or_404(event, station_uid))


def _station_form(
    request: HttpRequest, event: Event, station: Station | None
) -> HttpResponse:
    initial = {}
    if station is not None:
        initial = {
            name: getattr(station, name)
            for name in forms.StationForm.base_fields
            if hasattr(station, name)
        }
        initial |= {
            "latitude": station.site.latitude,
            "longitude": station.site.longitude,
            "walk_min": _walk_from_yard(event, station),
        }
    form = forms.StationForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        values = form.cleaned_data | {"by": actor_of(request)}
        saved = tried(form, services.save_station, event, station, **values)
        if saved is not None:
            messages.success(request, f"{saved} is saved.")
            return redirect(saved)
    context = {"form": form, "event": event, "station": station}
    status = 422 if form.is_bound else 200
    return render(request, "plan/station_edit.html", context, status=status)


@require_POST
@coordinator_only
def station_order(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Pin batteries to a station in an order by hand."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    tags = request.POST.get("order", "").replace(",", " ").split()[:50]
    if not tags:
        messages.error(request, "Name the batteries in their order, like K07 K03.")
        return redirect(station)
    try:
        turns = order_by_hand(event, station, tags, by=actor_of(request))
    except ValidationError as error:
        messages.error(request, f"Nothing was pinned: {' '.join(error.messages)}")
    else:
        words = ", ".join(
            f"{tag} from {told(starts, event.zone)}" for tag, starts in turns
        )
        messages.success(request, f"Pinned: {words}. The next plan keeps to it.")
    return redirect(station)


@require_POST
@coordinator_only
def learned_take(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Plan a station or a bay with what an event taught of it."""
    event = event_or_404(request, uid)
    try:
        key = UUID(request.POST.get("key", ""))
        said = learned.take(
            event, request.POST.get("quantity", ""), key, by=actor_of(request)
        )
    except (ValueError, ValidationError) as error:
        words = getattr(error, "messages", ["Choose what to plan with."])
        messages.error(request, " ".join(words))
    else:
        messages.success(request, said)
    return redirect(event)


@require_POST
@coordinator_only
def station_delete(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Take a station out of the event."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    try:
        services.remove_station(station, by=actor_of(request))
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
        return redirect(station)
    messages.success(
        request,
        f"{station} is removed from the event; the change log can bring it back for a "
        "week.",
    )
    return redirect(event)


@require_POST
@coordinator_only
def equipment_add(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Give a station some equipment."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    form = forms.EquipmentForm(request.POST)
    by = actor_of(request)
    if form.is_valid() and tried(
        form, services.add_equipment, station, by=by, **form.cleaned_data
    ):
        return redirect(station)
    return _station_page(request, event, station, equipment_form=form)


@require_POST
@coordinator_only
def hours_add(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Open a station for a while."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    form = forms.HoursForm(request.POST)
    by = actor_of(request)
    if form.is_valid() and tried(
        form, services.add_hours, station, by=by, **form.cleaned_data
    ):
        return redirect(station)
    return _station_page(request, event, station, hours_form=form)


@require_POST
@coordinator_only
def pattern_add(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Put a way of operating into the library."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    form = forms.PatternForm(request.POST)
    if form.is_valid() and tried(form, services.add_pattern, **form.cleaned_data):
        messages.success(request, "It is among the operating patterns now.")
        return redirect(station)
    return _station_page(request, event, station, pattern_form=form)


@require_POST
@coordinator_only
def equipment_delete(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Take equipment away from a station."""
    event = event_or_404(request, uid)
    row = get_object_or_404(StationEquipment, pk=pk, station__event=event)
    remove(event, row, by=actor_of(request))
    return redirect(row.station)


@require_POST
@coordinator_only
def hours_delete(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Take open hours away from a station."""
    event = event_or_404(request, uid)
    row = get_object_or_404(OpenHours, pk=pk, station__event=event)
    remove(event, row, by=actor_of(request))
    return redirect(row.station)


@require_safe
def station_export(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give the station list as CSV."""
    event = event_or_404(request, uid)
    content = tables.export_stations(event)
    response = HttpResponse(content, content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = 'attachment; filename="stations.csv"'
    return response


@require_http_methods(["GET", "POST"])
@coordinator_only
def station_import(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Read a station list and show what it would do, before anything is kept."""
    event = event_or_404(request, uid)
    preview = partial(tables.preview_stations, event)
    found = read_upload(request, purpose=PURPOSE, preview=preview)
    status = 422 if found["form"].errors else 200
    context = found | {"event": event, "columns": tables.STATION_COLUMNS}
    return render(request, "plan/station_import.html", context, status=status)


@require_POST
@coordinator_only
def station_import_apply(
    request: HttpRequest, uid: UUID, upload_uid: UUID
) -> HttpResponse:
    """Import a list whose preview was seen."""
    event = event_or_404(request, uid)
    apply = partial(tables.apply_stations, event, by=actor_of(request))
    count = apply_upload(request, upload_uid, purpose=PURPOSE, apply=apply)
    if count is None:
        return redirect("plan:station_import", event.pk)
    messages.success(request, f"{count} stations are in the event.")
    return redirect(event)


@require_http_methods(["GET", "POST"])
@coordinator_only
def supply_add(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Give a station power of its own for a while."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    span = {
        "starts": local(event.starts_at, event.zone).replace(tzinfo=None),
        "ends": local(event.ends_at, event.zone).replace(tzinfo=None),
    }
    form = forms.SupplyForm(request.POST or None, initial=span)
    is_sent, by = request.method == "POST" and form.is_valid(), actor_of(request)
    if is_sent and tried(
        form, services.add_supply, station, by=by, **form.cleaned_data
    ):
        return redirect(station)
    context = {"event": event, "station": station, "form": form}
    status = 422 if form.is_bound else 200
    return render(request, "plan/supply_add.html", context, status=status)


@require_POST
@coordinator_only
def supply_delete(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Take power away from a station."""
    event = event_or_404(request, uid)
    row = get_object_or_404(StationSupply, pk=pk, station__event=event)
    remove(event, row, by=actor_of(request))
    return redirect(row.station)
