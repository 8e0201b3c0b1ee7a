"""The equipment library's pages."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.people.access import coordinator_only
from hollow_kettle.shelf.assets.load_forms import LoadForm
from hollow_kettle.shelf.assets.loads import remove_kind, save_kind
from hollow_kettle.shelf.models import EquipmentType


@require_safe
def equipment_list(request: HttpRequest) -> HttpResponse:
    """Show the equipment library."""
    kinds = EquipmentType.objects.prefetch_related("steps")
    return render(request, "shelf/equipment_list.html", {"kinds": kinds})


@require_http_methods(["GET", "POST"])
@coordinator_only
def equipment_add(request: HttpRequest) -> HttpResponse:
    """Add a kind; with ?copy=KEY it begins as a copy of another."""
    initial = {}
    known = EquipmentType.objects.filter(pk=request.GET.get("copy", ""))
    if (like := known.prefetch_related("steps").first()) is not None:
        initial = LoadForm.initial_of(like)
        initial |= {"name": f"{like.name}, ours", "remark": ""}
    return _form_page(request, None, initial)


@require_http_methods(["GET", "POST"])
@coordinator_only
def equipment_edit(request: HttpRequest, key: str) -> HttpResponse:
    """Change a kind: every event that uses it follows."""
    kind = get_object_or_404(EquipmentType.objects.prefetch_related("steps"), pk=key)
    return _form_page(request, kind, LoadForm.initial_of(kind))


@require_POST
@coordinator_only
def equipment_delete(request: HttpRequest, key: str) -> HttpResponse:
    """Take a kind out of the library."""
    kind = get_object_or_404(EquipmentType, pk=key)
    try:
        remove_kind(kind)
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
        return redirect("shelf:equipment_edit", key)
    messages.success(request, f"{kind} is taken out of the library.")
    return redirect("shelf:equipment_list")


def _form_page(
    request: HttpRequest, kind: EquipmentType | None, initial: dict
) -> HttpResponse:
    form = LoadForm(request.POST or None, initial=initial)
    if form.is_valid():
        try:
            saved = save_kind(kind, **form.values())
        except ValidationError as error:
            form.add_error(None, error)
        else:
            messages.success(request, f"{saved} is saved. Events that use it follow.")
            return redirect("shelf:equipment_list")
    context = {"form": form, "kind": kind}
    status = 422 if form.is_bound else 200
    return render(request, "shelf/equipment_edit.html", context, status=status)
