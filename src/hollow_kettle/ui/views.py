"""Pages for when something is not there, not allowed, or broken."""

import sys

from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from hollow_kettle.logs import request_number

#: How PostgreSQL says that its disk is full.
DISK_FULL = "53100"


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
    """Say what is wrong, or that it is our fault; needs no database."""
    error = sys.exc_info()[1]
    if isinstance(error, OperationalError | InterfaceError):
        if getattr(error.__cause__, "sqlstate", None) == DISK_FULL:
            return render(None, "ui/507.html", status=507)
        response = render(None, "ui/503.html", status=503)
        response["Retry-After"] = "5"
        return response
    number = {"number": request_number.get()}
    return render(None, "ui/500.html", number, status=500)
