"""Puts what the person may do onto each request."""

from collections.abc import Callable
from typing import Any

from django.contrib.auth.models import AnonymousUser
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.utils.functional import SimpleLazyObject
from django_htmx.http import HttpResponseClientRedirect

from .access import Access
from .models import Actor, Guest
from .sessions import keep_seen

#: Where a session keeps who joined by a pass.
GUEST = "guest"
#: Rooms that a guest may enter; each page then asks for its event.
ROOMS_OF_GUESTS = {"field", "plan", "debrief", "guide", ""}
PAGES_OF_GUESTS = {"people:sign_out", "people:join", "people:join_link"}


class GuestUser(AnonymousUser):
    """Stands for the user of somebody who has none, and takes part by a pass."""

    must_change = False

    @property
    def is_authenticated(self) -> Any:
        """In, by the pass."""
        return True


class ActorMiddleware:
    """Add `request.access`, read from the database only when asked."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Handle one request."""
        if GUEST in request.session:
            self._guest(request)
        else:
            request.access = SimpleLazyObject(lambda: _access(request))  # type: ignore[attr-defined]
            keep_seen(request)
        return self.get_response(request)

    def _guest(self, request: HttpRequest) -> None:
        """Know who joined by a pass; who did by one that has ended is nobody."""
        key = request.session[GUEST]
        guest = Guest.objects.select_related("actor", "event_pass").filter(actor=key)
        found = guest.first()
        request.access = Access(None)  # type: ignore[attr-defined]
        if found is not None and found.event_pass.is_open:
            request.user = GuestUser()
            request.access = Access(found.actor, found.event_pass)  # type: ignore[attr-defined]
        elif found is not None:
            request.ended_guest = found  # type: ignore[attr-defined]

    def process_view(
        self, request: HttpRequest, view: Any, args: Any, kwargs: Any
    ) -> HttpResponse | None:
        """Keep guests to the rooms of their event."""
        match = request.resolver_match
        if not isinstance(request.user, GuestUser) or match is None:
            return None
        if match.view_name in PAGES_OF_GUESTS or match.namespace in ROOMS_OF_GUESTS:
            return None
        raise PermissionDenied


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
