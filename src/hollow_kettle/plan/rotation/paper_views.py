"""What a crew carries out when no screen is left: rounds, slips, calendar."""

from __future__ import annotations

from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_safe

from hollow_kettle.clock import told
from hollow_kettle.exchange.answers import file_answer
from hollow_kettle.exchange.calendars import Entry, as_ical
from hollow_kettle.plan.access import event_or_404
from hollow_kettle.plan.models import Event, Pin, Rotation
from hollow_kettle.plan.yard.queries import unwatched_bays
from hollow_kettle.shelf.prints.paper import SIZES, printed
from hollow_kettle.shelf.prints.views import pdf

from . import queries
from .following import moves_now
from .moves import Move, moves_of
from .pages.board import board_of
from .pages.change import pin_rows, step_rows
from .starts import starts_of

#: Slips on one sheet of paper.
SLIPS = 4
#: Paper that walks are printed on, and the board.
SHEETS = ("a4", "letter")
WALL = ("a3", "a4", "letter")
#: Up to which share of its width in height a board is printed on a sheet that lies;
#: what margins and words take of a sheet's height.
LYING, ROUND_IT_MM = 0.6, 95


@require_safe
def round_sheet(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """All walks in order on paper, and what each station does when nobody comes."""
    event, rotation = _asked(request, uid, number)
    lowered = [
        row.words
        for row in (*pin_rows(event, rotation), *step_rows(event, rotation))
        if row.is_kept and row.pin.kind == Pin.Kind.LOW
    ]
    context = _context(event, rotation)
    stations = event.stations.all()
    context |= {
        "stations": stations,
        "hazards": [one for one in stations if one.hazards],
        "starts": starts_of(event, rotation),
        "lowered": lowered,
    }
    content = printed("plan/paper/round_sheet.html", context, _size(request))
    return pdf(content, f"rounds-{rotation.number}")


@require_safe
def wall_board(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """
    The board for a wall: one A3, or two sheets side by side.

    A board of many lanes stands upright.
    """
    event, rotation = _asked(request, uid, number)
    pins, steps = pin_rows(event, rotation), step_rows(event, rotation)
    drawing = board_of(event, rotation, None, pins=[*pins, *steps])
    size = _size(request, WALL)
    halves = 1 if size == "a3" else 2
    is_wide = halves == 1 and drawing.height < LYING * drawing.width
    page_mm = SIZES[size][0 if is_wide else 1]
    context = {
        "event": event,
        "rotation": rotation,
        "board": drawing,
        "views": [
            (n * drawing.width / halves, drawing.width / halves) for n in range(halves)
        ],
        "most_mm": page_mm - ROUND_IT_MM,
        "crews": event.crews.filter(ends_at__gt=event.starts_at),
        "unwatched": unwatched_bays(event),
        "pins": [row.words for row in pins if row.is_kept],
        "steps": [row.words for row in steps],
    }
    content = printed("plan/paper/board.html", context, size, is_wide=is_wide)
    return pdf(content, f"board-{rotation.number}")


@require_safe
def slips(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """One strip of paper for each walk that is still to be made, four on a sheet."""
    event, rotation = _asked(request, uid, number)
    context = _context(event, rotation)
    moves = context["to_come"]
    context["sheets"] = [moves[n : n + SLIPS] for n in range(0, len(moves), SLIPS)]
    content = printed("plan/paper/slips.html", context, _size(request))
    return pdf(content, f"slips-{rotation.number}")


@require_safe
def calendar(request: HttpRequest, uid: UUID, number: int) -> HttpResponse:
    """All walks as iCalendar (RFC 5545), so that a phone reminds its crew."""
    event, rotation = _asked(request, uid, number)
    entries = walks_of(event, rotation)
    content = as_ical(f"{event.name}, rotation {rotation.number}", entries)
    name = f"rounds-{rotation.number}.ics"
    return file_answer(content, "text/calendar; charset=utf-8", name)


def walks_of(event: Event, rotation: Rotation) -> list[Entry]:
    """Its walks as entries of a calendar."""
    return [
        Entry(
            key=_key(event, move),
            words=f"{move.crew or 'operators'}: {move.words}",
            starts_at=move.leave,
            ends_at=move.back,
            location=move.station.name,
            more=f"Be there at {told(move.arrive, event.zone)}.",
        )
        for move in _context(event, rotation)["moves"]
    ]


def _key(event: Event, move: Move) -> str:
    """What a calendar knows an entry by: two at one stop differ by their battery."""
    minute = round(event.minute_of(move.arrive))
    spare = f"-{move.bring or move.bring_back}" if move.is_spare else ""
    return f"{event.pk}-{move.station.pk}-{minute}{spare}"


def _asked(request: HttpRequest, uid: UUID, number: int) -> tuple[Event, Rotation]:
    event = event_or_404(request, uid)
    found = event.rotations.select_related("snapshot")
    return event, get_object_or_404(found, number=number)


def _context(event: Event, rotation: Rotation) -> dict:
    bays = dict(event.bays.values_list("pk", "name"))
    moves = moves_of(event, rotation, queries.tags_of(rotation))
    is_running = event.state == Event.State.RUNNING
    now = event.clock.now() if is_running else None
    states = moves_now(event, rotation, moves, now)[: len(moves)]
    return {
        "event": event,
        "rotation": rotation,
        "moves": moves,
        "lines": [
            (one, one.move, bays.get(one.move.bay) if one.move.bay else None)
            for one in states
        ],
        "to_come": [one.move for one in states if one.is_open],
        "unwatched": unwatched_bays(event),
    }


def _size(request: HttpRequest, sizes: tuple[str, ...] = SHEETS) -> str:
    size = request.GET.get("size", sizes[0])
    return size if size in sizes else sizes[0]
