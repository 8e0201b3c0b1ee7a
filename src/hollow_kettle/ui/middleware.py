"""Answers in words where the database, or HTTP itself, says no."""

from collections.abc import Callable

from django.db import DataError, IntegrityError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


class PlainWordsMiddleware:
    """Tell people what is wrong with an address, or what two did at once."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Handle one request; no text of ours can hold the character NUL."""
        query = request.META.get("QUERY_STRING", "")
        if "\0" in request.path_info or "%00" in query or "\0" in query:
            return render(request, "ui/400.html", status=400)
        return self.get_response(request)

    def process_exception(
        self, request: HttpRequest, exception: Exception
    ) -> HttpResponse | None:
        """Two saved the same, one deleted what another changed, or it can't be text."""
        if isinstance(exception, IntegrityError):
            return render(request, "ui/409.html", status=409)
        if isinstance(exception, DataError):
            return render(request, "ui/400.html", status=400)
        return None
