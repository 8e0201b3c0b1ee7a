"""What the frame tells a coordinator of the application itself."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.core.cache import cache
from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from . import health

#: For so long one process does not look again. [s]
FRESH_S = 60


def warning(request: HttpRequest) -> dict[str, Any]:
    """Return what is most wrong now, in words; empty while all is well."""
    return {"kettle_warning": SimpleLazyObject(_warning)}


def _warning() -> str:
    if not settings.KETTLE_WARNS:
        return ""
    return str(cache.get_or_set("warning", _worst, FRESH_S))


def _worst() -> str:
    return next((one.words for one in health.checks() if one.state == "bad"), "")
