"""Things and kinds that an address names, or 404."""

from __future__ import annotations

from uuid import UUID

from django.http import Http404
from django.shortcuts import get_object_or_404

from .fields import Kind
from .kinds import KINDS
from .models import Asset
from .models.asset import AssetKind


def kind_or_404(key: str) -> Kind:
    """A kind by its key in a URL."""
    if key not in KINDS:
        raise Http404
    return KINDS[key]


def asset_or_404(uid: UUID) -> Asset:
    """An asset, archived or not."""
    return get_object_or_404(Asset, pk=uid)


def kit_or_404(uid: UUID) -> Asset:
    """A kit with its details, archived or not."""
    found = Asset.objects.filter(kind=AssetKind.KIT).select_related("kit")
    return get_object_or_404(found, pk=uid)
