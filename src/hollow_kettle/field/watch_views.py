"""What the watch does with the board: moves told and left, stand-down, handover."""

from __future__ import annotations

from datetime import timedelta
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.clock import told
from hollow_kettle.log.models import (
    CALLS,
    MOVE_STATES,
    BatteryNow,
    FieldEntry,
    Kind,
    PlaceKind,
)
from hollow_kettle.log.services import counting
from hollow_kettle.people.access import access_of, actor_of
from hollow_kettle.plan.access import event_or_404, event_to_log
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.rotation.starts import starts_of
from powercore.physics.chemistry import chemistry_of

from . import queries, services
from .alarms import CAUSES, DANGER
from .tear_down import ends_of, losses_of

#: Who noted something so lately is still about.
LATELY = timedelta(hours=3)
#: A handover names what sources and crews do in so many hours.
AHEAD = timedelta(hours=8)


@require_POST
def move_state(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Note that a crew was told of a move, or left for it."""
    event = event_to_log(request, uid)
    what = request.POST.get("what", "")
    station = event.stations.filter(pk=_key(request, "station")).first()
    battery = event.batteries.filter(pk=_key(request, "battery")).first()
    if what not in MOVE_STATES or station is None or battery is None:
        messages.warning(request, "That move is not planned any more.")
        return redirect("field:board", event.pk)
    if not access_of(request).may_log(event.pk, station.pk):
        raise PermissionDenied
    services.log_move_state(
        event,
        station,
        battery=battery.pk,
        what=what,
        by=actor_of(request),
        at=event.clock.now(),
    )
    done = "was told" if what == Kind.TOLD else "left"
    messages.success(request, f"The crew with {battery} for {station} {done}.")
    return redirect("field:board", event.pk)


def _key(request: HttpRequest, name: str) -> UUID:
    """What was sent as a key; one that nothing has, where it is none."""
    try:
        return UUID(request.POST.get(name, ""))
    except ValueError:
        return UUID(int=0)


@require_POST
def call(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Stop all walks, or let them go on; whoever logs may."""
    event = event_to_log(request, uid)
    what = request.POST.get("what", "")
    if what not in CALLS:
        messages.warning(request, "Say whether to stand down or that all is clear.")
        return redirect("field:board", event.pk)
    services.note(event, what, by=actor_of(request), at=event.clock.now())
    if what == Kind.STAND_DOWN:
        messages.warning(request, "All walks are stopped. Tell everybody who is out.")
    else:
        messages.success(request, "All clear. Replan from now before anybody walks.")
    return redirect("field:board", event.pk)


@require_POST
def alarm_seen(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Note that somebody takes an alarm on; it is theirs by name."""
    event = event_to_log(request, uid)
    station = event.stations.filter(pk=_key(request, "station")).first()
    cause = request.POST.get("cause", "")
    if cause not in CAUSES or (station is None and cause != DANGER):
        messages.warning(request, "That alarm is over.")
        return redirect("field:board", event.pk)
    services.note(
        event,
        Kind.SEEN,
        by=actor_of(request),
        at=event.clock.now(),
        station_key=station.pk if station else None,
        note=cause,
    )
    return redirect("field:board", event.pk)


@require_safe
def handover(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show one page for the next watch."""
    event = event_or_404(request, uid)
    now = event.clock.now()
    board = queries.board_of(event, now)
    context = {
        "event": event,
        "board": board,
        "held": [b for b in board.batteries if b.is_held],
        "crews": event.crews.filter(ends_at__gt=now, starts_at__lt=now + AHEAD),
        "people": _about(event),
        "notes": counting(
            FieldEntry.objects.filter(
                event_key=event.pk, kind=Kind.NOTE, effective_at__gt=now - LATELY
            )
        ).order_by("-effective_at")[:6],
    }
    return render(request, "field/handover.html", context)


@require_safe
def set_up_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show in which order each station is set up, its battery last."""
    event = event_or_404(request, uid)
    rotation = published(event)
    starts = starts_of(event, rotation)
    here = BatteryNow.objects.filter(
        place__kind=PlaceKind.POSITION, place__event_key=event.pk
    ).values_list("place__station_key", "battery", "since")
    tags = dict(event.batteries.values_list("pk", "tag"))
    logged = {
        station: f"{tags.get(battery, 'a battery')} in since {told(since, event.zone)}"
        for station, battery, since in here
        if since is not None
    }
    chemistries = event.batteries.values_list("battery__chemistry", flat=True)
    cautions = [chemistry_of(key).caution for key in chemistries.distinct() if key]
    context = {
        "event": event,
        "rotation": rotation,
        "starts": starts,
        "rows": [(one, logged.get(one.station.pk, "")) for one in starts.stations],
        "cautions": list(dict.fromkeys(cautions)),
    }
    return render(request, "field/set_up.html", context)


@require_safe
def tear_down(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show in which order each station is taken down, and what goes home."""
    event = event_or_404(request, uid)
    starts = starts_of(event, published(event))
    context = {
        "event": event,
        "rows": ends_of(event, starts.stations),
        "losses": losses_of(event),
    }
    return render(request, "field/tear_down.html", context)


def _about(event: Event) -> list[str]:
    """Who noted something lately."""
    lately = event.clock.now() - LATELY
    names = (
        FieldEntry.objects.filter(event_key=event.pk, effective_at__gt=lately)
        .order_by("actor__name")
        .values_list("actor__name", flat=True)
        .distinct()
    )
    return list(names)
