"""The fault log's pages."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.people.access import access_of, actor_of
from hollow_kettle.plan.access import event_or_404, event_to_log
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.models import Asset

from .condition_forms import FixForm
from .faults import faults_of, note_fixed, tally
from .words import names_of


@require_safe
def fault_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show an event's faults, open ones first with what to look at."""
    event = event_or_404(request, uid)
    return _page(request, event)


@require_POST
def fault_fixed(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Note what a fault was and what was done about it."""
    event = event_to_log(request, uid)
    own = FieldEntry.objects.filter(event_key=event.pk, kind=Kind.FAULT)
    fault = get_object_or_404(own, pk=pk)
    form = FixForm(request.POST)
    if not form.is_valid():
        return _page(request, event, fault.pk, form)
    note_fixed(
        event, fault, by=actor_of(request), at=event.clock.now(), **form.cleaned_data
    )
    messages.success(request, "What the fault was is noted.")
    return redirect("field:fault_list", event.pk)


def _page(
    request: HttpRequest, event: Event, pk: int = 0, form: FixForm | None = None
) -> HttpResponse:
    faults = faults_of(event)
    names = names_of(event)
    keys = [one.entry.battery for one in faults if one.entry.battery]
    tags = dict(Asset.objects.filter(pk__in=keys).values_list("pk", "tag"))
    rows = []
    for one in faults:
        station, battery = one.entry.station_key, one.entry.battery
        on = (
            names.get(station) if station else "",
            tags.get(battery) if battery else "",
        )
        asks = form if form is not None and one.entry.pk == pk else FixForm()
        rows.append((one, ", ".join(filter(None, on)), asks))
    context = {
        "event": event,
        "rows": rows,
        "tally": tally(faults),
        "may_log": access_of(request).may_log_something(event.pk),
    }
    status = 422 if form is not None else 200
    return render(request, "field/faults.html", context, status=status)
