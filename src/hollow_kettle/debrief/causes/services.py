"""Having the causes of an event worked out."""

from __future__ import annotations

import hashlib
from collections.abc import Callable

import msgspec
from django.db import transaction
from django.db.models import Count, Max
from procrastinate.contrib.django import app

from hollow_kettle.clock import real_now
from hollow_kettle.debrief.history import History, baseline_of
from hollow_kettle.debrief.models import Causes, Shortfall
from hollow_kettle.debrief.shortfalls.queries import falls_of
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.plan.models import Event
from powercore.debrief.attribute import Attribution, attribute

from .bridge import Game, game_of
from .words import sentences_of


def basis_of(event: Event) -> str:
    """A digest of all that the causes of an event are worked out from."""
    log = FieldEntry.objects.filter(event_key=event.pk)
    said = Shortfall.objects.filter(event=event)
    parts = [
        *log.aggregate(Max("pk"), Count("pk")).values(),
        *said.aggregate(Max("made_at"), Count("pk")).values(),
        getattr(baseline_of(event), "pk", None),
    ]
    return hashlib.sha256(repr(parts).encode()).hexdigest()


def ask(event: Event) -> Causes | None:
    """
    Have the causes of an event worked out by the worker.

    None where no plan was published before it began: there is nothing to compare.
    """
    baseline = baseline_of(event)
    if baseline is None:
        return None
    with transaction.atomic():
        row, _ = Causes.objects.update_or_create(
            event=event,
            defaults={
                "baseline": baseline,
                "asked_at": real_now(),
                "progress": 0.0,
                "content": None,
                "has_failed": False,
            },
        )
        app.configure_task(
            "hollow_kettle.debrief.tasks.causes", allow_unknown=False
        ).defer(causes_id=row.pk)
    return row


def work_out(
    row: Causes, told: Callable[[float], None] = lambda share: None
) -> tuple[History, Game, Attribution]:
    """Work the causes of an event out, and keep them; what was shared, and how."""
    event = row.event
    basis = basis_of(event)
    history = History(event, event.clock.now())
    falls = falls_of(history)
    game = game_of(history, falls, row.baseline)
    found = attribute(game.problem, game.legs, game.actual, told=told)
    row.content = msgspec.to_builtins(found)
    row.words = sentences_of(history, falls, game, found) | {
        "unplanned": ", ".join(game.unplanned)
    }
    row.basis, row.progress, row.has_failed = basis, 1.0, False
    row.save()
    return history, game, found


def attribution_of(row: Causes) -> Attribution | None:
    """The causes of an event as the core gave them; None: not worked out."""
    if row.content is None:
        return None
    try:
        return msgspec.convert(row.content, Attribution)
    except msgspec.ValidationError:  # kept by another version: to be worked out again
        return None
