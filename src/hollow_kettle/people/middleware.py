"""Puts what the person may do onto each request."""

from collections.abc import Callable
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.utils.functional import SimpleLazyObject
from django_htmx.http import HttpResponseClientRedirect

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


class FirstPasswordMiddleware:
    """Lead somebody whose password another person knows to choose their own."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Handle one request."""
        return self.get_response(request)

    def process_view(
        self, request: HttpRequest, view: Any, args: Any, kwargs: Any
    ) -> HttpResponse | None:
        """Let through only the page of the password and the way out."""
        name = request.resolver_match.view_name if request.resolver_match else ""
        if name in ("people:own_password", "people:sign_out"):
            return None
        if not getattr(request.user, "must_change", False):
            return None
        if request.headers.get("HX-Request"):
            return HttpResponseClientRedirect(reverse("people:own_password"))
        return redirect("people:own_password")


class NoStoreMiddleware:
    """Let nothing of the club stay in a shared computer's browser."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Handle one request."""
        response = self.get_response(request)
        if "no-store" not in response.get("Cache-Control", ""):
            response["Cache-Control"] = "private, no-store"
        return response
