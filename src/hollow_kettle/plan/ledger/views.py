"""The event sheet, and what is asked beside it."""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID

from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from hollow_kettle.clock import from_local, local, told
from hollow_kettle.people.access import access_of
from hollow_kettle.plan.access import event_or_404, events_visible_to, station_or_404
from hollow_kettle.plan.changelog import notes_of
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.policy import policy_of
from hollow_kettle.shelf.actions.queries import open_for
from hollow_kettle.ui.forms import NumberField, time_of_day
from powercore.futures.whatif import Change
from powercore.limits import Limit
from powercore.values import Window

from .compare import compare, requests_of
from .demand import set_page
from .learned import questions
from .page import ledger_page
from .whatif import what_if_page


@require_safe
def event_detail(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show the energy ledger."""
    event = event_or_404(request, uid)
    page = ledger_page(event, request.GET.get("sky", ""))
    context = {
        "event": event,
        "page": page,
        "policy": policy_of(event),
        "changes": notes_of(event)[:LATEST_CHANGES],
        "questions": questions(event),
        "open_actions": open_for(
            event.stations.values_list("name", flat=True),
            event.batteries.values_list("pk", flat=True),
        )[:MOST_ACTIONS],
    }
    return render(request, "plan/event_detail.html", context)


#: Changes that stand beside the ledger; the others are a page further.
LATEST_CHANGES = 4
#: Open actions that stand beside a plan.
MOST_ACTIONS = 5
#: What a coordinator may ask "what if" about.
WHAT_IF_KINDS = (
    ("low", "low power, from – to"),
    ("watch", "receive watch, from – to"),
    ("off", "a load off, from – to"),
    ("own_bank", "a load on a bank of its own"),
    ("spare", "a battery waits there as spare"),
    ("battery", "another first battery"),
    ("panels", "100 W panels more or fewer (number)"),
    ("duty", "transmits this % of the plan"),
    ("reserve", "reserve higher or lower by (points)"),
)


@require_safe
def what_if(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Show what changes at a station would buy; a fragment."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    trouble, change = "", None
    if request.GET.get("kind"):
        try:
            change = _own_change(request, event)
        except ValidationError as error:
            trouble = " ".join(error.messages)
    page = what_if_page(event, station, request.GET.get("sky", ""), change)
    context = {
        "event": event,
        "page": page,
        "asked": request.GET,
        "kinds": WHAT_IF_KINDS,
        "trouble": trouble or page.trouble,
    }
    return render(request, "plan/_what_if.html", context)


@require_safe
def parallel_set(request: HttpRequest, uid: UUID, station_uid: UUID) -> HttpResponse:
    """Show what some batteries would give side by side; a fragment."""
    event = event_or_404(request, uid)
    station = station_or_404(event, station_uid)
    page = set_page(event, station, request.GET.getlist("set"))
    context = {"event": event, "station": station, "page": page}
    return render(request, "plan/_set.html", context)


def _own_change(request: HttpRequest, event: Event) -> Change:
    """
    Read the coordinator's own change.

    Raises
    ------
    ValidationError
        Naming what is missing or out of range.
    """
    asked = request.GET
    kind = asked.get("kind", "")
    window = _asked_window(asked.get("from", ""), asked.get("until", ""), event)
    during = ""
    if window is not None:
        first, last = (
            told(event.moment_of(minute), event.zone)
            for minute in (window.start_min, window.end_min)
        )
        during = f" from {first} to {last}"
    if kind in ("low", "watch"):
        words = "low power" if kind == "low" else "receive watch"
        return Change(words=f"{words}{during}", kind=kind, window=window)
    if kind == "off":
        what = asked.get("load", "")
        return Change(words=f"{what} off{during}", kind="off", what=what, window=window)
    if kind == "own_bank":
        what = asked.get("load", "")
        words = f"{what or 'a load'} on a bank of its own"
        return Change(words=words, kind="off", what=what)
    if kind in ("battery", "spare"):
        found = {str(pk): tag for pk, tag in event.unit_tags.items()}
        key = asked.get("battery", "")
        if key not in found:
            raise ValidationError("Choose a battery of the event.")
        words = "as first battery" if kind == "battery" else "waits there as spare"
        return Change(words=f"{found[key]} {words}", kind=kind, what=key)
    limits = {"duty": (10, 300, "%"), "panels": (-10, 10, ""), "reserve": (-50, 50, "")}
    if kind not in limits:
        raise ValidationError("Choose what changes.")
    low, high, unit = limits[kind]
    field = NumberField(label="How much", limit=Limit(low, high, unit))
    amount = field.clean(asked.get("amount", ""))
    assert amount is not None  # noqa: S101 - the field is required
    if kind == "duty":
        words = f"transmits {amount:g} % of what is planned"
        return Change(words=words, kind=kind, amount=amount / 100)
    if kind == "reserve":
        words = f"reserve {amount:+g} points"
        return Change(words=words, kind=kind, amount=amount / 100)
    words = f"{amount:+g} panels of 100 W"
    return Change(words=words, kind=kind, amount=amount)


def _asked_window(first: str, last: str, event: Event) -> Window | None:
    """From one time of day to another, the first such stretch of the event."""
    if not first and not last:
        return None
    try:
        begin, end = time_of_day(first), time_of_day(last)
    except ValueError as error:
        raise ValidationError(
            "Write both times of day like 22:00, or leave both empty."
        ) from error
    day = local(event.starts_at, event.zone).date()
    for _ in range(event.span_min // 1440 + 2):
        starts = datetime.combine(day, begin)
        ends = datetime.combine(day + timedelta(days=end <= begin), end)
        a = max(0, round(event.minute_of(from_local(starts, event.zone))))
        b = min(event.span_min, round(event.minute_of(from_local(ends, event.zone))))
        if b > a:
            return Window(start_min=a, end_min=b)
        day += timedelta(days=1)
    raise ValidationError("That is outside the event.")


@require_safe
def event_compare(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Set two events side by side."""
    event = event_or_404(request, uid)
    visible = events_visible_to(access_of(request)).exclude(pk=event.pk)
    others = sorted(visible, key=lambda one: one.pk != event.copied_from_id)
    asked = [one for one in others if str(one.pk) == request.GET.get("with", "")]
    other = next(iter([*asked, *others]), None)
    found = compare(event, other) if other is not None else None
    context = {"event": event, "other": other, "others": others, "found": found}
    return render(request, "plan/event_compare.html", context)


@require_safe
def resource_request(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show what an event lacks: what, how many, needed by when."""
    event = event_or_404(request, uid)
    context = {"event": event, "found": requests_of(event)}
    return render(request, "plan/resource_request.html", context)
