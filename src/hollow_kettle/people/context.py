"""What every template may know of the person and the club."""

from typing import Any

from django.http import HttpRequest
from django.utils.functional import SimpleLazyObject

from .models import Club


def who(request: HttpRequest) -> dict[str, Any]:
    """Return the club and the person's access, read only when a page uses them."""
    return {
        "club": SimpleLazyObject(Club.the),
        "access": getattr(request, "access", None),
    }
