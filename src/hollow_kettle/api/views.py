"""The page on which a coordinator lets scripts in."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from hollow_kettle.people.access import actor_of, coordinator_only

from .forms import TokenForm
from .models import Token
from .services import end_token, make_token


@require_http_methods(["GET", "POST"])
@coordinator_only
def token_list(request: HttpRequest) -> HttpResponse:
    """Show the scripts that are let in; let one in, whose token is shown once."""
    form = TokenForm(request.POST or None)
    made, secret = None, ""
    if request.method == "POST" and form.is_valid():
        made, secret = make_token(by=actor_of(request), **form.cleaned_data)
        form = TokenForm()
    context = {
        "form": form,
        "tokens": Token.objects.select_related("actor", "made_by"),
        "made": made,
        "secret": secret,
        "door": request.build_absolute_uri(reverse("api:events")),
        "shapes": reverse("api:openapi-json"),
    }
    status = 422 if form.is_bound else 200
    return render(request, "api/tokens.html", context, status=status)


@require_POST
@coordinator_only
def token_end(request: HttpRequest, pk: int) -> HttpResponse:
    """Let a script in no more."""
    token = get_object_or_404(Token, pk=pk)
    end_token(token, by=actor_of(request))
    messages.success(request, f"{token} is let in no more. What it noted stays.")
    return redirect("scripts:token_list")
