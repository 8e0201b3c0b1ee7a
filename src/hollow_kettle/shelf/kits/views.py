"""Kits: the power path and its findings, contents, records, packing."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.forms import BaseForm
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.people.access import actor_of, coordinator_of, coordinator_only
from hollow_kettle.people.club import today
from hollow_kettle.shelf.access import kit_or_404
from hollow_kettle.shelf.models import (
    Asset,
    BuildNote,
    ChargeWay,
    KitItem,
    KitVersion,
    NoiseRecord,
    Packing,
    PathPart,
    Spare,
)
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.asked import whole_number
from hollow_kettle.ui.tried import refused

from . import forms, services
from .bridge import rows_of_kit
from .findings import StopsStand, standing_stops
from .page import kit_page, packing_of


@require_safe
def kit_detail(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show a kit: its power path, what is wrong in it, what it gives."""
    return render_kit(request, kit_or_404(uid))


def render_kit(
    request: HttpRequest, kit: Asset, accept_form: forms.AcceptForm | None = None
) -> HttpResponse:
    """Render a kit's page, with a form that was sent to it."""
    context = kit_page(kit) | {
        "accept_form": accept_form,
        "start_form": forms.StartForm() if not kit.path.exists() else None,
    }
    status = 422 if accept_form is not None else 200
    return render(request, "shelf/kit_detail.html", context, status=status)


@require_POST
@coordinator_only
def kit_start(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Lay the usual path in one go."""
    kit = kit_or_404(uid)
    form = forms.StartForm(request.POST)
    if form.is_valid():
        try:
            services.start_path(kit, **form.cleaned_data)
        except ValidationError as error:
            refused(form, error)
        else:
            messages.success(
                request, "The path is laid; now change its parts to match yours."
            )
            return redirect("shelf:kit_detail", kit.pk)
    context = kit_page(kit) | {"start_form": form}
    return render(request, "shelf/kit_detail.html", context, status=422)


@require_POST
@coordinator_only
def finding_accept(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Accept a finding, with a reason, until a date."""
    kit = get_object_or_404(Asset, pk=uid)
    form = forms.AcceptForm(request.POST)
    if form.is_valid():
        try:
            services.accept_finding(kit, by=actor_of(request), **form.cleaned_data)
        except ValidationError as error:
            refused(form, error)
        else:
            messages.success(request, "Accepted; it stays visible below the others.")
            return redirect(kit)
    if kit.kind == AssetKind.KIT:
        return render_kit(request, kit_or_404(uid), form)
    for words in form.errors.values():
        messages.error(request, " ".join(map(str, words)))
    return redirect(kit)


@require_POST
@coordinator_only
def finding_reopen(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Take an acceptance back."""
    kit = get_object_or_404(Asset, pk=uid)
    kit.acceptances.filter(key=request.POST.get("key", "")[:80]).delete()
    messages.success(request, "It is among the findings to fix again.")
    return redirect(kit)


@require_http_methods(["GET", "POST"])
@coordinator_only
def kit_path(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Change a kit's power path, part by part."""
    kit = kit_or_404(uid)
    pk = whole_number(request.GET.get("part"))
    part = None if pk is None else get_object_or_404(kit.path, pk=pk)
    form = forms.PartForm(kit, part, request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            saved = services.save_part(kit, part, **form.cleaned_data)
        except ValidationError as error:
            refused(form, error)
        else:
            messages.success(request, f"{saved} is in the path.")
            return redirect("shelf:kit_path", kit.pk)
    return _path_page(request, kit, form=form, part=part)


def _path_page(request: HttpRequest, kit: Asset, **given: Any) -> HttpResponse:
    rows = rows_of_kit(kit)
    context: dict[str, Any] = {
        "asset": kit,
        "rows": rows,
        "tree": _tree(rows.path),
        "ways": rows.ways,
        "way_form": forms.WayForm(kit),
        "form": None,
    } | given
    sent: list[BaseForm | None] = [context["form"], context["way_form"]]
    is_bound = any(form is not None and form.is_bound for form in sent)
    status = 422 if is_bound else 200
    return render(request, "shelf/kit_path.html", context, status=status)


def _tree(path: list[PathPart]) -> list[tuple[PathPart, int]]:
    """Parts in the order of the path, each with its depth; batteries first."""
    found: list[tuple[PathPart, int]] = [
        (part, 0) for part in path if part.what == PathPart.What.BATTERY
    ]
    own = {part.pk for part, _ in found}

    def below(after: int | None, depth: int) -> None:
        for part in path:
            if part.pk in own:
                continue
            at = None if part.after_id in own else part.after_id
            if at == after:
                found.append((part, depth))
                below(part.pk, depth + 1)

    below(None, 1)
    return found


@require_POST
@coordinator_only
def part_delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Take a part out of the path."""
    part = get_object_or_404(PathPart.objects.select_related("kit"), pk=pk)
    services.delete_part(part)
    messages.success(request, "It is out of the path; what it fed moved up.")
    return redirect("shelf:kit_path", part.kit_id)


@require_POST
@coordinator_only
def way_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Add a way of charging."""
    kit = kit_or_404(uid)
    form = forms.WayForm(kit, request.POST)
    if form.is_valid():
        try:
            services.save_way(kit, **form.cleaned_data)
        except ValidationError as error:
            refused(form, error)
        else:
            messages.success(request, "That is how it is charged.")
            return redirect("shelf:kit_path", kit.pk)
    return _path_page(
        request, kit, way_form=form, form=forms.PartForm(kit, None), part=None
    )


@require_POST
@coordinator_only
def way_delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Remove a way of charging."""
    way = get_object_or_404(ChargeWay, pk=pk)
    way.delete()
    return redirect("shelf:kit_path", way.kit_id)


@require_http_methods(["GET", "POST"])
@coordinator_only
def kit_contents(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Say what is in a kit, and where in it."""
    kit = kit_or_404(uid)
    form = forms.ItemForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            services.save_item(kit, None, **form.cleaned_data)
        except ValidationError as error:
            refused(form, error)
        else:
            messages.success(request, "It is in the kit.")
            return redirect("shelf:kit_contents", kit.pk)
    context = {
        "asset": kit,
        "form": form,
        "items": kit.items.select_related("asset"),
        "version_form": forms.VersionForm(),
        "versions": kit.versions.select_related("made_by"),
    }
    status = 422 if form.is_bound else 200
    return render(request, "shelf/kit_contents.html", context, status=status)


@require_POST
@coordinator_only
def item_edit(request: HttpRequest, pk: int) -> HttpResponse:
    """Change where something is packed."""
    item = get_object_or_404(KitItem, pk=pk)
    form = forms.ItemEditForm(request.POST, instance=item)
    if form.is_valid():
        form.save()
    else:
        messages.error(request, "How many must be a number from 1 to 500.")
    return redirect("shelf:kit_contents", item.kit_id)


@require_POST
@coordinator_only
def item_delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Take something out of a kit."""
    item = get_object_or_404(KitItem, pk=pk)
    item.delete()
    messages.success(request, "It is out of the kit.")
    return redirect("shelf:kit_contents", item.kit_id)


@require_POST
@coordinator_only
def version_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Keep the kit as it is now as a version."""
    kit = kit_or_404(uid)
    form = forms.VersionForm(request.POST)
    if form.is_valid():
        version = services.cut_version(
            kit, why=form.cleaned_data["why"], by=actor_of(request)
        )
        messages.success(request, f"This is version {version.number}.")
    else:
        messages.error(request, "Say what is new in this version.")
    return redirect("shelf:kit_contents", kit.pk)


@require_safe
def version_detail(request: HttpRequest, pk: int) -> HttpResponse:
    """Show a kit as it was in a version."""
    version = get_object_or_404(
        KitVersion.objects.select_related("kit", "made_by"), pk=pk
    )
    return render(request, "shelf/version_detail.html", {"version": version})


_RECORDS: dict[str, tuple[type, Any]] = {
    "note": (forms.NoteForm, services.add_note),
    "trial": (forms.TrialForm, services.add_trial),
    "noise": (forms.NoiseForm, services.add_noise),
    "spare": (forms.SpareForm, services.save_spare),
}


@require_http_methods(["GET", "POST"])
@coordinator_only
def kit_records(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The build record, radio noise and spare parts of a kit."""
    kit = kit_or_404(uid)
    sent = request.POST.get("record", "")
    found: dict[str, Any] = {name: form() for name, (form, _) in _RECORDS.items()}
    status = 200
    if request.method == "POST" and sent in _RECORDS:
        make, save = _RECORDS[sent]
        form = make(request.POST)
        if form.is_valid():
            save(kit, **form.cleaned_data)
            messages.success(request, "It is in the record.")
            return redirect("shelf:kit_records", kit.pk)
        found[sent], status = form, 422
    context = {
        "asset": kit,
        "forms": found,
        "notes": kit.build_notes.all(),
        "trials": kit.trials.all(),
        "noises": kit.noises.all(),
        "spares": kit.spares.all(),
        "today": today(),
    }
    return render(request, "shelf/kit_records.html", context, status=status)


@require_POST
@coordinator_only
def note_done(request: HttpRequest, pk: int) -> HttpResponse:
    """Say that a temporary part or open item is settled."""
    note = get_object_or_404(BuildNote, pk=pk)
    note.done_on = today()
    note.save(update_fields=["done_on"])
    return redirect("shelf:kit_records", note.kit_id)


@require_POST
@coordinator_only
def noise_state(request: HttpRequest, pk: int) -> HttpResponse:
    """Say what became of a noise."""
    noise = get_object_or_404(NoiseRecord, pk=pk)
    state = request.POST.get("state", "")
    if state in dict(NoiseRecord.STATES):
        noise.state = state
        noise.save(update_fields=["state"])
    return redirect("shelf:kit_records", noise.kit_id)


@require_POST
@coordinator_only
def spare_count(request: HttpRequest, pk: int) -> HttpResponse:
    """Take one spare, or put one back."""
    spare = get_object_or_404(Spare, pk=pk)
    step = 1 if request.POST.get("step") == "more" else -1
    services.save_spare(spare.kit, spare, have=max(0, spare.have + step))
    return redirect("shelf:kit_records", spare.kit_id)


@require_safe
def packing(request: HttpRequest, uid: UUID) -> HttpResponse:
    """The packing list, for a phone: tick what is in the box."""
    kit = kit_or_404(uid)
    page = packing_of(kit, rows_of_kit(kit))
    return render(request, "shelf/packing.html", {"asset": kit, "page": page})


@require_POST
def packing_tick(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Tick one item or check, and send back the list."""
    kit = kit_or_404(uid)
    open_one: Packing = services.open_packing(kit, by=actor_of(request))
    is_on = request.POST.get("on") == "1"
    pk = whole_number(request.POST.get("item"))
    check = request.POST.get("check", "")
    rows = rows_of_kit(kit)
    if pk is not None:
        inside = {item.pk: item for item, _ in rows.items}
        if pk in inside:
            services.tick(open_one, inside[pk], is_packed=is_on, by=actor_of(request))
    elif check in ("switches_off", "load_off", "terminals_covered"):
        services.check_packing(open_one, **{check: is_on})
    if not request.headers.get("HX-Request"):
        return redirect("shelf:packing", kit.pk)
    context = {"asset": kit, "page": packing_of(kit, rows)}
    return render(request, "shelf/_packing.html", context)


@require_POST
@coordinator_only
def packing_close(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Close the lid; the next packing begins with nothing ticked."""
    kit = kit_or_404(uid)
    found = kit.packings.filter(closed_at=None).first()
    if found is not None:
        try:
            services.close_packing(found)
        except StopsStand:
            back = reverse("shelf:packing", args=[kit.pk])
            return redirect(f"{reverse('shelf:stops', args=[kit.pk])}?next={back}")
        messages.success(request, f"{kit.tag} is packed.")
    return redirect("shelf:kit_detail", kit.pk)


@require_http_methods(["GET", "POST"])
def stops(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Accept the stops of a kit, each with a reason, and go on from there."""
    if request.method == "POST":
        coordinator_of(request)
    kit = kit_or_404(uid)
    after = request.POST.get("next") or request.GET.get("next", "")
    return ask_for_stops(request, kit, after) or redirect(_safe(request, kit, after))


def ask_for_stops(request: HttpRequest, kit: Asset, after: str) -> HttpResponse | None:
    """The page that asks for a reason for each stop; None when none stands."""
    inner = [one for one in rows_of_kit(kit).assets.values() if one.kind == kit.kind]
    standing = standing_stops([kit, *inner], today())
    if not standing:
        return None
    is_sent = request.method == "POST"
    form = forms.StopsForm(standing, request.POST if is_sent else None)
    if is_sent and form.is_valid():
        services.accept_stops(standing, form.cleaned_data, by=actor_of(request))
        messages.success(request, "Accepted by you; it is printed with your name.")
        return redirect(_safe(request, kit, after))
    context = {"asset": kit, "form": form, "stops": standing, "after": after}
    status = 422 if is_sent else 200
    return render(request, "shelf/stops.html", context, status=status)


def _safe(request: HttpRequest, kit: Asset, after: str) -> str:
    """Where to go on: a page of ours, else the kit's."""
    is_ours = url_has_allowed_host_and_scheme(after, {request.get_host()})
    return after if is_ours and after.startswith("/") else kit.get_absolute_url()
