"""Around each request: its number, its time, health, and room on the disk."""

from __future__ import annotations

import logging
import secrets
import time
from collections.abc import Callable

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render

from hollow_kettle.logs import request_number

from . import figures, health, room

log = logging.getLogger("hollow_kettle.requests")
SAFE = frozenset({"GET", "HEAD", "OPTIONS", "TRACE"})
METHODS = SAFE | {"POST", "PUT", "PATCH", "DELETE"}
#: What may be sent while nothing else is saved: without it nobody could read.
DOORS = frozenset({"/sign-in/", "/sign-out/"})


class UpkeepMiddleware:
    """
    Number, time and log each request; answer probes before anything else is asked.

    Probes come from the machine itself, by any name and without https.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Handle one request."""
        number, began = secrets.token_hex(6), time.monotonic()
        # Not taken back at the end: what is logged of the answer comes after us.
        request_number.set(number)
        if request.path_info == "/healthz":
            return HttpResponse("alive\n", content_type="text/plain")
        if request.path_info == "/readyz":
            return _ready(request)
        response = self.get_response(request)
        self._note(request, response, time.monotonic() - began)
        response["X-Request-ID"] = number
        return response

    def _note(
        self, request: HttpRequest, response: HttpResponse, took_s: float
    ) -> None:
        match = request.resolver_match
        if match is None and response.status_code < 400:
            return  # a file of ours
        route = match.view_name if match else "none"
        status = response.status_code
        method = request.method if request.method in METHODS else "other"
        figures.ANSWERS.labels(route, method, f"{status // 100}xx").observe(took_s)
        said = {"route": route, "method": method, "status": status}
        log.info(
            "%s %s %s",
            *(method, route, status),
            extra=said | {"ms": round(took_s * 1e3)},
        )


def _ready(request: HttpRequest) -> HttpResponse:
    """Say whether pages can be answered; with ?all, whether all is well."""
    found = health.checks()
    good = health.is_ready(found)
    if "all" in request.GET:
        good = all(check.state == "well" for check in found)
    said = {"ready": good, "checks": {check.name: check.state for check in found}}
    return JsonResponse(said, status=200 if good else 503)


class RoomMiddleware:
    """Refuse to save while the disk has too little room; reading goes on."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Handle one request."""
        is_asking = request.method in SAFE or request.path_info in DOORS
        if not is_asking and room.is_full():
            return render(None, "ui/507.html", status=507)
        return self.get_response(request)
