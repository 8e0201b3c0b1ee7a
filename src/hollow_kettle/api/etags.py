"""What tells one answer from another."""

import hashlib


def digest_of_body(body: bytes) -> str:
    """The ETag of an answer: the same for the same bytes."""
    return f'"{hashlib.sha256(body).hexdigest()[:32]}"'
