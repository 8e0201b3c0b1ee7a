"""The second step of signing in, and the page on which it is taken on or dropped."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django.contrib import messages
from django.contrib.auth import login
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from hollow_kettle.clock import real_now
from hollow_kettle.ui.codes import drawn_code

from . import second, sessions
from .access import actor_of, coordinator_only, user_of
from .doors import remember
from .forms import AppCodeForm, OwnPasswordAgainForm
from .models import Club, User

#: In the session: who gave the right password and still owes the code.
HALF = "half_signed_in"
#: For so long the password is taken for given. [s]
HALF_S = 300
_PENDING = "second_secret"
_BACKEND = "django.contrib.auth.backends.ModelBackend"


def ask_for_code(request: HttpRequest, user: User, to: str) -> HttpResponse | None:
    """Go on to the second step, where the sign-in has one; None: it has none."""
    if second.factor_of(user) is None:
        return None
    request.session.flush()  # whoever used this browser before is out
    began = int(real_now().timestamp())
    request.session[HALF] = {"user": user.pk, "at": began, "to": to}
    return redirect("people:sign_in_code")


@require_http_methods(["GET", "POST"])
def sign_in_code(request: HttpRequest) -> HttpResponse:
    """Ask who gave the right password for the code, and let them in."""
    half: dict[str, Any] = request.session.get(HALF) or {}
    age_s = real_now().timestamp() - half.get("at", 0)
    user = User.objects.filter(pk=half.get("user", 0), is_active=True).first()
    if user is None or age_s > HALF_S:
        request.session.pop(HALF, None)
        return redirect("people:sign_in")
    form = AppCodeForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        try:
            is_right = second.is_right(user, form.cleaned_data["code"])
        except second.TooManyCodes:
            return render(
                request, "people/too_many_codes.html", {"is_app": True}, status=429
            )
        if is_right:
            return _in(request, user, half["to"])
        form.add_error(
            "code", "That is not the code now. Each opens once, for half a minute."
        )
    status = 422 if form.errors else 200
    return render(request, "people/sign_in_code.html", {"form": form}, status=status)


def _in(request: HttpRequest, user: User, to: str) -> HttpResponse:
    login(request, user, backend=_BACKEND)
    request.session.pop(HALF, None)
    response = redirect(to)
    remember(request, response, user.username)
    sessions.note(request, user)
    return response


@require_http_methods(["GET", "POST"])
@coordinator_only
def second_factor(request: HttpRequest) -> HttpResponse:
    """Show whether one's sign-in asks for a code; take that on."""
    user = user_of(request)
    has_one = second.factor_of(user) is not None
    form, spares = AppCodeForm(None if has_one else request.POST or None), None
    secret = str(request.session.get(_PENDING, ""))
    if not has_one and not secret:
        secret = request.session[_PENDING] = second.new_secret()
    if request.method == "POST" and not has_one and form.is_valid():
        code = form.cleaned_data["code"]
        spares = second.take_on(user, secret, code, by=actor_of(request))
        if spares is None:
            form.add_error(
                "code", "That is not its code now. Is the phone's clock right?"
            )
        else:
            del request.session[_PENDING]
            sessions.end(user, this=request.session.session_key)
    address = second.address_of(secret, user, Club.the().name) if secret else ""
    context = {
        "form": form,
        "again": OwnPasswordAgainForm(user),
        "has_one": has_one or spares is not None,
        "spares": spares,
        "secret": secret,
        "code": drawn_code(address) if address and not has_one else "",
    }
    status = 422 if form.errors else 200
    return render(request, "people/second_factor.html", context, status=status)


@require_POST
@coordinator_only
def second_drop(request: HttpRequest) -> HttpResponse:
    """Ask for no code any more, after the password was given once more."""
    user = user_of(request)
    if OwnPasswordAgainForm(user, request.POST).is_valid():
        second.drop(user, by=actor_of(request))
        messages.success(request, "Your sign-in asks for no code any more.")
    else:
        messages.error(
            request, "That is not your password; the code is still asked for."
        )
    return redirect("people:second_factor")


@require_POST
@coordinator_only
def person_second_drop(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Let somebody in by the password alone, whose phone and spare codes are gone."""
    user = get_object_or_404(User.objects.select_related("actor"), actor=uid)
    if second.drop(user, by=actor_of(request)):
        messages.success(request, f"{user.actor} signs in by the password alone now.")
    return redirect("people:person_list")
