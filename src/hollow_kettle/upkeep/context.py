"""What the frame tells a coordinator of the application itself."""

from __future__ import annotations

import time
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from . import health

#: For so long one process does not look again. [s]
FRESH_S = 60.0
_seen: list[tuple[float, str]] = []


def warning(request: HttpRequest) -> dict[str, Any]:
    """Return what is most wrong now, in words; empty while all is well."""
    return {"kettle_warning": SimpleLazyObject(_warning)}


def _warning() -> str:
    if not settings.KETTLE_WARNS:
        return ""
    if not _seen or time.monotonic() - _seen[0][0] > FRESH_S:
        bad = [check.words for check in health.checks() if check.state == "bad"]
        _seen[:] = [(time.monotonic(), bad[0] if bad else "")]
    return _seen[0][1]
