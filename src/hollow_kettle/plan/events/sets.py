"""Batteries that stay joined for an event: checked, kept, taken apart."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.log.models import BatteryNow, PlaceKind
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.models import Event, Joined
from hollow_kettle.shelf.models import Asset
from powercore.errors import PowercoreError
from powercore.event.joining import join
from powercore.event.plans import BatteryPlan


@transaction.atomic
def join_batteries(
    event: Event, keys: Sequence[str], *, by: Actor | None = None
) -> str:
    """
    Join batteries of an event to a set that plans move as one; return its tag.

    Raises
    ------
    ValidationError
        If they must not be side by side, one is in use by now, or the event is over.
    """
    Event.objects.select_for_update().get(pk=event.pk)
    if event.state == Event.State.CLOSED:
        raise ValidationError("The event is over; its log has them singly.")
    assets = list(event.batteries.filter(pk__in=keys).order_by("tag"))
    known = problem_for(event).problem.batteries
    in_sets = set(event.joined.values_list("battery", flat=True))
    if taken := [asset.tag for asset in assets if asset.pk in in_sets]:
        raise ValidationError(f"{taken[0]} is in a set already; take it apart first.")
    if held := [asset for asset in assets if asset.hold]:
        raise ValidationError(f"{held[0].tag} is on hold: {held[0].hold}.")
    try:
        made = join([known[str(asset.pk)] for asset in assets if not asset.archived_at])
    except PowercoreError as error:
        raise ValidationError(str(error)) from error
    if event.state == Event.State.RUNNING:
        _check_together(assets)
    Joined.objects.bulk_create(
        Joined(event=event, lead=assets[0], battery=asset) for asset in assets[1:]
    )
    note(event, by, f"{made.tag} joined to a set")
    return made.tag


def _check_together(assets: Sequence[Asset]) -> None:
    """Under way, nothing is joined that serves or charges."""
    rows = BatteryNow.objects.filter(battery__in=[asset.pk for asset in assets])
    places = {row.battery: row.place for row in rows.select_related("place")}
    fixed = (PlaceKind.POSITION, PlaceKind.BAY)
    for asset in assets:
        place = places.get(asset.pk)
        if place is not None and place.kind in fixed:
            raise ValidationError(
                f"{asset.tag} is in use at {place.name}: bring it to the yard first, "
                "and charge all of the set full before they are joined."
            )


@transaction.atomic
def take_apart(event: Event, lead: UUID, *, by: Actor | None = None) -> str:
    """Take a set apart and return its tag; nothing happens where there is none."""
    tag = event.set_tags.get(lead, "")
    event.joined.filter(lead=lead).delete()
    if tag:
        note(event, by, f"{tag} taken apart")
    return tag


def sets_of(event: Event) -> list[tuple[UUID, str, BatteryPlan | None]]:
    """Joined sets by their first battery, as plans see them; None: not any more."""
    known = problem_for(event).problem.batteries
    found = []
    for lead, tag in event.set_tags.items():
        plan = known.get(str(lead))
        found.append((lead, tag, plan if plan is not None and plan.members else None))
    return found
