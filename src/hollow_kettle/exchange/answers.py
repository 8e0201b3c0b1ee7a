"""Files as answers."""

from __future__ import annotations

from django.http import HttpResponse


def kept_answer(content: bytes, kind: str) -> HttpResponse:
    """Give what somebody sent in and we keep: to look at, never to run."""
    response = HttpResponse(content, content_type=kind)
    response["X-Content-Type-Options"] = "nosniff"
    response["Content-Security-Policy"] = "sandbox; default-src 'none'"
    return response


def file_answer(content: bytes, kind: str, name: str) -> HttpResponse:
    """Give a file to keep."""
    response = HttpResponse(content, content_type=kind)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response
