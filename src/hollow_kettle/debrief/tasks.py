"""Long work of the debrief, run by the worker."""

from __future__ import annotations

from time import monotonic

from procrastinate.contrib.django import app

from .causes import services
from .learning.services import propose
from .models import Causes

#: Progress is written down at most so often. [s]
EVERY_S = 0.5


@app.task(queue="trial", pass_context=False)
def causes(causes_id: int) -> None:
    """Work out why an event went otherwise than planned."""
    row = Causes.objects.select_related("event", "baseline__snapshot").filter(
        pk=causes_id
    )
    found = row.first()
    if found is None or not found.is_active:
        return
    said = [0.0]

    def told(share: float) -> None:
        if monotonic() - said[0] >= EVERY_S:
            said[0] = monotonic()
            Causes.objects.filter(pk=causes_id).update(progress=share)

    try:
        propose(*services.work_out(found, told))
    except Exception:
        Causes.objects.filter(pk=causes_id).update(has_failed=True)
        raise
