"""What tests found of batteries: capacities and other quantities."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from hollow_kettle.shelf.bridge import Tested
from hollow_kettle.shelf.models import Asset, Estimate


def capacities_by_battery(uids: Iterable[UUID] | None = None) -> dict[UUID, Tested]:
    """Accepted, unsuperseded capacity of each battery."""
    estimates = Estimate.objects.filter(
        quantity=Estimate.CAPACITY, accepted_by__isnull=False, superseded_by=None
    )
    if uids is not None:
        estimates = estimates.filter(subject__in=list(uids))
    found = estimates.order_by("made_at", "pk").values_list(
        "subject", "mean", "sd", "made_at"
    )
    return {subject: Tested(ah, sd, at) for subject, ah, sd, at in found}


def accepted_ah_by_battery(uids: Iterable[UUID] | None = None) -> dict[UUID, float]:
    """Accepted, unsuperseded capacity of each battery. [Ah]"""
    return {uid: tested.ah for uid, tested in capacities_by_battery(uids).items()}


def estimates_of(asset: Asset) -> list[Estimate]:
    """Capacity estimates of a battery, newest first."""
    return list(
        Estimate.objects.filter(subject=asset.pk, quantity=Estimate.CAPACITY)
        .select_related("accepted_by")
        .order_by("-made_at", "-pk")
    )
