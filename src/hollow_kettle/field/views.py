"""The Field's pages: parse, call, render."""

from __future__ import annotations

from typing import Any
from uuid import UUID, uuid4

from django.contrib import messages
from django.db.models import Q
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import (
    require_http_methods,
    require_POST,
    require_safe,
)

from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.log.services import Receipt
from hollow_kettle.people.access import access_of, actor_of, coordinator_only
from hollow_kettle.plan.access import event_or_404, event_to_log, events_visible_to
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.shelf.models import Asset

from . import queries, services
from .forms import LONG_AGO
from .moved import WhatMoved
from .noting import note_and_hold, note_near_miss
from .phone import author_token
from .times import typed_moment
from .whats import FORMS
from .words import names_of, words_of


@require_safe
def home(request: HttpRequest) -> HttpResponse:
    """Go to the event under way, or say that there is none."""
    events = events_visible_to(access_of(request))
    running = events.filter(state=Event.State.RUNNING).first()
    if running is not None:
        return redirect("field:board", running.pk)
    coming = events.filter(state=Event.State.PLANNED).order_by("starts_at").first()
    return render(request, "field/home.html", {"coming": coming})


@require_safe
def board(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the live board."""
    event = event_or_404(request, uid)
    context = {
        "event": event,
        "board": queries.board_of(event, event.clock.now()),
        "may_log": access_of(request).may_log_something(event.pk),
        "line_key": uuid4(),
        "poll_url": reverse("field:board_poll", args=[event.pk]),
    }
    return render(request, "field/board.html", context)


@require_safe
def board_poll(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Give the board again, or 204 when nothing changed since version `v`."""
    event = event_or_404(request, uid)
    now = event.clock.now()
    log = queries.log_state(event)
    shown = request.GET.get("v")
    if not log.is_behind and shown == queries.version_of(event, now, log=log):
        return HttpResponse(status=204)
    context = {
        "event": event,
        "board": queries.board_of(event, now),
        "may_log": access_of(request).may_log_something(event.pk),
        "poll_url": reverse("field:board_poll", args=[event.pk]),
    }
    return render(request, "field/_live.html", context)


@require_POST
@coordinator_only
def set_up(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Note that all stands as the plan begins, and is full."""
    event = event_or_404(request, uid)
    now, text = event.clock.now(), request.POST.get("taken", "").strip()
    at = typed_moment(text, now, event.zone) if text else now
    is_vague = at is not None and "-" not in text and now - at > LONG_AGO
    if (
        at is None
        or is_vague
        or at > now + services.AHEAD
        or services.is_far_outside(event, at)
    ):
        messages.error(
            request,
            f"Nothing was logged: write the time like 13:40, with its date where it is "
            f"long ago, not later than now; not “{text[:20]}”.",
        )
        return redirect("field:board", event.pk)
    count = services.note_set_up(event, by=actor_of(request), at=at)
    if count:
        messages.success(
            request, f"{count} batteries are logged where the plan starts them."
        )
    else:
        messages.warning(
            request, "Publish a rotation first: it says where each battery starts."
        )
    return redirect("field:board", event.pk)


@require_safe
def log_list(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the log, newest first."""
    event = event_or_404(request, uid)
    names = names_of(event)
    tags = dict(Asset.objects.values_list("pk", "tag"))
    access = access_of(request)
    may_strike = access.is_coordinator or access.may_log_something(event.pk)
    context = {
        "event": event,
        "may_log": access.may_log_something(event.pk),
        "tags": tags,
        "may_strike": may_strike,
        "names": names,
        "rows": [
            (entry, words_of(entry, tags, names), _may_strike(request, entry))
            for entry in queries.entries_of(event)
        ],
    }
    return render(request, "field/log_list.html", context)


def _may_strike(request: HttpRequest, entry: FieldEntry) -> bool:
    if entry.kind == Kind.STRIKE or entry.is_struck:  # type: ignore[attr-defined]
        return False
    access = access_of(request)
    return access.is_coordinator or (
        access.actor is not None and entry.actor_id == access.actor.pk
    )


@require_http_methods(["GET", "POST"])
def entry_add(request: HttpRequest, uid: UUID, what: str) -> HttpResponse:
    """Note one thing."""
    if what not in FORMS:
        raise Http404
    event = event_to_log(request, uid)
    _, form_class = FORMS[what]
    initial = {
        name: request.GET[name]
        for name in ("tag", "station", "what")
        if name in request.GET
    }
    form = form_class(request.POST or None, event=event, initial=initial)
    if request.method == "GET":
        form.offer_own(access_of(request).own_stations(event.pk))
    if request.method == "POST" and form.is_valid():
        moved = WhatMoved(event, form.cleaned_data["taken"])
        receipt, held = note_and_hold(access_of(request), event, what, form)
        if receipt is not None:
            tell(request, event, receipt, FORMS[what][0])
            if receipt.counts_newly and (words := moved.words()):
                messages.info(request, words)
            if held:
                messages.warning(
                    request, f"On hold until somebody releases it: {', '.join(held)}."
                )
            return redirect("field:log_list", event.pk)
    if form.stops:
        note_near_miss(access_of(request), event, form)
    status = 422 if form.is_bound else 200
    context = {
        "event": event,
        "form": form,
        "what": what,
        "kinds": [(key, label) for key, (label, _) in FORMS.items()],
        "tags": event.batteries.order_by("tag"),
        "labels": _labels(event),
        "now": event.clock.now(),
        "author": author_token(actor_of(request)),
    }
    return render(request, "field/entry_add.html", context, status=status)


def _labels(event: Event) -> dict[str, dict[str, str]]:
    """What the labels are that are scanned at an event, by their token."""
    batteries = event.batteries.values_list("token", "tag")
    found: dict[str, dict[str, str]] = {token: {"tag": tag} for token, tag in batteries}
    bays = event.bays.exclude(charger=None).values_list("charger__token", "pk", "name")
    found |= {token: {"to": str(pk), "name": name} for token, pk, name in bays}
    return found


def tell(request: HttpRequest, event: Event, receipt: Receipt, what: str) -> None:
    """Say what became of what was sent."""
    if receipt.standing != "kept":
        messages.warning(
            request,
            f"Kept aside ({receipt.standing}): {receipt.why}. A coordinator will look "
            "at it.",
        )
    elif receipt.is_repeat:
        messages.success(request, f"{what} was saved before; it counts once.")
    else:
        more = " The debrief is worked out again." if is_closed(event) else ""
        messages.success(request, f"{what} is saved.{more}")


def is_closed(event: Event) -> bool:
    """Whether what is noted by now changes the debrief."""
    return event.state == Event.State.CLOSED


@require_safe
def find(request: HttpRequest) -> HttpResponse:
    """Find assets and stations by a part of their tag or name."""
    text = request.GET.get("q", "").strip()[:40]
    access = access_of(request)
    found: dict[str, Any] = {"q": text, "assets": [], "stations": []}
    if text:
        named = Q(tag__icontains=text) | Q(name__icontains=text)
        found["assets"] = Asset.objects.here().filter(named)[:8]
        found["stations"] = Station.objects.filter(
            name__icontains=text, event__in=events_visible_to(access)
        ).select_related("event")[:8]
    return render(request, "field/_found.html", found)
