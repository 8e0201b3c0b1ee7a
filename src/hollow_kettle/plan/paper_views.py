"""What a crew carries out when no screen is left: rounds, slips, calendar."""

from __future__ import annotations

from datetime import UTC
from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils.text import slugify
from django.views.decorators.http import require_safe
from icalendar import Calendar
from icalendar import Event as CalendarEvent

from hollow_kettle.clock import local, real_now
from hollow_kettle.shelf.paper import SIZES, printed

from . import queries
from .access import event_or_404
from .models import Event, Rotation

#: Slips on one sheet of paper.
SLIPS = 4


@require_safe
def round_sheet(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """All walks in order on paper, and what each station does when nobody comes."""
    event, rotation = _asked(request, uid, number)
    context = _context(event, rotation) | {"stations": event.stations.all()}
    content = printed("plan/paper/round_sheet.html", context, _size(request))
    return _pdf(content, f"rounds-{rotation.number}")


@require_safe
def slips(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """One strip of paper for each walk, four on a sheet."""
    event, rotation = _asked(request, uid, number)
    context = _context(event, rotation)
    moves = context["moves"]
    context["sheets"] = [moves[n : n + SLIPS] for n in range(0, len(moves), SLIPS)]
    content = printed("plan/paper/slips.html", context, _size(request))
    return _pdf(content, f"slips-{rotation.number}")


@require_safe
def calendar(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """All walks as iCalendar (RFC 5545), so that a phone reminds its crew."""
    event, rotation = _asked(request, uid, number)
    made = Calendar()
    made.add("prodid", "-//Hollow Kettle//rounds//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", f"{event.name}, rotation {rotation.number}")
    stamp = real_now().astimezone(UTC)
    for move in _context(event, rotation)["moves"]:
        entry = CalendarEvent()
        minute = round(event.minute_of(move.arrive))
        entry.add("uid", f"{event.pk}-{move.station.pk}-{minute}@hollow-kettle.invalid")
        entry.add("dtstamp", stamp)
        entry.add("dtstart", move.leave.astimezone(UTC))
        entry.add("dtend", move.back.astimezone(UTC))
        entry.add("summary", f"{move.crew}: {words_of(move)}")
        entry.add("location", move.station.name)
        at = local(move.arrive, event.zone)
        entry.add("description", f"Be there at {at:%H:%M}.")
        made.add_component(entry)
    answer = HttpResponse(made.to_ical(), content_type="text/calendar; charset=utf-8")
    name = f"rounds-{rotation.number}.ics"
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


def words_of(move: queries.Move) -> str:
    """A walk in one line."""
    if move.bring is None:
        return f"fetch {move.bring_back} from {move.station.name}"
    back = f", bring back {move.bring_back}" if move.bring_back else ""
    return f"{move.bring} to {move.station.name}{back}"


def _asked(request: HttpRequest, uid: UUID, number: int) -> tuple[Event, Rotation]:
    event = event_or_404(request, uid)
    found = event.rotations.select_related("snapshot")
    return event, get_object_or_404(found, number=number)


def _context(event: Event, rotation: Rotation) -> dict:
    bays = dict(event.bays.values_list("pk", "name"))
    moves = queries.moves(event, rotation, queries.tags_of(event))
    return {
        "event": event,
        "rotation": rotation,
        "moves": moves,
        "lines": [(move, bays.get(move.bay) if move.bay else None) for move in moves],
        "bays": bays,
        "crews": event.crews.all(),
    }


def _size(request: HttpRequest) -> str:
    size = request.GET.get("size", "a4")
    return size if size in SIZES and size != "a6" else "a4"


def _pdf(content: bytes, name: str) -> HttpResponse:
    answer = HttpResponse(content, content_type="application/pdf")
    answer["Content-Disposition"] = f'inline; filename="{slugify(name)}.pdf"'
    return answer
