"""The Plan's pages: parse, call, render."""

from __future__ import annotations

from functools import partial
from typing import Any
from uuid import UUID

from django import forms as django_forms
from django.contrib import messages
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.clock import local
from hollow_kettle.exchange.imports import apply_upload, read_upload
from hollow_kettle.people.access import access_of, coordinator_only
from hollow_kettle.people.models import Club, Duty
from hollow_kettle.people.services import give_duty
from hollow_kettle.shelf.joins import charge_plan
from hollow_kettle.shelf.queries import shelf_batteries
from hollow_kettle.ui.asked import SAVED_MEANWHILE, whole_number

from . import bridge, forms, services, sets, tables
from .access import event_or_404, events_visible_to
from .demand import station_page
from .ledger import ledger_page
from .models import (
    Bay,
    Crew,
    Event,
    OpenHours,
    Purpose,
    Source,
    Station,
    StationEquipment,
)
from .policy import POLICIES, policy_of
from .strip import little_map, source_strip

PURPOSE = "stations"


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
def event_edit(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Change an event's name, zone and span."""
    return _event_form(request, event_or_404(request, uid))


def _event_form(request: HttpRequest, event: Event | None) -> HttpResponse:
    initial: dict[str, Any] = {"zone": Club.the().zone, "purpose": Purpose.EXERCISE}
    if event is not None:
        initial = span_of(event) | {
            name: getattr(event, name)
            for name in forms.EventForm.base_fields
            if name not in ("starts", "ends")
        }
    form = forms.EventForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        saved = tried(form, services.save_event, event, **form.cleaned_data)
        if saved is not None:
            messages.success(request, f"{saved} is kept.")
            return redirect(saved)
    policies = [(Purpose(key).label, one) for key, one in POLICIES.items()]
    context = {"form": form, "event": event, "policies": policies}
    status = 422 if form.is_bound else 200
    return render(request, "plan/event_edit.html", context, status=status)


def tried(form: django_forms.Form, service: Any, *args: Any, **kwargs: Any) -> Any:
    """Call a service; put what it refuses onto the form. None when refused."""
    try:
        with transaction.atomic():
            return service(*args, **kwargs)
    except ValidationError as error:
        form.add_error(None, error)
    except IntegrityError:  # another was first between our look and our write
        form.add_error(None, f"{SAVED_MEANWHILE} Look at the list before you go on.")
    return None


@require_safe
def event_detail(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the energy ledger."""
    event = event_or_404(request, uid)
    page = ledger_page(event, request.GET.get("sky", ""))
    context = {"event": event, "page": page, "policy": policy_of(event)}
    return render(request, "plan/event_detail.html", context)


@require_POST
@coordinator_only
def event_state(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Start an event, close it, or take it back to planning."""
    event = event_or_404(request, uid)
    state = request.POST.get("state", "")
    if state not in Event.State.values:
        raise Http404
    services.set_state(event, state=state)
    messages.success(request, f"{event} is {event.get_state_display()} now.")
    return redirect(event)


# --- stations -------------------------------------------------------------------


def station_or_404(event: Event, uid: UUID) -> Station:
    stations = event.stations.select_related("site", "event")
    return get_object_or_404(stations, pk=uid)


@require_safe
def station_detail(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Show what a station draws and how long each battery keeps it on."""
    event = event_or_404(request, uid)
    return _station_page(request, event, station_or_404(event, station_uid))


def _station_page(
    request: HttpRequest, event: Event, station: Station, **bound: django_forms.Form
) -> HttpResponse:
    context = {
        "event": event,
        "station": station,
        "page": station_page(event, station),
        "equipment": station.equipment.select_related("equipment"),
        "supplies": station.supplies.all(),
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
    walks = bridge.walk_minutes(event)
    return walks.get((yard.pk, station.site_id)) if yard else None


def span_of(event: Event) -> dict[str, Any]:
    return {
        "starts": local(event.starts_at, event.zone).replace(tzinfo=None),
        "ends": local(event.ends_at, event.zone).replace(tzinfo=None),
    }


@require_http_methods(["GET", "POST"])
@coordinator_only
def station_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add a station."""
    return _station_form(request, event_or_404(request, uid), None)


@require_http_methods(["GET", "POST"])
@coordinator_only
def station_edit(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Change a station."""
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
        saved = tried(form, services.save_station, event, station, **form.cleaned_data)
        if saved is not None:
            messages.success(request, f"{saved} is kept.")
            return redirect(saved)
    context = {"form": form, "event": event, "station": station}
    status = 422 if form.is_bound else 200
    return render(request, "plan/station_edit.html", context, status=status)


@require_POST
@coordinator_only
def station_delete(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Take a station out of the event."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    try:
        services.remove_station(station)
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
        return redirect(station)
    messages.success(request, f"{station} is out of the event.")
    return redirect(event)


@require_POST
@coordinator_only
def equipment_add(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Give a station some equipment."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    form = forms.EquipmentForm(request.POST)
    if form.is_valid():
        services.add_equipment(station, **form.cleaned_data)
        return redirect(station)
    return _station_page(request, event, station, equipment_form=form)


@require_POST
@coordinator_only
def hours_add(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Open a station for a while."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    form = forms.HoursForm(request.POST)
    if form.is_valid() and tried(
        form, services.add_hours, station, **form.cleaned_data
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
        messages.success(request, "It stands in the list of ways of operating now.")
        return redirect(station)
    return _station_page(request, event, station, pattern_form=form)


@require_POST
@coordinator_only
def equipment_delete(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Take equipment away from a station."""
    event = event_or_404(request, uid)
    row = get_object_or_404(StationEquipment, pk=pk, station__event=event)
    services.remove(row)
    return redirect(row.station)


@require_POST
@coordinator_only
def hours_delete(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Take open hours away from a station."""
    event = event_or_404(request, uid)
    row = get_object_or_404(OpenHours, pk=pk, station__event=event)
    services.remove(row)
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
    apply = partial(tables.apply_stations, event)
    count = apply_upload(request, upload_uid, purpose=PURPOSE, apply=apply)
    if count is None:
        return redirect("plan:station_import", event.pk)
    messages.success(request, f"{count} stations are in the event.")
    return redirect(event)


# --- yard, crews, places, people --------------------------------------------------


@require_safe
def yard(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the charging yard, its sources, bays and crews."""
    return _yard_page(request, event_or_404(request, uid))


def _yard_page(
    request: HttpRequest, event: Event, **bound: django_forms.Form
) -> HttpResponse:
    span = span_of(event)
    context = {
        "event": event,
        "sources": event.sources.prefetch_related("windows", "bays"),
        "strip": source_strip(event),
        "bays": event.bays.select_related("source"),
        "crews": event.crews.all(),
        "source_form": forms.SourceForm(initial=span),
        "bay_form": forms.BayForm(event=event),
        "crew_form": forms.CrewForm(initial=span),
        "window_form": forms.WindowForm(initial=span, auto_id=False),
        **bound,
    }
    status = 422 if bound else 200
    return render(request, "plan/yard.html", context, status=status)


@require_POST
@coordinator_only
def source_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add a source."""
    event = event_or_404(request, uid)
    form = forms.SourceForm(request.POST)
    if form.is_valid() and tried(form, services.add_source, event, **form.cleaned_data):
        return redirect("plan:yard", event.pk)
    return _yard_page(request, event, source_form=form)


@require_POST
@coordinator_only
def window_add(request: HttpRequest, uid: UUID, source_uid: UUID) -> HttpResponse:
    """Let a source run for another stretch."""
    event = event_or_404(request, uid)
    source = get_object_or_404(Source, pk=source_uid, event=event)
    form = forms.WindowForm(request.POST)
    if form.is_valid() and tried(
        form, services.add_window, source, **form.cleaned_data
    ):
        return redirect("plan:yard", event.pk)
    return _yard_page(request, event, window_form=form)


@require_POST
@coordinator_only
def bay_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add a bay."""
    event = event_or_404(request, uid)
    form = forms.BayForm(request.POST, event=event)
    if form.is_valid() and tried(form, services.add_bay, event, **form.cleaned_data):
        return redirect("plan:yard", event.pk)
    return _yard_page(request, event, bay_form=form)


@require_http_methods(["GET", "POST"])
@coordinator_only
def bay_edit(request: HttpRequest, uid: UUID, bay_uid: UUID) -> HttpResponse:
    """Change a bay: its source, its charger, whether it may charge unwatched."""
    event = event_or_404(request, uid)
    bay = get_object_or_404(event.bays, pk=bay_uid)
    names = ("name", "source", "max_w", "ends_itself", "unwatched_why")
    initial = {name: getattr(bay, name) for name in names}
    initial["chemistries"] = bay.chemistries.split(",")
    form = forms.BayForm(request.POST or None, event=event, initial=initial)
    if request.method == "POST" and form.is_valid():
        services.change_bay(bay, **form.cleaned_data)
        messages.success(request, f"{bay} is kept; the next rotation goes by it.")
        return redirect("plan:yard", event.pk)
    context = {"event": event, "bay": bay, "form": form}
    status = 422 if form.is_bound else 200
    return render(request, "plan/bay_edit.html", context, status=status)


@require_POST
@coordinator_only
def crew_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Put people on duty."""
    event = event_or_404(request, uid)
    form = forms.CrewForm(request.POST)
    if form.is_valid() and tried(form, services.add_crew, event, **form.cleaned_data):
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
        services.remove(row)
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
    minutes = bridge.walk_minutes(event)
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
    services.place_site(event.sites.get(is_yard=True), **form.cleaned_data)
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
    services.state_walk(a, b, minutes=form.cleaned_data["minutes"])
    messages.success(request, f"The walk between {a} and {b} is kept.")
    return redirect("plan:places", event.pk)


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
        tag = sets.join_batteries(event, request.POST.getlist("join"))
    except ValidationError as error:
        return _batteries_page(request, event, " ".join(error.messages))
    messages.success(request, f"{tag} moves as one from the next rotation on.")
    return redirect("plan:batteries", event.pk)


@require_POST
@coordinator_only
def batteries_apart(request: HttpRequest, uid: UUID, lead: UUID) -> HttpResponse:
    """Take a set apart again."""
    event = event_or_404(request, uid)
    if tag := sets.take_apart(event, lead):
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
    services.choose_batteries(event, uids)
    messages.success(request, f"{len(uids)} batteries take part.")
    return redirect("plan:batteries", event.pk)


@require_http_methods(["GET", "POST"])
@coordinator_only
def duties(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give people roles at an event."""
    event = event_or_404(request, uid)
    form = forms.DutyForm(request.POST or None, event=event)
    if request.method == "POST" and form.is_valid():
        station = form.cleaned_data["station"]
        give_duty(
            form.cleaned_data["actor"],
            event_key=event.pk,
            role=form.cleaned_data["role"],
            station_key=station.pk if station else None,
        )
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
    get_object_or_404(Duty, pk=pk, event_key=event.pk).delete()
    return redirect("plan:duties", event.pk)
