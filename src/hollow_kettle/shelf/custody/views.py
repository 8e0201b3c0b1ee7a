"""Who has what, what is due, what is on hold; bench tests; readings at the shelf."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.forms import BaseForm, formset_factory
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.clock import from_local
from hollow_kettle.log.models import PlaceKind, Placement
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.people.models import Club
from hollow_kettle.shelf.access import asset_or_404
from hollow_kettle.shelf.assets.queries import attach_details
from hollow_kettle.shelf.browse.queries import rows_of
from hollow_kettle.shelf.kits.findings import StopsStand
from hollow_kettle.shelf.kits.forms import StopsForm
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.tried import refused
from powercore.values import as_counted

from . import forms
from . import services as custody


def _moment(wall: datetime | None) -> datetime | None:
    """A wall-clock time of the club as a moment."""
    return None if wall is None else from_local(wall, Club.the().zone)


@require_http_methods(["GET", "POST"])
@coordinator_only
def check_out(request: HttpRequest) -> HttpResponse:
    """Hand gear out to a station, a person or a vehicle."""
    tags = request.GET.get("tags", "")[:2000]
    form = forms.CheckOutForm(request.POST or None, initial={"tags": tags})
    stops_form: StopsForm | None = None
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        to = data["station"] or custody.place_named(
            custody.TO_KINDS.get(data["to_kind"], PlaceKind.PERSON), data["to_name"]
        )
        try:
            gone = custody.check_out(
                data["tags"],
                to=to,
                by=actor_of(request),
                due_at=_moment(data["due_at"]),
                note=data["note"],
                reasons=request.POST.dict(),
            )
        except StopsStand as error:
            form.add_error(None, error.messages)
            was_asked = any(stop.name in request.POST for stop in error.stops)
            stops_form = StopsForm(error.stops, request.POST if was_asked else None)
        except ValidationError as error:
            refused(form, error)
        else:
            what = gone[0].tag if len(gone) == 1 else f"{len(gone)} things"
            left = set(custody.with_contents(data["tags"])) - set(gone)
            elsewhere = ", ".join(sorted((asset.tag for asset in left), key=as_counted))
            messages.success(
                request,
                f"Checked out to {to}: {what}."
                + (f" Out elsewhere, so left: {elsewhere}." if left else ""),
            )
            return redirect("shelf:out_list")
    status = 422 if form.is_bound else 200
    context = {"form": form, "stops_form": stops_form}
    return render(request, "shelf/check_out.html", context, status=status)


@require_safe
def out_list(request: HttpRequest) -> HttpResponse:
    """Who has what: everything that is not at home, by who has it."""
    away = Placement.objects.filter(ended_at=None).exclude(place__kind=PlaceKind.HOME)
    assets = attach_details(Asset.objects.filter(pk__in=away.values("battery")))
    groups: dict[str, list[Any]] = {}
    for row in rows_of(assets):
        groups.setdefault(row.where, []).append(row)
    context = {"groups": sorted(groups.items()), "now": Club.the().clock.now()}
    return render(request, "shelf/out_list.html", context)


@require_http_methods(["GET", "POST"])
@coordinator_only
def check_in(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take gear back, with readings, damage, water and what is missing."""
    asset = asset_or_404(uid)
    form = forms.CheckInForm(request.POST or None)
    if asset.kind != AssetKind.BATTERY:
        del form.fields["volts"]
    if request.method == "POST" and form.is_valid():
        back = custody.check_in(asset, by=actor_of(request), **form.cleaned_data)
        messages.success(
            request,
            f"{asset.tag} is back"
            + (f" with {len(back) - 1} things in it." if len(back) > 1 else "."),
        )
        return redirect("shelf:out_list")
    context = {
        "form": form,
        "asset": asset,
        "inside": custody.with_contents([asset])[1:],
    }
    status = 422 if form.is_bound else 200
    return render(request, "shelf/check_in.html", context, status=status)


@dataclass(frozen=True, slots=True)
class Small:
    """A page with one small form about one asset."""

    form: Callable[..., Any]
    save: Callable[..., Any]
    heading: str
    button: str
    said: str
    is_for_batteries: bool = True


SMALL = {
    "hold": Small(
        forms.HoldForm,
        custody.put_on_hold,
        "Put on hold",
        "Put it on hold",
        "is on hold",
        is_for_batteries=False,
    ),
    "release": Small(
        forms.ReleaseForm,
        custody.release,
        "Release from hold",
        "Release it",
        "may be used again",
        is_for_batteries=False,
    ),
    "charged": Small(
        forms.ChargedForm,
        custody.note_charged,
        "Charge ended",
        "Save charge",
        "charge is saved",
    ),
    "rested": Small(
        forms.RestedForm,
        custody.note_reading,
        "Rested volts",
        "Save reading",
        "reading is saved",
    ),
    "checked": Small(
        forms.CheckedForm,
        custody.note_checked,
        "Inspect",
        "Save inspection",
        "was inspected",
    ),
}


@require_http_methods(["GET", "POST"])
@coordinator_only
def small(request: HttpRequest, uid: UUID, what: str) -> HttpResponse:
    """Note one small thing about an asset: a hold, a charge, a reading."""
    asset, page = asset_or_404(uid), SMALL[what]
    if page.is_for_batteries and asset.kind != AssetKind.BATTERY:
        return redirect(asset)
    form: BaseForm = page.form(request.POST or None)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        if "due_at" in data:
            data["due_at"] = _moment(data["due_at"])
        try:
            page.save(asset, by=actor_of(request), **data)
        except ValidationError as error:
            refused(form, error)
        else:
            messages.success(request, f"{asset.tag} {page.said}.")
            return redirect(asset)
    context = {"asset": asset, "form": form, "page": page}
    status = 422 if form.is_bound else 200
    return render(request, "shelf/small_form.html", context, status=status)


@require_http_methods(["GET", "POST"])
@coordinator_only
def charged_many(request: HttpRequest) -> HttpResponse:
    """Note how the charges of several batteries ended, a line each."""
    words = request.GET.get("tags", "")[:2000].casefold().split()
    assets = [a for a in Asset.objects.batteries() if a.tag.casefold() in words]
    make = formset_factory(forms.ChargedForm, extra=0, max_num=500)
    forms_of = make(request.POST or None, initial=[{} for _ in assets])
    for form in forms_of:
        form.empty_permitted = True
        form.use_required_attribute = False
    if request.method == "POST" and forms_of.is_valid():
        done = 0
        for asset, form in zip(assets, forms_of, strict=False):
            if form.has_changed():
                data = form.cleaned_data
                custody.note_charged(asset, by=actor_of(request), **data)
                done += 1
        messages.success(
            request, f"{done} charge{' is' if done == 1 else 's are'} saved."
        )
        return redirect("shelf:gate_list")
    lines = list(zip(assets, forms_of, strict=False))
    context = {"lines": lines, "formset": forms_of}
    status = 422 if forms_of.is_bound else 200
    return render(request, "shelf/charged_many.html", context, status=status)


@require_POST
@coordinator_only
def strike(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Strike an entry about an asset."""
    asset = asset_or_404(uid)
    try:
        custody.strike(
            asset,
            UUID(request.POST.get("entry", "")),
            why=request.POST.get("why", "")[:300] or "mistaken",
            by=actor_of(request),
        )
    except (ValidationError, ValueError):
        messages.error(request, "There is no such entry to strike.")
    else:
        messages.success(request, "Struck: it stays visible but no longer counts.")
    return redirect(asset)


@require_POST
@coordinator_only
def bulk(request: HttpRequest) -> HttpResponse:
    """Do one thing with what is ticked in the list."""
    uids = request.POST.getlist("asset")[:500]
    found = Asset.objects.filter(pk__in=[u for u in uids if _is_uid(u)])
    tags = " ".join(asset.tag for asset in found)
    if not tags:
        messages.error(request, "Tick something in the list first.")
        return redirect("shelf:asset_list")
    pages = {"labels": "shelf:labels", "charged": "shelf:charged_many"}
    response = redirect(pages.get(request.POST.get("do", ""), "shelf:check_out"))
    response["Location"] += f"?tags={tags.replace(' ', '+')}"
    return response


def _is_uid(text: str) -> bool:
    try:
        UUID(text)
    except ValueError:
        return False
    return True
