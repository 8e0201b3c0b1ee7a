"""What opens a door without an account: only a digest of it is kept."""

import secrets

from django.utils.crypto import salted_hmac


def new_token(size: int = 16) -> str:
    """Letters for an address or a header, from so many random bytes."""
    return secrets.token_urlsafe(size)


def digest_of(purpose: str, words: str) -> str:
    """The digest under which words are kept (HMAC-SHA-256 with this club's key)."""
    return salted_hmac(purpose, words, algorithm="sha256").hexdigest()
