"""The list of the shelf, the pages of its assets, and the equipment library."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.html import escape
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.exchange.answers import kept_answer
from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.shelf.access import asset_or_404, kind_or_404
from hollow_kettle.shelf.assets import attachments
from hollow_kettle.shelf.assets.forms import (
    AssetForm,
    AttachmentForm,
    PortForm,
    RechargeForm,
)
from hollow_kettle.shelf.assets.services import add_port, archive, save_asset, unarchive
from hollow_kettle.shelf.charge.history import history_of
from hollow_kettle.shelf.due.look import worth_a_look
from hollow_kettle.shelf.due.queries import dues_by_asset
from hollow_kettle.shelf.fields import Kind
from hollow_kettle.shelf.fits import queries as joins
from hollow_kettle.shelf.fits.queries import recharge_of
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.kits.page import battery_findings
from hollow_kettle.shelf.models import Asset, Attachment, Port
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.asked import whole_number
from hollow_kettle.ui.seen import wait_for

from .queries import (
    GROUPS,
    Listing,
    assumed_of,
    counts_by_kind,
    listing,
    page_of,
)


def _listing(request: HttpRequest) -> Listing:
    page = request.GET.get("page", "1")
    group = request.GET.get("group", "kind")
    return listing(
        dues=dues_by_asset() if group == "due" else None,
        words=request.GET.get("q", "")[:80],
        kind=request.GET.get("kind", ""),
        group=group,
        page=whole_number(page) or 1,
    )


@require_safe
def asset_list(request: HttpRequest) -> HttpResponse:
    """Show the shelf: what is there, what it gives, who has it."""
    context = {
        "listing": _listing(request),
        "kinds": counts_by_kind(),
        "all_kinds": KINDS.values(),
        "groups": GROUPS.items(),
        "look": worth_a_look(),
    }
    return render(request, "shelf/asset_list.html", context)


@require_safe
def list_results(request: HttpRequest) -> HttpResponse:
    """The list's rows alone, for search as you type."""
    return render(request, "shelf/_list_results.html", {"listing": _listing(request)})


@require_safe
def asset_detail(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show one asset."""
    asset = asset_or_404(uid)
    if asset.kind == AssetKind.KIT:
        return redirect(asset)
    return render_asset(request, asset)


def render_asset(
    request: HttpRequest,
    asset: Asset,
    *,
    port_form: PortForm | None = None,
    attachment_form: AttachmentForm | None = None,
) -> HttpResponse:
    """Show an asset's page, with a form that was sent to it."""
    is_battery = asset.kind == Asset.BATTERY
    context = page_of(asset) | {
        "history": history_of(asset) if is_battery else None,
        "fits": joins.fits_for(asset) if is_battery else None,
        "findings": (
            battery_findings(asset, joins.batteries([asset])[asset.tag])
            if is_battery
            else None
        ),
        "recharge_form": RechargeForm() if is_battery else None,
        "port_form": port_form or PortForm(),
        "attachment_form": attachment_form or AttachmentForm(),
    }
    sent = port_form or attachment_form
    status = 422 if sent is not None and sent.errors else 200
    return render(request, "shelf/asset_detail.html", context, status=status)


@require_safe
def recharge_time(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Send how long something takes to charge a battery, with a load beside it."""
    asset = asset_or_404(uid)
    if asset.kind != Asset.BATTERY:
        raise Http404
    form = RechargeForm(request.GET)
    context: dict[str, Any] = {"asset": asset, "recharge_form": form}
    if form.is_valid():
        context |= {
            "recharge": recharge_of(asset, form.cleaned_data),
            "is_sun": form.cleaned_data["watts"] is not None,
        }
    status = 422 if form.errors else 200
    return render(request, "shelf/_recharge.html", context, status=status)


@require_safe
@coordinator_only
def kind_list(request: HttpRequest) -> HttpResponse:
    """Ask which kind of thing to put on the shelf, or to bring a list of."""
    return render(request, "shelf/kind_list.html", {"kinds": KINDS.values()})


@require_http_methods(["GET", "POST"])
@coordinator_only
def asset_add(request: HttpRequest, kind: str) -> HttpResponse:
    """Put something on the shelf."""
    return _edit(request, kind_or_404(kind), None)


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def asset_edit(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Change what is noted of an asset."""
    wait_for(request, Asset, uid)
    asset = asset_or_404(uid)
    return _edit(request, KINDS[asset.kind], asset)


def _edit(request: HttpRequest, kind: Kind, asset: Asset | None) -> HttpResponse:
    form = AssetForm(kind, asset, request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            saved = save_asset(kind, asset, by=actor_of(request), **form.cleaned_data)
        except ValidationError as error:
            is_tag = bool(error.code and error.code.startswith("tag"))
            form.add_error("tag" if is_tag else None, error)
        else:
            messages.success(request, f"{saved.tag} is saved.")
            return redirect(saved)
    status = 422 if form.is_bound else 200
    context = {
        "form": form,
        "asset": asset,
        "kind": kind,
        "assumed": assumed_of(request.POST) if form.is_short else "",
    }
    return render(request, "shelf/asset_edit.html", context, status=status)


@require_safe
@coordinator_only
def assumed(request: HttpRequest) -> HttpResponse:
    """Say what is assumed of a battery of which only the first four are known."""
    return HttpResponse(escape(assumed_of(request.GET)))


@require_POST
@coordinator_only
def asset_archive(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take an asset off the shelf, or bring it back."""
    asset = asset_or_404(uid)
    if asset.archived_at is None:
        archive(asset)
        messages.success(
            request, f"{asset.tag} is off the shelf; its page can bring it back."
        )
    else:
        unarchive(asset)
        messages.success(request, f"{asset.tag} is back on the shelf.")
    return redirect(asset)


@require_POST
@coordinator_only
def port_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Note a port of an asset."""
    asset = asset_or_404(uid)
    form = PortForm(request.POST)
    if form.is_valid():
        try:
            add_port(asset, **form.cleaned_data)
        except ValidationError as error:
            form.add_error(None, error)
        else:
            messages.success(request, f"{asset.tag} has one more port.")
            return redirect(asset)
    return render_asset(request, asset, port_form=form)


@require_POST
@coordinator_only
def port_delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a port off an asset."""
    port = get_object_or_404(Port.objects.select_related("asset"), pk=pk)
    port.delete()
    messages.success(request, f"{port.name} is removed from {port.asset.tag}.")
    return redirect(port.asset)


@require_POST
@coordinator_only
def attachment_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Keep a photo or a document with an asset."""
    asset = asset_or_404(uid)
    form = AttachmentForm(request.POST, request.FILES)
    if form.is_valid():
        try:
            attachments.attach(asset, by=actor_of(request), **form.cleaned_data)
        except ValidationError as error:
            form.add_error("file", error)
        else:
            messages.success(request, f"It is saved with {asset.tag}.")
            return redirect(asset)
    return render_asset(request, asset, attachment_form=form)


@require_safe
def attachment(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give a photo to look at, or a document to save; never to run."""
    found = get_object_or_404(Attachment, pk=uid)
    response = kept_answer(bytes(found.content), found.content_type)
    how = "inline" if found.kind == Attachment.PHOTO else "attachment"
    response["Content-Disposition"] = f'{how}; filename="{found.name}"'
    return response


@require_POST
@coordinator_only
def attachment_delete(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Remove a photo or document."""
    found = get_object_or_404(Attachment.objects.select_related("asset"), pk=uid)
    found.delete()
    messages.success(request, f"{found.name} is removed.")
    return redirect(found.asset)


def label(request: HttpRequest, token: str) -> HttpResponse:
    """Follow a label's code to the page of what it is stuck on."""
    asset = get_object_or_404(Asset, token=token.lower())
    return redirect(asset)
