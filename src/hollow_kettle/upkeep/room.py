"""Room on the disk: writing stops before none is left, reading goes on."""

from __future__ import annotations

import shutil
import time

from django.conf import settings

#: How long a look at the disk counts. [s]
FRESH_S = 2.0
_seen: list[tuple[float, int | None]] = []


def free_bytes() -> int | None:
    """Return the room beside our own database; None where that is elsewhere."""
    if _seen and time.monotonic() - _seen[0][0] < FRESH_S:
        return _seen[0][1]
    folder, free = settings.KETTLE_FOLDER, None
    if folder:
        try:
            free = shutil.disk_usage(folder).free
        except OSError:  # removed below us: the database will say so
            free = None
    _seen[:] = [(time.monotonic(), free)]
    return free


def is_full() -> bool:
    """Whether so little is left that nothing more may be written."""
    free = free_bytes()
    return free is not None and free < settings.KETTLE_LEAST_BYTES
