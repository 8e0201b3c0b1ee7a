"""What is due, and what may leave as full."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from hollow_kettle.shelf.models import Asset

from .queries import due_list, gates_of, open_holds


@require_safe
def due(request: HttpRequest) -> HttpResponse:
    """What is due: charge, storage, tests, returns, repairs, parts."""
    return render(request, "shelf/due_list.html", {"groups": due_list()})


@require_safe
def gate_list(request: HttpRequest) -> HttpResponse:
    """Which batteries may leave as full, and what the others lack."""
    assets = list(Asset.objects.batteries())
    gates = gates_of(assets)
    context = {
        "lines": [(asset, gates[asset.pk]) for asset in assets],
        "holds": open_holds(),
    }
    return render(request, "shelf/gate_list.html", context)
