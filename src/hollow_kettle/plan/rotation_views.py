"""The rotation board's pages: parse, call, render."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.people.access import actor_of, coordinator_only
from powercore.rotation.problem import SERVE

from . import board, queries, rotations
from .access import event_or_404
from .models import Event, Leg, Rotation
from .stress_page import stress_page
from .why_page import why_page


@require_safe
def rotation(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the rotation board of the rotation that counts."""
    event = event_or_404(request, uid)
    return _board_page(request, event, queries.current_rotation(event))


@require_safe
def rotation_detail(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Show the rotation board of one draft or past rotation."""
    event = event_or_404(request, uid)
    return _board_page(
        request, event, get_object_or_404(event.rotations, number=number)
    )


def _board_page(
    request: HttpRequest, event: Event, found: Rotation | None
) -> HttpResponse:
    context: dict[str, Any] = {"event": event, "rotation": found}
    if found is not None:
        now = event.clock.now() if event.state == Event.State.RUNNING else None
        tags = queries.tags_of(event)
        every = queries.moves(event, found, tags)
        coming = [move for move in every if now is None or move.arrive >= now]
        context |= {
            "board": board.board_of(event, found, now),
            "now": now,
            "moves": coming[:5],
            "later": len(coming) - 5,
            "every_move": every,
            "others": event.rotations.exclude(pk=found.pk)[:6],
            "search": queries.search_of(event),
            "stress": stress_page(event, found),
        }
    return render(request, "plan/rotation.html", context)


@require_POST
@coordinator_only
def rotation_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Make a rotation: for the whole event, or from now on while it runs."""
    event = event_or_404(request, uid)
    at = event.clock.now() if event.state == Event.State.RUNNING else None
    try:
        made = rotations.make_rotation(event, by=actor_of(request), at=at)
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
        return redirect("plan:rotation", event.pk)
    messages.success(request, f"Draft {made.number} is complete and breaks no rule.")
    return redirect("plan:rotation_detail", event.pk, made.number)


@require_POST
@coordinator_only
def rotation_publish(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Make a draft the rotation that everybody works by."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    rotations.publish(found)
    messages.success(
        request, f"Rotation {number} is published; field and debrief use it."
    )
    return redirect("plan:rotation", event.pk)


@require_POST
@coordinator_only
def search_add(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Look for a better rotation than this one, in the background."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    try:
        rotations.look_for_better(found, by=actor_of(request))
    except ValidationError as error:
        messages.error(request, " ".join(error.messages))
    return redirect("plan:rotation_detail", event.pk, number)


@require_safe
def search_detail(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Send how far a search is; when it has ended, have the page load anew."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.searches.select_related("rotation", "best"), pk=pk)
    context = {"event": event, "search": found}
    answer = render(request, "plan/_search.html", context)
    if not found.is_active and request.headers.get("HX-Request"):
        answer["HX-Refresh"] = "true"
    return answer


@require_POST
@coordinator_only
def search_stop(request: HttpRequest, uid: UUID, pk: int) -> HttpResponse:
    """Stop a search; it keeps the best that it found."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.searches.select_related("rotation"), pk=pk)
    rotations.stop_looking(found)
    return redirect("plan:rotation_detail", event.pk, found.rotation.number)


@require_POST
@coordinator_only
def trial_add(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Have a rotation tried in many futures, in the background."""
    event = event_or_404(request, uid)
    rotations.try_futures(get_object_or_404(event.rotations, number=number))
    return redirect("plan:rotation_detail", event.pk, number)


@require_safe
def trial_detail(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """Send what is known of a rotation in many futures."""
    event = event_or_404(request, uid)
    found = get_object_or_404(event.rotations, number=number)
    context = {
        "event": event,
        "rotation": found,
        "stress": stress_page(event, found),
    }
    return render(request, "plan/_stress.html", context)


@require_safe
def leg_why(request: HttpRequest, uid: UUID, number: int, pk: int) -> HttpResponse:
    """Send why a battery serves a station from a minute on."""
    event = event_or_404(request, uid)
    legs = Leg.objects.filter(rotation__event=event, rotation__number=number)
    legs = legs.select_related("rotation__snapshot").filter(kind=SERVE)
    leg = get_object_or_404(legs, pk=pk)
    context = {"event": event, "why": why_page(event, leg)}
    return render(request, "plan/_why.html", context)
