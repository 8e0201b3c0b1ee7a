"""The club's corrective actions."""

from __future__ import annotations

from uuid import UUID

from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.people.access import access_of, actor_of, coordinator_only
from hollow_kettle.people.club import today
from hollow_kettle.shelf.models import Action

from . import services
from .forms import ActionForm, EndForm
from .queries import actions, is_late, themes


@require_safe
def action_list(request: HttpRequest) -> HttpResponse:
    """Show what is to be done, what keeps coming back, and what was done."""
    found = list(actions())
    now = today()
    context = {
        "open": [(one, is_late(one, now)) for one in found if one.is_open],
        "ended": [one for one in reversed(found) if not one.is_open],
        "themes": themes(found),
        "me": access_of(request).actor,
    }
    return render(request, "shelf/action_list.html", context)


@require_http_methods(["GET", "HEAD", "POST"])
@coordinator_only
def action_add(request: HttpRequest) -> HttpResponse:
    """Enter an action that no debrief asked for."""
    return edit(request, Action())


@require_http_methods(["GET", "HEAD", "POST"])
@coordinator_only
def action_edit(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Change an action."""
    return edit(request, get_object_or_404(actions(), pk=uid))


def edit(
    request: HttpRequest,
    action: Action,
    *,
    event: tuple[UUID, str] | None = None,
    back: str = "",
    initial: dict[str, str] | None = None,
) -> HttpResponse:
    """Show or keep an action; a debrief hands its event over, and where to go back."""
    if request.method == "POST":
        form = ActionForm(request.POST, instance=action)
        if form.is_valid():
            services.save_action(
                form.save(commit=False),
                asset=form.cleaned_data["asset"],
                by=actor_of(request),
                event=event,
            )
            messages.success(request, "The action is saved.")
            return redirect(back or "shelf:action_list")
    else:
        form = ActionForm(instance=action, initial=initial or {})
    context = {"action": action, "form": form, "back": back}
    status = 422 if form.errors else 200
    return render(request, "shelf/action_edit.html", context, status=status)


@require_POST
def action_end(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Say that an action is done or dropped; its owner may, and a coordinator."""
    action = _own_or_403(request, uid)
    form = EndForm(request.POST)
    if form.is_valid():
        services.end_action(action, **form.cleaned_data)
        messages.success(request, "Noted.")
    else:
        messages.error(request, "Say what was done, or why it is not going to be.")
    return redirect("shelf:action_list")


@require_POST
def action_reopen(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Say that an action is still to be done."""
    services.reopen_action(_own_or_403(request, uid))
    messages.success(request, "It is open again.")
    return redirect("shelf:action_list")


def _own_or_403(request: HttpRequest, uid: UUID) -> Action:
    action = get_object_or_404(Action, pk=uid)
    access = access_of(request)
    is_owner = access.actor is not None and action.owner == access.actor
    if not (access.is_coordinator or is_owner):
        raise PermissionDenied
    return action
