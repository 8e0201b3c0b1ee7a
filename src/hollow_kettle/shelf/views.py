"""The Shelf's pages: parse, call, render."""

from functools import partial
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.exchange.imports import apply_upload, read_upload
from hollow_kettle.people.access import actor_of, coordinator_only

from . import queries, services, tables
from .forms import BatteryForm, CapacityForm
from .models import Asset, EquipmentType

PURPOSE = "batteries"


@require_safe
def battery_list(request: HttpRequest) -> HttpResponse:
    """Show every battery with its kettle and what it can really give."""
    batteries = queries.shelf_batteries()
    context = {
        "batteries": batteries,
        "total_wh": sum(b.usable_full_wh for b in batteries if not b.asset.hold),
        "on_hold": [b for b in batteries if b.asset.hold],
        "untested": [b for b in batteries if b.pack.tested_ah is None],
        "weak": [
            b
            for b in batteries
            if b.pack.tested_ah is not None
            and b.pack.tested_ah < 0.75 * b.pack.nameplate_ah
        ],
    }
    return render(request, "shelf/battery_list.html", context)


@require_safe
def battery_detail(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show one battery."""
    asset = get_object_or_404(Asset.objects.select_related("battery"), pk=uid)
    return _detail(request, asset, CapacityForm())


def _detail(request: HttpRequest, asset: Asset, form: CapacityForm) -> HttpResponse:
    context = {
        "item": queries.shelf_battery(asset),
        "estimates": queries.estimates_of(asset),
        "form": form,
    }
    status = 422 if form.errors else 200
    return render(request, "shelf/battery_detail.html", context, status=status)


@require_http_methods(["GET", "POST"])
@coordinator_only
def battery_add(request: HttpRequest) -> HttpResponse:
    """Put a battery on the shelf."""
    return _edit(request, None)


@require_http_methods(["GET", "POST"])
@coordinator_only
def battery_edit(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Change a battery."""
    return _edit(
        request, get_object_or_404(Asset.objects.select_related("battery"), pk=uid)
    )


def _edit(request: HttpRequest, asset: Asset | None) -> HttpResponse:
    initial = {}
    if asset is not None:
        initial = {name: getattr(asset, name) for name in services.ASSET_FIELDS} | {
            name: getattr(asset.battery, name) for name in services.BATTERY_FIELDS
        }
    form = BatteryForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        try:
            saved = services.save_battery(
                asset, by=actor_of(request), **form.cleaned_data
            )
        except ValidationError as error:
            field = "tag" if error.code and error.code.startswith("tag") else None
            form.add_error(field, error)
        else:
            messages.success(request, f"{saved.tag} is kept.")
            return redirect(saved)
    status = 422 if form.is_bound else 200
    context = {"form": form, "asset": asset}
    return render(request, "shelf/battery_edit.html", context, status=status)


@require_POST
@coordinator_only
def capacity_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Accept the result of a capacity test."""
    asset = get_object_or_404(Asset.objects.select_related("battery"), pk=uid)
    form = CapacityForm(request.POST)
    if not form.is_valid():
        return _detail(request, asset, form)
    services.record_capacity(asset, by=actor_of(request), **form.cleaned_data)
    messages.success(
        request,
        f"{asset.tag} is trusted with {form.cleaned_data['tested_ah']:g} Ah now.",
    )
    return redirect(asset)


@require_POST
@coordinator_only
def battery_archive(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take a battery off the shelf, or bring it back."""
    asset = get_object_or_404(Asset, pk=uid)
    if asset.archived_at is None:
        services.archive(asset)
        messages.success(
            request, f"{asset.tag} is off the shelf; its page can bring it back."
        )
    else:
        services.unarchive(asset)
        messages.success(request, f"{asset.tag} is back on the shelf.")
    return redirect(asset)


@require_safe
def battery_export(request: HttpRequest) -> HttpResponse:
    """Give the battery list as CSV."""
    response = HttpResponse(
        tables.export_batteries(), content_type="text/csv; charset=utf-8"
    )
    response["Content-Disposition"] = 'attachment; filename="batteries.csv"'
    return response


@require_http_methods(["GET", "POST"])
@coordinator_only
def battery_import(request: HttpRequest) -> HttpResponse:
    """Read a battery list and show what it would do, before anything is kept."""
    found = read_upload(request, purpose=PURPOSE, preview=tables.preview_batteries)
    status = 422 if found["form"].errors else 200
    context = found | {"columns": tables.BATTERY_COLUMNS}
    return render(request, "shelf/battery_import.html", context, status=status)


@require_POST
@coordinator_only
def battery_import_apply(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Import a list whose preview was seen."""
    apply = partial(tables.apply_batteries, by=actor_of(request))
    done = apply_upload(request, uid, purpose=PURPOSE, apply=apply)
    if done is None:
        return redirect("shelf:battery_import")
    messages.success(request, f"{done[0]} batteries are new, {done[1]} changed.")
    return redirect("shelf:battery_list")


@require_safe
def equipment_list(request: HttpRequest) -> HttpResponse:
    """Show the equipment library."""
    kinds = EquipmentType.objects.prefetch_related("steps")
    return render(request, "shelf/equipment_list.html", {"kinds": kinds})
