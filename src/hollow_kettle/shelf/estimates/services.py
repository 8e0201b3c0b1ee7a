"""What events taught: proposed, accepted or refused; only accepted ones apply."""

from __future__ import annotations

import uuid
from collections.abc import Iterable

from django.db import transaction

from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.models import Battery, Estimate

#: Names without a row of their own get keys in here.
NAMES = uuid.UUID("5e0e6a0c-6c7a-4c56-9b3f-0a6f1d6b8d11")
WALKS = "walks"


def key_of(name: str) -> uuid.UUID:
    """The key of a station or a bay by its name, or of the club's walks."""
    return uuid.uuid5(NAMES, name.strip().lower())


@transaction.atomic
def propose(event_key: uuid.UUID, found: Iterable[Estimate]) -> None:
    """
    Propose what an event taught, in place of what was proposed of it before.

    What somebody accepted or refused stays as it is.
    """
    own = Estimate.objects.filter(event_key=event_key)
    own.filter(accepted_by=None, refused_by=None).delete()
    settled = set(own.values_list("subject", "quantity"))
    Estimate.objects.bulk_create(
        one for one in found if (one.subject, one.quantity) not in settled
    )


@transaction.atomic
def accept(estimate: Estimate, *, by: Actor) -> None:
    """Plan with an estimate from now on; it supersedes the last of its kind."""
    Estimate.objects.filter(
        subject=estimate.subject,
        quantity=estimate.quantity,
        accepted_by__isnull=False,
        superseded_by=None,
    ).exclude(pk=estimate.pk).update(superseded_by=estimate)
    estimate.accepted_by, estimate.refused_by = by, None
    estimate.save(update_fields=["accepted_by", "refused_by"])
    if estimate.quantity == Estimate.RESISTANCE:
        _give_resistance(estimate.subject, estimate.mean)


def _give_resistance(battery: uuid.UUID, mohm: float | None) -> None:
    """A battery's own resistance, which its row holds; None: what is usual."""
    Battery.objects.filter(asset=battery).update(resistance_mohm=mohm)


def refuse(estimate: Estimate, *, by: Actor) -> None:
    """Don't plan with an estimate; what was planned with before counts again."""
    before = Estimate.objects.filter(superseded_by=estimate)
    before.update(superseded_by=None)
    was_applied = estimate.is_applied
    estimate.accepted_by, estimate.refused_by = None, by
    estimate.save(update_fields=["accepted_by", "refused_by"])
    if was_applied and estimate.quantity == Estimate.RESISTANCE:
        last = before_of(estimate)
        _give_resistance(estimate.subject, last.mean if last else None)


def before_of(estimate: Estimate) -> Estimate | None:
    """What applies of an estimate's subject without it."""
    found = Estimate.objects.filter(
        subject=estimate.subject,
        quantity=estimate.quantity,
        accepted_by__isnull=False,
        superseded_by=None,
    )
    return found.exclude(pk=estimate.pk).order_by("-made_at", "-pk").first()
