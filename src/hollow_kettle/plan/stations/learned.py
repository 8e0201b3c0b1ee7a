"""Planning an event with what others taught."""

from __future__ import annotations

from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.people.models import Actor
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.yard.services import state_walk
from hollow_kettle.shelf.estimates.queries import of_names
from hollow_kettle.shelf.models import Estimate
from powercore.limits import BAY_W, DRAWS, WALK_MIN, Limit


@transaction.atomic
def take(event: Event, quantity: str, key: UUID, *, by: Actor) -> str:
    """
    Plan a station or a bay with what is accepted of it; say what was done.

    Raises
    ------
    ValidationError
        If it is gone, or nothing is accepted of it any more.
    """
    if quantity == Estimate.BAY:
        said, origin = _take_bay(event, key)
    else:
        said, origin = _take_station(event, quantity, key)
    note(event, by, f"{said}, learned at {origin}")
    return f"{said}."


def _take_bay(event: Event, key: UUID) -> tuple[str, str]:
    row = event.bays.filter(charger=None, pk=key).first()
    found = of_names(Estimate.BAY, [row.name]).get(row.name) if row else None
    if row is None or found is None or row.max_w is None:
        raise _gone()
    row.max_w = round(_within(BAY_W, row.max_w * found.mean))
    row.learned_from = found.origin
    row.save(update_fields=["max_w", "learned_from"])
    return f"{row.name}: {row.max_w:g} W", found.origin


def _take_station(event: Event, quantity: str, key: UUID) -> tuple[str, str]:
    row = event.stations.select_related("site").filter(pk=key).first()
    found = of_names(quantity, [row.name]).get(row.name) if row else None
    if row is None or found is None:
        raise _gone()
    if quantity == Estimate.DRAW:
        row.draws, row.draws_from = round(_within(DRAWS, found.mean), 2), found.origin
        row.save(update_fields=["draws", "draws_from"])
        return f"{row.name}: draws {row.draws:g} times its list", found.origin
    minutes = round(_within(WALK_MIN, found.mean))
    state_walk(event.sites.get(is_yard=True), row.site, minutes=minutes)
    return f"{row.name}: {minutes} min from the yard", found.origin


def _gone() -> ValidationError:
    return ValidationError("Nothing is accepted of it any more.")


def _within(limit: Limit, value: float) -> float:
    return min(limit.high, max(limit.low, value))
