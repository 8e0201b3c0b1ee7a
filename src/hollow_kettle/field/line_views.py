"""The log line's pages: what is typed, understood, asked about, noted."""

from __future__ import annotations

from uuid import UUID, uuid4, uuid5

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from hollow_kettle.clock import from_local
from hollow_kettle.people.access import access_of
from hollow_kettle.plan.access import event_to_log

from . import queries
from .hearing import note_heard
from .line import Ear, Heard
from .moved import WhatMoved


@require_safe
def line_preview(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Say how a line is understood, and what it would make of what is believed."""
    event = event_to_log(request, uid)
    ear = Ear(event)
    heard = ear.hear(request.GET.get("line", "")[:5000])
    for one in heard:
        ear.weigh(one)
    return render(request, "field/_heard.html", {"heard": heard})


@require_POST
def line_add(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Note what was typed; what could be two things is asked about first."""
    event = event_to_log(request, uid)
    ear = Ear(event)
    heard, others = _typed(request, ear)
    key = _key(request)
    whens = [one.said.when for one in heard if one.said and one.said.when]
    first = from_local(min(whens), event.zone) if whens else event.clock.now()
    moved = WhatMoved(event, first)
    newest = None
    for number, one in enumerate(heard):
        if one.said is not None:
            key_of_line = uuid5(key, f"{number} {one.line}")
            counts = note_heard(access_of(request), ear, one, key_of_line)
            newest = one if counts else newest
    if newest is not None and (words := moved.words()):
        newest.saved += f". {words}"
    left = [*(one for one in heard if not one.saved), *others]
    context = {
        "event": event,
        "heard": [*heard, *others]
        or [Heard("", asks="Type what you hear, like K11 13.05 V 2.4 A.")],
        "line": "\n".join(one.line for one in left),
        "line_key": uuid4() if not left or others else key,
        "may_log": True,
    }
    if not request.htmx and heard and not left:  # type: ignore[attr-defined]
        for one in heard:
            messages.success(request, f"{one.words}: {one.saved}")
        return redirect("field:board", event.pk)
    if request.htmx:  # type: ignore[attr-defined]
        answer = render(request, "field/_log_line.html", context)
        if any(one.saved for one in heard):
            answer["HX-Trigger"] = "noted"
        return answer
    context |= {
        "board": queries.board_of(event, event.clock.now()),
        "poll_url": reverse("field:board_poll", args=[event.pk]),
    }
    return render(request, "field/board.html", context, status=422)


@require_safe
def line_help(request: HttpRequest, uid: UUID) -> HttpResponse:
    """Show what the line understands, with examples to read aloud."""
    event = event_to_log(request, uid)
    return render(request, "field/line_help.html", {"event": event})


def _typed(request: HttpRequest, ear: Ear) -> tuple[list[Heard], list[Heard]]:
    """What is to be noted now; and the lines that stay for later."""
    typed = _three(request) or request.POST.get("line", "")
    heard = ear.hear(typed[:5000])
    answer = request.POST.get("answer", "")
    if not answer:
        return heard, []
    # One line's question was answered: that line is noted, the others stay.
    number, _, line = answer.partition("|")
    if not number.isdecimal():
        number, line = "0", answer
    others = [one for at, one in enumerate(heard) if at != int(number)]
    return ear.hear(line[:5000]), others


def _three(request: HttpRequest) -> str:
    """A line from the three fields of somebody who does not know the line."""
    parts = [request.POST.get(name, "").strip() for name in ("who", "reads", "when")]
    if not parts[0] and not parts[1]:
        return ""
    return " ".join(part for part in parts if part)


def _key(request: HttpRequest) -> UUID:
    try:
        return UUID(request.POST.get("key", ""))
    except ValueError:
        return uuid4()
