"""Room on the disk: writing stops before none is left, reading goes on."""

from __future__ import annotations

import shutil

from django.conf import settings
from django.core.cache import cache

#: How long a look at the disk counts, in one process. [s]
FRESH_S = 2


def free_bytes() -> int | None:
    """Return the room beside our own database; None where that is elsewhere."""
    return cache.get_or_set("room", _look, FRESH_S)


def _look() -> int | None:
    if not settings.KETTLE_FOLDER:
        return None
    try:
        return shutil.disk_usage(settings.KETTLE_FOLDER).free
    except OSError:  # removed below us: the database will say so
        return None


def is_full() -> bool:
    """Whether so little is left that nothing more may be written."""
    free = free_bytes()
    return free is not None and free < settings.KETTLE_LEAST_BYTES
