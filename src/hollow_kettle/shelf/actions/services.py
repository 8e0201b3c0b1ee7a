"""Changes of corrective actions."""

from __future__ import annotations

from uuid import UUID

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.models import Action, Asset


def save_action(
    action: Action,
    *,
    asset: Asset | None,
    by: Actor,
    event: tuple[UUID, str] | None = None,
) -> Action:
    """Keep an action with what it is about; a new one with the event it comes from."""
    action.asset = asset
    if event is not None:
        action.event_key, action.event_name = event
    if action.made_by is None:
        action.made_by = by
    action.save()
    return action


def end_action(action: Action, *, state: str, outcome: str) -> None:
    """Say that an action is done, or is not going to be."""
    action.state, action.outcome = state, outcome
    action.ended_at = real_now()
    action.save(update_fields=["state", "outcome", "ended_at"])


def reopen_action(action: Action) -> None:
    """Say that an action is still to be done."""
    action.state, action.ended_at = Action.State.OPEN, None
    action.save(update_fields=["state", "ended_at"])
