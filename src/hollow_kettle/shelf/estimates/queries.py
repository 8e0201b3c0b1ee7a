"""What events taught and somebody accepted."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from hollow_kettle.shelf.models import Estimate

from .services import WALKS, key_of


def accepted(quantity: str, subjects: Iterable[UUID]) -> dict[UUID, Estimate]:
    """The estimate that applies of each subject."""
    found = Estimate.objects.filter(
        quantity=quantity,
        subject__in=list(subjects),
        accepted_by__isnull=False,
        superseded_by=None,
    )
    return {one.subject: one for one in found.order_by("made_at", "pk")}


def of_names(quantity: str, names: Iterable[str]) -> dict[str, Estimate]:
    """What is accepted of stations or bays, by name."""
    keys = {key_of(name): name for name in names}
    return {keys[key]: one for key, one in accepted(quantity, keys).items()}


def lateness() -> Estimate | None:
    """What is accepted of how late walks come; new events begin with it."""
    return accepted(Estimate.LATENESS, [key_of(WALKS)]).get(key_of(WALKS))
