"""What opens a door without an account: only a digest of it is kept."""

from __future__ import annotations

import secrets
from datetime import datetime

from django.utils.crypto import salted_hmac

from hollow_kettle.clock import real_now


class TooOften(Exception):
    """Whoever has a token asks more often than they may."""


def new_token(size: int = 16) -> str:
    """Letters for an address or a header, from so many random bytes."""
    return secrets.token_urlsafe(size)


def digest_of(purpose: str, words: str) -> str:
    """The digest under which words are kept (HMAC-SHA-256 with this club's key)."""
    return salted_hmac(purpose, words, algorithm="sha256").hexdigest()


def one_more(minute: datetime | None, count: int) -> tuple[datetime, int]:
    """This minute, and how often with now, after the minute and count of before."""
    now = real_now().replace(second=0, microsecond=0)
    return now, count + 1 if minute == now else 1
