"""Bench tests: kept, and what they found taken on."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from hollow_kettle.people.access import actor_of, coordinator_only
from hollow_kettle.shelf.access import asset_or_404
from hollow_kettle.shelf.models import BenchTest
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.ui.tried import refused

from . import services as bench
from .forms import BenchForm


@require_http_methods(["GET", "POST"])
@coordinator_only
def bench_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Record a bench test and see what it comes to."""
    asset = asset_or_404(uid)
    if asset.kind not in (AssetKind.BATTERY, AssetKind.BANK):
        return redirect(asset)
    what = request.GET.get("what", "")
    form = BenchForm(
        asset, request.POST or None, request.FILES or None, initial={"what": what}
    )
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            test = bench.record_test(
                asset, by=actor_of(request), rows=data.pop("lines"), **data
            )
        except ValidationError as error:
            refused(form, error)
        else:
            messages.success(request, f"Kept: {test.words}.")
            return redirect(asset)
    status = 422 if form.is_bound else 200
    context = {"form": form, "asset": asset}
    return render(request, "shelf/bench_add.html", context, status=status)


@require_POST
@coordinator_only
def bench_accept(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Trust what a test found."""
    test = get_object_or_404(BenchTest.objects.select_related("asset__battery"), pk=uid)
    try:
        bench.accept_test(test, by=actor_of(request))
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
    else:
        messages.success(
            request,
            f"{test.asset.tag} is trusted with {test.result:g} {test.unit} now.",
        )
    return redirect(test.asset)
