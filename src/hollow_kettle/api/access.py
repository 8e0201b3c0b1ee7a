"""What a script may see and do: its role, at every event."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from hollow_kettle.people.access import Access
from hollow_kettle.people.models import Duty, Role
from hollow_kettle.plan.models import Event

from .models import Token, TokenRole


@dataclass
class ScriptAccess(Access):
    """What one script may see and do."""

    role: str = TokenRole.READER

    @property
    def is_coordinator(self) -> bool:
        """Whether it may note what only a coordinator does."""
        return self.role == TokenRole.COORDINATOR

    @cached_property
    def duties(self) -> list[Duty]:
        """The same at each event, also at those that are set up later."""
        role = Role.OBSERVER if self.role == TokenRole.READER else Role.LOGGER
        keys = Event.objects.values_list("pk", flat=True)
        return [Duty(actor=self.actor, event_key=key, role=role) for key in keys]


def access_of_token(token: Token) -> ScriptAccess:
    """What the script with a token may do."""
    return ScriptAccess(token.actor, role=token.role)
