"""Exceptions that nothing caught, kept so that the coordinator can tell of them."""

from __future__ import annotations

import sys
from contextlib import suppress
from datetime import timedelta
from typing import Any

from django.db import DatabaseError, InterfaceError
from django.db.models import F
from django.http import HttpRequest

from hollow_kettle.clock import real_now
from hollow_kettle.logs import request_number, what_happened

from .models import Trouble

#: After so many days a trouble that did not come again is forgotten.
KEEP_DAYS = 90


def keep(sender: Any, request: HttpRequest | None = None, **kwargs: Any) -> None:
    """Note the exception that is being handled; never raises one of its own."""
    info = sys.exc_info()
    if info[0] is None or issubclass(info[0], InterfaceError):
        return
    found = what_happened(info)
    own = [at for at in found["at"] if at.startswith(("hollow_kettle/", "powercore/"))]
    match = getattr(request, "resolver_match", None)
    key = {
        "route": (match.view_name if match else "")[:120],
        "kind": found["kind"][:80],
        "place": (own or found["at"] or [""])[-1][:160],
    }
    # The database may be what is wrong.
    with suppress(DatabaseError, InterfaceError):
        _, is_new = Trouble.objects.get_or_create(
            **key, defaults={"request": request_number.get()}
        )
        if not is_new:
            Trouble.objects.filter(**key).update(
                times=F("times") + 1, last_at=real_now(), request=request_number.get()
            )


def forget_old() -> None:
    """Remove what did not come again for long."""
    before = real_now() - timedelta(days=KEEP_DAYS)
    Trouble.objects.filter(last_at__lt=before).delete()
