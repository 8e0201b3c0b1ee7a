"""Statistics over years: what failed, what cost minutes, how the fleet ages."""

from __future__ import annotations

from collections import Counter, defaultdict
from dataclasses import dataclass

from django.db.models import Count

from hollow_kettle.debrief.causes.page import NAMES
from hollow_kettle.debrief.causes.services import attribution_of
from hollow_kettle.debrief.models import Causes, Contact
from hollow_kettle.field.faults import faults_of
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.models import Asset, Estimate
from powercore.debrief.learn import wilson
from powercore.gear.faults import CAUSES

#: A battery below this share of its nameplate is on its way out. Common practice, no
#: source.
WEARY = 0.8


@dataclass(frozen=True, slots=True)
class FaultRow:
    """How often something was the cause of a fault."""

    name: str
    group: str
    count: int


@dataclass(frozen=True, slots=True)
class CauseRow:
    """Minutes off the air by cause, event by event."""

    name: str
    minutes: list[int]

    @property
    def total(self) -> int:
        """Over all events."""
        return sum(self.minutes)


@dataclass(frozen=True, slots=True)
class FleetRow:
    """A battery's accepted capacities, oldest first, against its nameplate."""

    asset: Asset
    capacities: list[Estimate]
    share: float

    @property
    def is_weary(self) -> bool:
        """Whether it is on its way out."""
        return self.share < WEARY


@dataclass(frozen=True, slots=True)
class Page:
    """What the years say."""

    events: list[Event]
    faults: list[FaultRow]
    #: Of faults with a known cause, those in connections: count, all, 95 % interval.
    connections: tuple[int, int, float, float] | None
    causes: list[CauseRow]
    with_causes: list[Event]
    fleet: list[FleetRow]
    contacts: dict[Event, int]


def page_of(events: list[Event]) -> Page:
    """Statistics of closed events, oldest first."""
    events = sorted(events, key=lambda one: one.starts_at)
    counts: Counter[str] = Counter(
        fault.cause_key
        for event in events
        for fault in faults_of(event)
        if fault.cause_key
    )
    faults = [
        FaultRow(CAUSES[key].name, CAUSES[key].group, count)
        for key, count in counts.most_common()
    ]
    grouped = [one for one in faults if one.group]
    known = sum(one.count for one in grouped)
    connections = None
    if known:
        hits = sum(one.count for one in grouped if one.group == "connection")
        connections = (hits, known, *wilson(hits, known))
    causes, with_causes = _causes(events)
    made = Contact.objects.filter(event__in=events).values("event")
    number = {row["event"]: row["n"] for row in made.annotate(n=Count("pk"))}
    return Page(
        events=events,
        faults=faults,
        connections=connections,
        causes=causes,
        with_causes=with_causes,
        fleet=_fleet(),
        contacts={one: number[one.pk] for one in events if one.pk in number},
    )


def _causes(events: list[Event]) -> tuple[list[CauseRow], list[Event]]:
    rows = {
        row.event_id: attribution_of(row)
        for row in Causes.objects.filter(event__in=events)
    }
    worked_out = [one for one in events if rows.get(one.pk) is not None]
    minutes: defaultdict[str, list[int]] = defaultdict(lambda: [0] * len(worked_out))
    for number, event in enumerate(worked_out):
        found = rows[event.pk]
        for part in found.total.parts if found else ():
            minutes[part.cause][number] = round(part.time.exact / 60_000)
    told = [CauseRow(NAMES[one], minutes[one]) for one in NAMES if one in minutes]
    return sorted(told, key=lambda one: -one.total), worked_out


def _fleet() -> list[FleetRow]:
    """Batteries with accepted capacities, the weariest first."""
    known: defaultdict[object, list[Estimate]] = defaultdict(list)
    accepted = Estimate.objects.filter(
        quantity=Estimate.CAPACITY, accepted_by__isnull=False
    )
    for one in accepted.order_by("made_at", "pk"):
        known[one.subject].append(one)
    rows = []
    for asset in Asset.objects.batteries():
        if own := known.get(asset.pk):
            share = own[-1].mean / asset.battery.nameplate_ah
            rows.append(FleetRow(asset, own, share))
    return sorted(rows, key=lambda one: one.share)
