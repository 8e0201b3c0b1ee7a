"""Batteries of a station in an order by hand: pins at the start of each turn."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.models import Event, Pin, Station
from powercore.errors import PowercoreError
from powercore.futures.budget import endurance

#: How long a battery is pinned at the start of its turn; the rest is the planner's.
TURN = timedelta(minutes=30)
#: Turns are reckoned in steps of so many minutes.
_STEP = 5


@transaction.atomic
def order_by_hand(
    event: Event, station: Station, tags: list[str], *, by: Actor
) -> list[tuple[str, datetime]]:
    """
    Pin batteries to a station in turn, each once the last is at its reserve.

    An earlier order there is lifted. Before each turn ends the planner is free to
    relieve it sooner.

    Returns
    -------
    list of (str, datetime)
        Each battery with the start of its turn; what begins after the event is left
        out.

    Raises
    ------
    ValidationError
        If a tag takes no part, comes twice, or can't feed the station, with why.
    """
    try:
        problem = problem_for(event).problem
        lasts = {one.battery: one for one in endurance(problem, str(station.pk))}
    except PowercoreError as error:
        raise ValidationError(str(error)) from error
    known = {tag.casefold(): (key, tag) for key, tag in event.unit_tags.items()}
    seen: set[str] = set()
    starts, turns = event.starts_at, []
    pins = []
    for said in tags:
        key, tag = known.get(said.casefold(), (None, said))
        one = lasts.get(str(key))
        if key is None or one is None:
            raise ValidationError(f"{said[:20]} takes no part, or is on hold.")
        if tag in seen:
            raise ValidationError(f"{tag} stands there twice.")
        if one.refusal:
            raise ValidationError(f"{tag} can't feed {station}: {one.refusal}.")
        seen.add(tag)
        if starts >= event.ends_at:
            break
        turns.append((tag, starts))
        pins.append(
            Pin(
                event=event,
                kind=Pin.Kind.STAYS,
                battery_id=key,
                place=station.pk,
                starts_at=starts,
                ends_at=min(starts + TURN, event.ends_at),
                made_by=by,
            )
        )
        minutes = min(60 * one.to_reserve_h, event.span_min)
        starts += timedelta(minutes=max(_STEP, minutes // _STEP * _STEP))
    old = event.pins.filter(
        kind=Pin.Kind.STAYS, place=station.pk, draft=None, lifted_at=None
    )
    old.update(lifted_at=event.clock.now())
    Pin.objects.bulk_create(pins)
    note(event, by, f"{station}: order by hand {', '.join(tag for tag, _ in turns)}")
    return turns
