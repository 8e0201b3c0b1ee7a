"""What fits what: chargers and batteries, leads and ports, charge-by."""

from __future__ import annotations

from datetime import datetime

from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from hollow_kettle.clock import from_local
from hollow_kettle.people.models import Club
from hollow_kettle.shelf.models import Asset

from . import queries as joins
from .forms import ChargeByForm, LeadForm


@require_safe
def matrix(request: HttpRequest) -> HttpResponse:
    """Every charger against every battery."""
    return render(request, "shelf/matrix.html", {"matrix": joins.matrix()})


@require_safe
def lead_finder(request: HttpRequest) -> HttpResponse:
    """How to get from a port to a device with the leads that are there."""
    form = LeadForm(request.GET or None)
    join = None
    if form.is_bound and form.is_valid():
        join = joins.join_ports(form.cleaned_data["source"], form.cleaned_data["load"])
    status = 422 if form.is_bound and form.errors else 200
    context = {"form": form, "join": join}
    return render(request, "shelf/lead_finder.html", context, status=status)


@require_safe
def charge_by(request: HttpRequest) -> HttpResponse:
    """Which battery must start charging when, worked back from departure."""
    form = ChargeByForm(request.GET or None)
    plan = None
    if form.is_bound and form.is_valid():
        zone = Club.the().zone
        departs = from_local(form.cleaned_data["departs"], zone)
        if departs <= Club.the().clock.now():
            form.add_error("departs", "The departure must lie ahead.")
        try:
            watches = _watches(form.cleaned_data["watches"], zone)
            assets = _batteries(form.cleaned_data["tags"])
        except ValidationError as error:
            form.add_error(error.code or None, error.messages)
        if not form.errors:
            plan = joins.charge_plan(assets, departs=departs, watches=watches)
    status = 422 if form.is_bound and form.errors else 200
    context = {"form": form, "plan": plan}
    return render(request, "shelf/charge_by.html", context, status=status)


def _watches(text: str, zone: str) -> list[tuple[datetime, datetime]]:
    found = []
    for line in text.splitlines():
        if not line.strip():
            continue
        start, _, end = line.partition(" to ")
        try:
            pair = tuple(
                from_local(datetime.strptime(part.strip(), "%Y-%m-%d %H:%M"), zone)  # noqa: DTZ007
                for part in (start, end)
            )
        except ValueError as error:
            raise ValidationError(
                f"'{line[:50]}' is not like 2026-06-26 17:00 to 2026-06-26 22:00.",
                code="watches",
            ) from error
        if pair[1] <= pair[0]:
            raise ValidationError(
                f"'{line[:50]}' ends before it begins.", code="watches"
            )
        found.append((pair[0], pair[1]))
    return found


def _batteries(text: str) -> list[Asset]:
    assets = list(Asset.objects.batteries().filter(hold=""))
    words = text.replace(",", " ").split()
    if not words:
        return assets
    known = {asset.tag.casefold(): asset for asset in Asset.objects.batteries()}
    unknown = [word for word in words if word.casefold() not in known]
    if unknown:
        raise ValidationError(
            f"No such battery: {', '.join(unknown[:8])}.", code="tags"
        )
    return [known[word.casefold()] for word in words]
