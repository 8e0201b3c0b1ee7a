"""How an event is taken down: station by station, and what may have been left on."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from uuid import UUID

from hollow_kettle.log.models import BatteryNow, PlaceKind, Placement
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.rotation.starts import StationStart
from hollow_kettle.shelf.models import Asset
from powercore.values import as_counted

from .beliefs import lives_of, readings_of, turns_of
from .physics import EventPhysics

#: A battery that waits loses no more of its charge than this between two readings; the
#: rest is what reading them is off. Common practice, no source.
WAITING_LOSES = 0.1


@dataclass(frozen=True, slots=True)
class StationEnd:
    """A station on its last day: what is there and goes home."""

    start: StationStart
    batteries: list[str] = field(default_factory=list)
    gear: list[str] = field(default_factory=list)

    @property
    def steps(self) -> list[str]:
        """The order of hands: loads off, then the battery before all else."""
        return list(self._steps())

    def _steps(self) -> Iterator[str]:
        yield "Say on the air that you close; all loads off at their own switches."
        if self.start.panels:
            yield f"{', '.join(self.start.panels)}: covered, then unplugged."
        for supply in self.start.supplies:
            yield f"{supply}: off."
        tags = ", ".join(self.batteries) or "the battery"
        yield (
            f"Battery off before all else that is wired: {tags}. Volts unplugged, "
            "logged; terminals covered; look for damage and water."
        )
        yield "Fuses out of leads that stay connected; each lead back in its own bag."
        things = [*self.start.things, *self.gear]
        if things:
            yield f"Counted into the box, switched off: {', '.join(things)}."
        yield (
            "Mast and antenna down by people trained for it, away from overhead lines."
        )
        yield "Look round once more from where you stood: nothing left behind."


@dataclass(frozen=True, slots=True)
class Loss:
    """A battery that lost charge while nothing was to draw from it."""

    tag: str
    place: str
    start: datetime
    end: datetime
    lost: float

    @property
    def hours(self) -> float:
        """Between the two readings."""
        return (self.end - self.start).total_seconds() / 3600


def ends_of(event: Event, starts: list[StationStart]) -> list[StationEnd]:
    """Each station with the batteries and the gear that the log has there."""
    tags = dict(event.batteries.values_list("pk", "tag"))
    batteries: defaultdict[UUID | None, list[str]] = defaultdict(list)
    here = BatteryNow.objects.filter(
        place__kind__in=(PlaceKind.POSITION, PlaceKind.SPARE_RACK),
        place__event_key=event.pk,
    )
    for station, battery in here.values_list("place__station_key", "battery"):
        batteries[station].append(tags.get(battery, "a battery"))
    gear: defaultdict[UUID | None, list[str]] = defaultdict(list)
    out = dict(
        Placement.objects.filter(
            ended_at=None, place__kind=PlaceKind.STATION, place__event_key=event.pk
        ).values_list("battery", "place__station_key")
    )
    for asset in Asset.objects.filter(pk__in=out):
        gear[out[asset.pk]].append(asset.tag)
    return [
        StationEnd(
            start=one,
            batteries=sorted(batteries[one.station.pk], key=as_counted),
            gear=sorted(gear[one.station.pk], key=as_counted),
        )
        for one in starts
    ]


def losses_of(event: Event) -> list[Loss]:
    """Batteries that lost charge while they waited, by what was read of them."""
    physics = EventPhysics(event)
    uids = [UUID(key) for key in physics.problem.batteries]
    found = []
    for turn in turns_of(lives_of(uids), readings_of(event), uids):
        place = turn.placement.place if turn.placement else None
        if place is None or place.kind in (PlaceKind.POSITION, PlaceKind.BAY):
            continue
        # By gauge: volts of a battery that just came off say too little.
        seen = [
            (entry.effective_at, entry.gauge_pct / 100)
            for entry in turn.readings
            if entry.gauge_pct is not None
        ]
        if len(seen) < 2:
            continue
        (start, before), (end, after) = seen[0], seen[-1]
        if before - after > WAITING_LOSES:
            tag = physics.problem.batteries[str(turn.battery)].tag
            found.append(Loss(tag, str(place), start, end, before - after))
    return found
