"""Sign-in, the club and its people."""

from typing import Any

from django.contrib import messages
from django.contrib.auth.views import LoginView
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods, require_safe

from . import services
from .access import coordinator_only
from .forms import ClubForm, PersonForm, SignInForm
from .models import Actor, Club


class SignIn(LoginView):
    """The door."""

    template_name = "people/sign_in.html"
    authentication_form = SignInForm
    redirect_authenticated_user = True


def locked_out(
    request: HttpRequest, original_response: Any = None, credentials: Any = None
) -> HttpResponse:
    """Tell somebody who tried too often how to get in again."""
    return render(request, "ui/too_many.html", status=429)


@require_safe
@coordinator_only
def person_list(request: HttpRequest) -> HttpResponse:
    """Show who there is."""
    actors = Actor.objects.select_related("user").order_by("name")
    return render(request, "people/person_list.html", {"actors": actors})


@require_http_methods(["GET", "POST"])
@coordinator_only
def person_add(request: HttpRequest) -> HttpResponse:
    """Make a sign-in."""
    form = PersonForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            actor = services.make_person(data.pop("username"), **data)
        except ValidationError as error:
            form.add_error(None, error.messages)
        else:
            messages.success(request, f"{actor} can sign in now.")
            return redirect("people:person_list")
    status = 422 if form.errors else 200
    return render(request, "people/person_add.html", {"form": form}, status=status)


@require_http_methods(["GET", "POST"])
@coordinator_only
def club_edit(request: HttpRequest) -> HttpResponse:
    """Name the club."""
    club = Club.the()
    form = ClubForm(request.POST or {"name": club.name, "zone": club.zone})
    if request.method == "POST" and form.is_valid():
        services.set_club(**form.cleaned_data)
        messages.success(request, "The club's name and zone are kept.")
        return redirect("people:person_list")
    status = 422 if request.method == "POST" else 200
    return render(request, "people/club_edit.html", {"form": form}, status=status)
