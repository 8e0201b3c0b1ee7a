"""The sun sheet, panels, horizons and the forecast."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from typing import Any
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

from hollow_kettle.clock import from_local, local
from hollow_kettle.exchange.files import TableFault
from hollow_kettle.exchange.forms import UploadForm
from hollow_kettle.exchange.imports import apply_upload
from hollow_kettle.exchange.services import keep_upload
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.models import Event, PanelArray, Site
from hollow_kettle.plan.rows import remove
from hollow_kettle.ui.asked import whole_number
from hollow_kettle.ui.seen import wait_for
from hollow_kettle.ui.tried import tried
from powercore.errors import PowercoreError
from powercore.sun.arrays import factor_from_reading
from powercore.sun.weather import UnreadableWeather

from . import forms
from . import services as sun
from .page import cloud_by_hour, modelled_w, sun_sheet

PURPOSE = "weather"


@require_safe
def sun_page(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the sun sheet of one site."""
    return _sheet(request, event_or_404(request, uid))


def _sheet(
    request: HttpRequest,
    event: Event,
    site: Site | None = None,
    **bound: Any,
) -> HttpResponse:
    asked = whole_number(request.GET.get("site"))
    if site is None and asked is not None:
        site = event.sites.filter(pk=asked).first()
    days = _local_days(event)
    day = min(whole_number(request.GET.get("day")) or 0, len(days) - 1)
    sheet = sun_sheet(event, site, day)
    context = {
        "event": event,
        "sheet": sheet,
        "day": day,
        "days": [(number, one) for number, one in enumerate(days)],
        "day_types": [(key, words) for key, (words, _) in sun.DAY_TYPES.items()],
        "horizon_form": _horizon_form(sheet.site),
        "array_form": forms.ArrayForm(event=event, initial=_feeds(sheet.site)),
        "upload_form": UploadForm(),
        "cloud_form": forms.CloudForm(initial={"oktas": cloud_by_hour(event)}),
        **bound,
    }
    return render(request, "plan/sun.html", context, status=422 if bound else 200)


def _horizon_form(site: Site | None, data: Any = None) -> forms.HorizonForm:
    points = site.horizon.all() if site else ()
    lines = "\n".join(f"{point.azimuth:g} {point.height:g}" for point in points)
    return forms.HorizonForm(data, initial={"points": lines})


def _feeds(site: Site | None) -> dict[str, str]:
    station = getattr(site, "station", None) if site and not site.is_yard else None
    return {"feeds": f"station-{station.pk}"} if station else {}


def _local_days(event: Event) -> list[datetime]:
    """Local midnights of the event's days, as wall-clock times."""
    first = local(event.starts_at, event.zone).date()
    last = local(event.ends_at, event.zone).date()
    count = (last - first).days + 1
    return [
        datetime.combine(first + timedelta(days=number), time(0))
        for number in range(count)
    ]


def _back(event: Event, site: Site | None) -> HttpResponse:
    response = redirect("plan:sun", event.pk)
    if site is not None:
        response["Location"] += f"?site={site.pk}"
    return response


def _site_of(row: PanelArray) -> Site | None:
    if row.station is not None:
        return row.station.site
    return row.event.sites.filter(is_yard=True).first()


@require_POST
@coordinator_only
def array_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add panels."""
    event = event_or_404(request, uid)
    form = forms.ArrayForm(request.POST, event=event)
    if form.is_valid():
        by = actor_of(request)
        row = tried(form, sun.add_array, event, by=by, **form.cleaned_data)
        if row is not None:
            messages.success(request, f"{row} is in the plan; now say where it points.")
            return redirect("plan:array_edit", event.pk, row.pk)
    return _sheet(request, event, array_form=form)


def _array(event: Event, pk: int) -> PanelArray:
    rows = event.arrays.select_related("station__site", "source", "event")
    return get_object_or_404(rows, pk=pk)


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def array_edit(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Say how panels stand and what shades them."""
    wait_for(request, PanelArray, pk)
    event = event_or_404(request, uid)
    row = _array(event, pk)
    names = list(forms.AimForm.base_fields)
    form = forms.AimForm(
        request.POST or None, initial={name: getattr(row, name) for name in names}
    )
    is_sent, by = request.method == "POST" and form.is_valid(), actor_of(request)
    if is_sent and tried(form, sun.change_array, row, by=by, **form.cleaned_data):
        messages.success(request, f"{row} is saved.")
        return _back(event, _site_of(row))
    noon = forms.NoonForm(initial={"at": _noon(event), "volts": 13.4})
    return _array_page(request, event, row, form, noon)


def _array_page(
    request: HttpRequest,
    event: Event,
    row: PanelArray,
    form: django_forms.Form,
    noon: django_forms.Form,
) -> HttpResponse:
    is_bound = form.is_bound or noon.is_bound
    context = {"event": event, "array": row, "form": form, "noon": noon}
    status = 422 if is_bound else 200
    return render(request, "plan/array_edit.html", context, status=status)


def _noon(event: Event) -> datetime:
    day = local(event.starts_at, event.zone).date()
    return datetime.combine(day, time(13))


@require_POST
@coordinator_only
def array_noon(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Set the model right by one reading of the charging current."""
    event = event_or_404(request, uid)
    row = _array(event, pk)
    noon = forms.NoonForm(request.POST)
    if noon.is_valid():
        data = noon.cleaned_data
        try:
            at = from_local(data["at"], event.zone)
            expected = modelled_w(event, row, at, data["oktas"], data["volts"])
            factor = factor_from_reading(data["amps"], data["volts"], expected)
            sun.change_array(
                row,
                by=actor_of(request),
                factor=factor,
                factor_origin=f"{data['amps']:g} A at {data['volts']:g} V, "
                f"{data['at']:%d %b %H:%M}; the model said {expected:.0f} W",
            )
        except PowercoreError as error:
            noon.add_error(None, str(error))
        else:
            messages.success(request, f"{row} gives {factor:.0%} of the model.")
            return redirect("plan:array_edit", event.pk, row.pk)
    names = list(forms.AimForm.base_fields)
    form = forms.AimForm(initial={name: getattr(row, name) for name in names})
    return _array_page(request, event, row, form, noon)


@require_POST
@coordinator_only
def array_delete(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Take panels out of the plan."""
    event = event_or_404(request, uid)
    row = _array(event, pk)
    site = _site_of(row)
    remove(event, row, by=actor_of(request))
    return _back(event, site)


@require_POST
@coordinator_only
@transaction.atomic
def horizon_edit(request: HttpRequest, uid: UUID, site_pk: int) -> HttpResponse:
    """Keep what stands round about a site, as dragged or typed."""
    wait_for(request, Site, site_pk)
    event = event_or_404(request, uid)
    site = get_object_or_404(event.sites, pk=site_pk)
    form, by = _horizon_form(site, request.POST), actor_of(request)
    if form.is_valid():
        text = form.cleaned_data["points"]
        tried(form, lambda: sun.set_horizon(site, sun.read_horizon(text), by=by))
    if form.errors:
        return _sheet(request, event, site, horizon_form=form)
    messages.success(request, f"The horizon of {site} is saved.")
    return _back(event, site)


@require_POST
@coordinator_only
@transaction.atomic
def sky_edit(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take the forecast from the service, from types of day, or typed cloud."""
    wait_for(request, Event, uid)
    event = event_or_404(request, uid)
    how, by = request.POST.get("by", ""), actor_of(request)
    if how == "oktas":
        return _typed_cloud(request, event, by)
    try:
        if how == "service":
            is_sure = "sure" in request.POST
            count = sun.forecast_by_service(event, is_sure=is_sure, by=by)
        elif how == "days":
            days = _day_types(request, event)
            count = sun.forecast_by_day_type(event, days, by=by)
        else:
            raise ValidationError("Choose where the forecast comes from.")
    except ValidationError as error:
        asks = getattr(error, "code", "") == sun.REPLACES
        fault = " ".join(error.messages)
        return _sheet(request, event, sky_fault=fault, sky_asks=asks)
    messages.success(request, _taken(count))
    return redirect("plan:sun", event.pk)


def _typed_cloud(request: HttpRequest, event: Event, by: Actor) -> HttpResponse:
    shown = {"oktas": cloud_by_hour(event)}
    form = forms.CloudForm(request.POST, initial=shown)
    count = None
    if form.is_valid():
        text = form.cleaned_data["oktas"]
        count = tried(
            form,
            lambda: sun.forecast_by_oktas(event, _oktas(event, text), by=by),
        )
    if count is None:
        return _sheet(request, event, cloud_form=form)
    messages.success(request, _taken(count))
    return redirect("plan:sun", event.pk)


def _taken(count: int) -> str:
    return f"The forecast has {count} {'entry' if count == 1 else 'entries'} now."


def _day_types(request: HttpRequest, event: Event) -> list[tuple[datetime, str]]:
    found = []
    for number, day in enumerate(_local_days(event)):
        kind = request.POST.get(f"day-{number}", "")
        if kind not in sun.DAY_TYPES:
            raise ValidationError(f"Say what kind of day {day:%d %b} is.")
        found.append((day, kind))
    return found


def _oktas(event: Event, text: str) -> list[tuple[datetime, float]]:
    """Cloud typed hour by hour from the event's start, separated by spaces."""
    words = text.replace(";", " ").split()
    hours = -(-event.span_min // 60)
    if not words or len(words) > hours:
        raise ValidationError(
            f"Type 1 to {hours} numbers of eighths, one an hour from the start; "
            f"there are {len(words)}."
        )
    start = local(event.starts_at, event.zone).replace(tzinfo=None)
    found = []
    for number, word in enumerate(words):
        try:
            oktas = float(word.replace(",", "."))
        except ValueError as error:
            raise ValidationError(f"'{word[:20]}' is no number of eighths.") from error
        found.append((start + timedelta(hours=number), oktas))
    return found


@require_POST
@coordinator_only
def sky_import(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Read a weather file and show what it says, before anything is kept."""
    event = event_or_404(request, uid)
    form = UploadForm(request.POST, request.FILES)
    if not form.is_valid():
        return _sheet(request, event, upload_form=form)
    try:
        upload = keep_upload(
            form.cleaned_data["file"], purpose=PURPOSE, by=actor_of(request)
        )
        weather = sun.read_file(event, bytes(upload.content))
    except (TableFault, UnreadableWeather) as error:
        form.add_error("file", str(error))
        return _sheet(request, event, upload_form=form)
    context = {"event": event, "upload": upload, "weather": weather}
    return render(request, "plan/sky_import.html", context)


@require_POST
@coordinator_only
def sky_import_apply(request: HttpRequest, uid: UUID, upload_uid: UUID) -> HttpResponse:
    """Take a weather file whose preview was seen."""
    event = event_or_404(request, uid)

    def apply(content: bytes) -> int:
        return sun.forecast_by_file(event, content, by=actor_of(request))

    count = apply_upload(request, upload_uid, purpose=PURPOSE, apply=apply)
    if count is not None:
        messages.success(request, _taken(count))
    return redirect("plan:sun", event.pk)
