"""Event passes: who may take part for some hours without an account."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import timedelta
from uuid import UUID

from django.db import transaction

from hollow_kettle.clock import real_now

from .models import Actor, EventPass, Guest, PassTry
from .tokens import digest_of, new_token

#: Letters and digits that are told apart on the radio and by hand.
ALPHABET = "ACDEFGHJKMNPQRTUVWXY3479"
CODE_LENGTH = 8
#: A pass lives for so many hours.
HOURS, USUAL_HOURS = (1, 96), 24
#: Wrong codes within the time: so often the same, and so many at all. One tent shares
#: one address, so that the address counts for nothing.
WITHIN = timedelta(minutes=10)
MOST_OF_ONE, MOST_OF_ALL = 5, 60
_KEPT = timedelta(days=1)
_LINK, _CODE = "people.pass.link", "people.pass.code"


class TooManyTries(Exception):
    """So many wrong codes came that none is looked at for some minutes."""


@dataclass(frozen=True, slots=True)
class Shown:
    """A new pass with what opens it; nobody can read that again."""

    made: EventPass
    token: str
    code: str

    @property
    def spoken(self) -> str:
        """The code in two groups, as it is read out."""
        half = CODE_LENGTH // 2
        return f"{self.code[:half]} {self.code[half:]}"


def make_pass(
    event_key: UUID,
    event_name: str,
    *,
    role: str,
    station_key: UUID | None,
    hours: int,
    by: Actor,
) -> Shown:
    """Make a pass; what opens it is in the answer only."""
    token = new_token()
    code = "".join(secrets.choice(ALPHABET) for _ in range(CODE_LENGTH))
    made = EventPass.objects.create(
        event_key=event_key,
        event_name=event_name,
        role=role,
        station_key=station_key,
        link_digest=digest_of(_LINK, token),
        code_digest=digest_of(_CODE, code),
        made_by=by,
        expires_at=real_now() + timedelta(hours=hours),
    )
    return Shown(made, token, code)


def revoke(event_pass: EventPass) -> None:
    """End a pass at once, for all who joined by it."""
    if event_pass.revoked_at is None:
        event_pass.revoked_at = real_now()
        event_pass.save(update_fields=["revoked_at"])


def by_link(token: str) -> EventPass | None:
    """The open pass of a link."""
    return _open(EventPass.objects.filter(link_digest=digest_of(_LINK, token)).first())


def by_code(code: str) -> EventPass | None:
    """
    The open pass of a spoken code, however it is spaced.

    Raises
    ------
    TooManyTries
        If this code, or codes at all, were wrong too often of late.
    """
    letters = "".join(one for one in code.upper() if one.isalnum())[:40]
    digest = digest_of(_CODE, letters)
    tries = PassTry.objects.filter(at__gt=real_now() - WITHIN)
    if (
        tries.filter(digest=digest).count() >= MOST_OF_ONE
        or tries.count() >= MOST_OF_ALL
    ):
        raise TooManyTries
    found = _open(EventPass.objects.filter(code_digest=digest).first())
    if found is None:
        PassTry.objects.filter(at__lt=real_now() - _KEPT).delete()
        PassTry.objects.create(digest=digest)
    return found


@transaction.atomic
def join(event_pass: EventPass, *, name: str, call_sign: str) -> Guest:
    """Let somebody take part; what they note is theirs by name and call sign."""
    said = f"{name} ({call_sign.upper()})" if call_sign else name
    actor = Actor.objects.create(name=said)
    return Guest.objects.create(actor=actor, event_pass=event_pass)


def _open(found: EventPass | None) -> EventPass | None:
    return found if found is not None and found.is_open else None
