"""Pages for when something is not there, not allowed, or broken."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    """Tell somebody whose form was too old what to do."""
    return render(request, "ui/csrf.html", status=403)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """Say that there is nothing here."""
    return render(request, "ui/404.html", status=404)


def not_allowed(request: HttpRequest, exception: Exception) -> HttpResponse:
    """Say who may do this."""
    return render(request, "ui/403.html", status=403)


def broken(request: HttpRequest) -> HttpResponse:
    """Say that it is our fault; needs neither database nor context."""
    return render(None, "ui/500.html", status=500)
