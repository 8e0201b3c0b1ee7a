"""Things read with the details of their kind."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from hollow_kettle.shelf import kinds
from hollow_kettle.shelf.models import Asset


def attach_details(assets: Iterable[Asset]) -> list[Asset]:
    """
    Read the details of assets, one query for each kind among them.

    One join over all the kinds' tables would be one query, but the database then
    takes longer to plan it than to run all of these.
    """
    found = list(assets)
    by_kind: defaultdict[str, list[Asset]] = defaultdict(list)
    for asset in found:
        by_kind[asset.kind].append(asset)
    for key, members in by_kind.items():
        kind = kinds.KINDS[key]
        details = kind.model._default_manager.in_bulk([asset.pk for asset in members])
        for asset in members:
            setattr(asset, kind.attribute, details[asset.pk])
    return found
