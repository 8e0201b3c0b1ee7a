"""Actions of an event's debrief: those that are taken, and those that suggest."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from urllib.parse import urlencode

from hollow_kettle.debrief.causes.services import attribution_of
from hollow_kettle.debrief.models import Causes
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.actions.queries import actions
from hollow_kettle.shelf.models import Action
from powercore.debrief.attribute import CauseLedger

#: A share of less suggests nothing. [min]
WORTH_MIN = 10
MOST = 6
#: What a cause suggests, by the station's name.
WORDS = {
    "load": "Plan {station} with what it really draws, or agree on low power",
    "sun": "Measure what the panels at {station} give, and plan with that",
    "capacity": "Test the capacity of the batteries that served {station}",
    "start": "Prove the batteries for {station} full before they leave",
    "moves": "Give the walks to {station} more slack, or a spare that waits there",
    "source": "Have a second source or a bank ready for the yard",
    "fault": "Mend what failed at {station}, and pack a spare",
    "unexplained": "Read {station} every hour, so that next time is explained",
}


@dataclass(frozen=True, slots=True)
class Suggestion:
    """What a cause suggests to do, ready to be taken on."""

    words: str
    evidence: str
    query: str


@dataclass(frozen=True, slots=True)
class Page:
    """The actions of an event's debrief."""

    taken: list[Action]
    suggestions: list[Suggestion]


def page_of(event: Event) -> Page:
    """The actions that came of an event, and what its causes suggest."""
    taken = list(actions().filter(event_key=event.pk))
    about = {(one.words, one.station) for one in taken}
    found = [one for one in _suggested(event) if (one[1], one[2]) not in about]
    found.sort(key=lambda one: -one[0])
    return Page(
        taken=taken,
        suggestions=[
            Suggestion(words, why, _query(words, at, why))
            for _, words, at, why in found[:MOST]
        ],
    )


def _suggested(event: Event) -> Iterator[tuple[float, str, str, str]]:
    """Minutes, words, station and evidence of what causes suggest."""
    row = Causes.objects.filter(event=event).first()
    found = attribution_of(row) if row else None
    if found is None or row is None:
        return
    names = {str(one.pk): one.name for one in event.stations.all()}
    for ledger in found.stations:
        if ledger.station in names:
            name = names[ledger.station]
            yield from _of_station(ledger, name, row.words.get(ledger.station, {}))


def _of_station(
    ledger: CauseLedger, name: str, said: dict[str, str]
) -> Iterator[tuple[float, str, str, str]]:
    for part in ledger.parts:
        minutes = part.time.exact / 60_000
        if minutes < WORTH_MIN or part.cause not in WORDS:
            continue
        words = WORDS[part.cause].format(station=name)
        why = f"{minutes:.0f} min off the air"
        if said.get(part.cause):
            why += f": {said[part.cause]}"
        yield minutes, words, name, why[:300]


def _query(words: str, station: str, why: str) -> str:
    return urlencode({"words": words, "station": station, "why": why})
