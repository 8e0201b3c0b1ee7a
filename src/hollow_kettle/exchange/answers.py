"""Files as answers."""

from __future__ import annotations

from django.http import HttpResponse


def file_answer(content: bytes, kind: str, name: str) -> HttpResponse:
    """Give a file to keep."""
    response = HttpResponse(content, content_type=kind)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response
