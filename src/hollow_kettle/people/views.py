"""Sign-in, the club and its people."""

from typing import Any
from uuid import UUID

from django.contrib import messages
from django.contrib.auth.views import (
    LoginView,
    PasswordChangeView,
    PasswordResetConfirmView,
)
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.middleware.csrf import rotate_token
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse_lazy
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.ui.seen import wait_for

from . import passes, services, sessions
from .access import access_of, actor_of, coordinator_only, user_of
from .doors import remember
from .forms import (
    ClubForm,
    CodeForm,
    JoinForm,
    LinkPasswordForm,
    OwnPasswordForm,
    PersonForm,
    SignInForm,
)
from .middleware import GUEST
from .models import Actor, Club, EventPass, User
from .second_views import ask_for_code


class SignIn(LoginView):
    """The door."""

    template_name = "people/sign_in.html"
    authentication_form = SignInForm
    redirect_authenticated_user = True

    def form_valid(self, form: Any) -> HttpResponse:
        """Let the person in, and know their browser the next time."""
        to = self.get_success_url()
        if (asked := ask_for_code(self.request, form.get_user(), to)) is not None:
            return asked
        response = super().form_valid(form)
        remember(self.request, response, form.get_user().username)
        sessions.note(self.request, form.get_user())
        return response


class OwnPassword(PasswordChangeView):
    """Change one's own password; sessions elsewhere end."""

    template_name = "people/own_password.html"
    form_class = OwnPasswordForm
    success_url = reverse_lazy("home")

    def form_valid(self, form: Any) -> HttpResponse:
        """Keep it and go on."""
        messages.success(
            self.request,
            "Your new password is saved; other browsers must sign in again.",
        )
        response = super().form_valid(form)
        sessions.end(form.user, this=self.request.session.session_key)
        sessions.note(self.request, form.user)
        return response


class NewPassword(PasswordResetConfirmView):
    """A new password by a one-time link."""

    template_name = "people/new_password.html"
    form_class = LinkPasswordForm
    success_url = reverse_lazy("people:sign_in")

    def form_valid(self, form: Any) -> HttpResponse:
        """Keep it and go to the door."""
        messages.success(self.request, "Your new password is saved. Sign in with it.")
        return super().form_valid(form)


@require_safe
def signed_in(request: HttpRequest) -> HttpResponse:
    """Show where one is signed in."""
    user = user_of(request)
    found = sessions.places(user, request.session.session_key)
    return render(request, "people/signed_in.html", {"places": found})


@require_POST
def sign_out_elsewhere(request: HttpRequest) -> HttpResponse:
    """Sign out of one other browser, or of all others."""
    user, this = user_of(request), request.session.session_key
    place = request.POST.get("place")
    if place is None:
        count = sessions.end(user, this=this)
    else:  # what is no browser's number ends nothing
        is_number = place.isdecimal() and len(place) < 19
        count = sessions.end(user, this=this, only=int(place)) if is_number else 0
    words = "one browser" if count == 1 else f"{count} browsers"
    messages.success(request, f"Signed out of {words}.")
    return redirect("people:signed_in")


def locked_out(
    request: HttpRequest, original_response: Any = None, credentials: Any = None
) -> HttpResponse:
    """Tell somebody who tried too often how to get in again."""
    return render(request, "ui/too_many.html", status=429)


@require_http_methods(["GET", "POST"])
def join_code(request: HttpRequest) -> HttpResponse:
    """Ask for the code of a pass, and who joins by it."""
    if _has_account(request):
        return redirect("field:home")
    code, who = CodeForm(request.POST or None), JoinForm(request.POST or None)
    found = None
    if request.method == "POST" and code.is_valid():
        try:
            found = passes.by_code(code.cleaned_data["code"])
        except passes.TooManyTries:
            return render(request, "people/too_many_codes.html", status=429)
        if found is None:
            code.add_error("code", "No pass has this code now; it may have ended.")
        elif who.is_valid():
            return _joined(request, found, who)
    context = {"forms": (code, who), "event_pass": found}
    status = 422 if request.method == "POST" else 200
    return render(request, "people/join.html", context, status=status)


@require_http_methods(["GET", "POST"])
def join_link(request: HttpRequest, token: str) -> HttpResponse:
    """Ask who joins by the link of a pass."""
    if _has_account(request):
        return redirect("field:home")
    found = passes.by_link(token)
    if found is None:
        return render(request, "people/no_pass.html", status=404)
    who = JoinForm(request.POST or None)
    if request.method == "POST" and who.is_valid():
        return _joined(request, found, who)
    context = {"forms": (who,), "event_pass": found}
    status = 422 if request.method == "POST" else 200
    return render(request, "people/join.html", context, status=status)


def _has_account(request: HttpRequest) -> bool:
    """Whether somebody is signed in, whom joining would put out."""
    access = access_of(request)
    if access.actor is None or access.is_guest:
        return False
    messages.warning(
        request,
        f"You are signed in as {access.actor}: passes are for people without an "
        "account. Sign out to try one.",
    )
    return True


def _joined(request: HttpRequest, found: EventPass, who: JoinForm) -> HttpResponse:
    guest = passes.join(found, **who.cleaned_data)
    request.session.flush()  # whoever used this browser before is out
    request.session[GUEST] = str(guest.actor_id)
    request.session.set_expiry(found.expires_at)
    rotate_token(request)
    messages.success(
        request,
        f"You take part as {guest.actor}: {found.get_role_display()} until the pass "
        "ends. What you note is yours by that name.",
    )
    return redirect("field:board", found.event_key)


@require_safe
@coordinator_only
def person_list(request: HttpRequest) -> HttpResponse:
    """Show who there is."""
    actors = (
        Actor.objects.filter(guest=None, is_script=False)
        .select_related("user", "user__second")
        .order_by("name")
    )
    return render(request, "people/person_list.html", {"actors": actors})


@require_http_methods(["GET", "POST"])
@coordinator_only
def person_add(request: HttpRequest) -> HttpResponse:
    """Make a sign-in."""
    form = PersonForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            username = data.pop("username")
            actor = services.make_person(
                username, must_change=True, by=actor_of(request), **data
            )
        except ValidationError as error:
            form.add_error(None, error.messages)
        else:
            messages.success(
                request,
                f"{actor} can sign in now, and will be asked for a new password.",
            )
            return redirect("people:person_list")
    status = 422 if form.errors else 200
    return render(request, "people/person_add.html", {"form": form}, status=status)


def _sign_in_of(uid: UUID) -> User:
    return get_object_or_404(User.objects.select_related("actor"), actor=uid)


@require_POST
@coordinator_only
def person_close(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Close a sign-in at once, with its sessions."""
    user = _sign_in_of(uid)
    if user == request.user:
        messages.error(
            request, "You can't close your own account; another coordinator can."
        )
    else:
        services.close_sign_in(user, by=actor_of(request))
        messages.success(
            request,
            f"{user.actor}'s account is closed and every browser signed out. What "
            "they did stays in the log.",
        )
    return redirect("people:person_list")


@require_POST
@coordinator_only
def person_link(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Make a one-time link for a new password, shown this once."""
    user = _sign_in_of(uid)
    path = services.new_link(user, by=actor_of(request))
    link = request.build_absolute_uri(path)
    context = {"person": user.actor, "link": link}
    return render(request, "people/link.html", context)


@require_http_methods(["GET", "POST"])
@coordinator_only
@transaction.atomic
def club_edit(request: HttpRequest) -> HttpResponse:
    """Name the club."""
    club = Club.the()
    wait_for(request, Club, club.pk)
    club = Club.the()
    initial = {"name": club.name, "zone": club.zone}
    form = ClubForm(request.POST or None, initial=initial)
    if request.method == "POST" and form.is_valid():
        services.set_club(**form.cleaned_data, by=actor_of(request))
        messages.success(request, "The club's name and time zone are saved.")
        return redirect("people:person_list")
    status = 422 if request.method == "POST" else 200
    return render(request, "people/club_edit.html", {"form": form}, status=status)
