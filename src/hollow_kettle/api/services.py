"""Scripts let in, counted, and let in no more."""

from __future__ import annotations

from django.db import transaction

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor, Deed
from hollow_kettle.people.tokens import TooOften, digest_of, new_token, one_more

from .models import Token

#: A script asks at most so often a minute, on all web servers together.
MOST_A_MINUTE = 300
_SALT = "api.token"


@transaction.atomic
def make_token(*, name: str, role: str, by: Actor) -> tuple[Token, str]:
    """Let a script in; what opens the door is in the answer only."""
    secret = new_token(24)
    actor = Actor.objects.create(name=name, is_script=True)
    made = Token.objects.create(
        actor=actor, role=role, digest=digest_of(_SALT, secret), made_by=by
    )
    Deed.objects.create(kind=Deed.Kind.SCRIPT, by=by, about=actor)
    return made, secret


@transaction.atomic
def end_token(token: Token, *, by: Actor) -> None:
    """Let a script in no more; what it noted stays."""
    if token.ended_at is None:
        token.ended_at = real_now()
        token.save(update_fields=["ended_at"])
        Deed.objects.create(kind=Deed.Kind.SCRIPT_ENDED, by=by, about=token.actor)


def token_of(secret: str) -> Token | None:
    """
    The token that a secret belongs to, while it is open, and count that it asked.

    Raises
    ------
    TooOften
        If it did so too often in this minute.
    """
    with transaction.atomic():
        found = Token.objects.filter(digest=digest_of(_SALT, secret), ended_at=None)
        row = found.select_for_update(of=("self",)).select_related("actor").first()
        if row is None:
            return None
        row.minute, row.asked_in_minute = one_more(row.minute, row.asked_in_minute)
        row.save(update_fields=["minute", "asked_in_minute"])
    if row.asked_in_minute > MOST_A_MINUTE:
        raise TooOften
    return row
