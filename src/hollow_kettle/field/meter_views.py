"""Meters of an event: set up, heard, closed; the door by which they send."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_http_methods, require_POST

from hollow_kettle.exchange.files import TableFault
from hollow_kettle.exchange.forms import UploadForm
from hollow_kettle.exchange.tables import Preview
from hollow_kettle.instruments import services as instruments
from hollow_kettle.instruments.models import Device
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.people.tokens import TooOften
from hollow_kettle.plan.access import event_or_404

from .meter_forms import DeviceForm
from .meters import meters_of, note_meters

#: Larger bodies are not read.
MOST_BYTES = 1_000_000


@csrf_exempt
@login_not_required
@require_POST
def samples_add(request: HttpRequest) -> HttpResponse:
    """Take a meter's samples; it says who it is by its token."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    device = instruments.device_of(token.strip()) if scheme == "Bearer" else None
    if device is None:
        return JsonResponse({"error": "No meter has this token."}, status=401)
    try:
        instruments.count_request(device)
        if int(request.headers.get("Content-Length") or 0) > MOST_BYTES:
            raise instruments.NotSamples(f"A batch has at most {MOST_BYTES:,} bytes.")
        taken = instruments.take_json(device, request.body)
    except TooOften:
        words = f"A meter sends at most {instruments.MOST_A_MINUTE} times a minute."
        return JsonResponse({"error": words}, status=429)
    except instruments.NotSamples as fault:
        return JsonResponse({"error": str(fault)}, status=422)
    note_meters(device.event, device)
    return JsonResponse(
        {
            "kept": taken.kept,
            "repeats": taken.repeats,
            "refused": [{"index": at, "why": why} for at, why in taken.refused],
        }
    )


@require_http_methods(["GET", "POST"])
@coordinator_only
def meter_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show an event's meters; set one up, whose token is shown once."""
    event = event_or_404(request, uid)
    form = DeviceForm(request.POST or None, event=event)
    token, made = "", None
    if request.method == "POST" and form.is_valid():
        made, token = instruments.make_device(
            event, by=actor_of(request), **form.cleaned_data
        )
        form = DeviceForm(event=event)
    context = {
        "event": event,
        "form": form,
        "meters": meters_of(event),
        "made": made,
        "token": token,
        "door": request.build_absolute_uri(reverse("field:samples_add")),
        "upload": UploadForm(),
    }
    status = 422 if form.is_bound else 200
    return render(request, "field/meters.html", context, status=status)


@require_POST
@coordinator_only
def meter_close(request: HttpRequest, uid: UUID, device_uid: UUID) -> HttpResponse:
    """Let a meter send no more."""
    event = event_or_404(request, uid)
    device = get_object_or_404(event.devices, pk=device_uid)
    instruments.close(device)
    messages.success(request, f"{device} sends no more. What it sent stays.")
    return redirect("field:meter_list", event.pk)


@require_POST
@coordinator_only
def meter_file(request: HttpRequest, uid: UUID, device_uid: UUID) -> HttpResponse:
    """Take a meter's own file; all of it or nothing."""
    event = event_or_404(request, uid)
    device: Device = get_object_or_404(event.devices, pk=device_uid)
    form = UploadForm(request.POST, request.FILES)
    if not form.is_valid():
        messages.error(request, "Choose a file; nothing was taken.")
        return redirect("field:meter_list", event.pk)
    try:
        preview, taken = instruments.take_table(
            device, form.cleaned_data["file"].read()
        )
    except TableFault as fault:
        messages.error(request, f"Nothing was taken: {fault}")
        return redirect("field:meter_list", event.pk)
    if preview.faults:
        messages.error(request, f"Nothing was taken: {_first(preview)}")
    else:
        noted = note_meters(event, device)
        messages.success(
            request,
            f"{taken.kept} samples of {device} are taken, {taken.repeats} were there; "
            f"{noted} readings are noted.",
        )
    return redirect("field:meter_list", event.pk)


def _first(preview: Preview) -> str:
    first, more = preview.faults[0], len(preview.faults) - 1
    words = f"row {first.row}, {first.column} {first.reason}"
    return f"{words}; and {more} more faults." if more else f"{words}."
