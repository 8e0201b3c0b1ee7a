"""Puts what the person may do onto each request."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse
from django.utils.functional import SimpleLazyObject

from .access import Access
from .models import Actor


class ActorMiddleware:
    """Add `request.access`, read from the database only when asked."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Handle one request."""
        request.access = SimpleLazyObject(lambda: _access(request))  # type: ignore[attr-defined]
        return self.get_response(request)


def _access(request: HttpRequest) -> Access:
    if not request.user.is_authenticated:
        return Access(None)
    actor = Actor.objects.filter(user_id=request.user.pk).first()
    return Access(actor)
