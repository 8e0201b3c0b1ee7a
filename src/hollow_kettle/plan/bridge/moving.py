"""Moves under way: what a new plan finds on its way, and the crews that carry it."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from uuid import UUID

from hollow_kettle.log.models import FieldEntry, Kind, Placement
from hollow_kettle.plan.models import Event, Leg, Station
from powercore.event.plans import BatteryPlan
from powercore.event.problem import CARRIED

from .chosen import published


@dataclass(frozen=True, slots=True)
class Carried:
    """A battery that left for a station and is not noted there yet."""

    battery: str
    station: str
    #: Whether it is to wait there as a spare; what serves there then stays.
    is_spare: bool = False
    #: Who carries it, and in which minute of the event they are back; "": not known.
    crew: str = ""
    back_min: int = 0


def moves_under_way(event: Event, stations: Iterable[Station]) -> list[Carried]:
    """Batteries that a crew left with, the latest first; what was planned with them."""
    units = event.units.values_list("pk", flat=True)
    gone = Placement.objects.filter(battery__in=units, ended_at=None, place=None)
    left = FieldEntry.objects.filter(
        kind=Kind.LEFT,
        event_key=event.pk,
        uid__in=gone.values("entry_uid"),
        station_key__in=[station.pk for station in stations],
    )
    rows = list(
        left.order_by("-effective_at").values_list(
            "battery", "station_key", "effective_at"
        )
    )
    if not rows:
        return []
    rotation = published(event)
    legs = list(rotation.legs.all()) if rotation is not None else []
    return [
        _carried(battery, station, event.minute_of(at), legs)
        for battery, station, at in rows
        if battery is not None and station is not None
    ]


def _carried(battery: UUID, station: UUID, left_min: float, legs: list[Leg]) -> Carried:
    ways = [
        (before, after)
        for before in legs
        for after in legs
        if before.kind == CARRIED
        and before.battery == after.battery == battery
        and after.station == station
        and after.start_min == before.end_min
    ]
    if not ways:
        return Carried(str(battery), str(station))
    way, then = min(ways, key=lambda pair: abs(pair[0].start_min - left_min))
    walk = [
        leg
        for leg in legs
        if leg.kind == CARRIED and (leg.crew, leg.round) == (way.crew, way.round)
    ]
    takes = max(leg.end_min for leg in walk) - min(leg.start_min for leg in walk)
    if len(walk) == 1:
        takes *= 2  # they come back with empty hands
    return Carried(
        str(battery), str(station), then.is_spare, way.crew, round(left_min + takes)
    )


def arrived(
    batteries: Iterable[BatteryPlan], carried: Iterable[Carried]
) -> Iterator[BatteryPlan]:
    """
    Batteries as they are once what is under way is done.

    A new plan lets crews finish: what they carry counts as there, what it relieves as
    back in the yard. Where two are on the way to one place, the one that left last is.
    """
    coming: dict[str, Carried] = {}
    relieved: set[str] = set()
    for move in carried:
        if move.is_spare or move.station not in relieved:
            coming[move.battery] = move
        if not move.is_spare:
            relieved.add(move.station)
    for battery in batteries:
        own = coming.get(battery.key)
        if own is not None:
            yield dataclasses.replace(
                battery, start_place=own.station, is_spare=own.is_spare
            )
        elif battery.start_place in relieved and not battery.is_spare:
            yield battery.in_yard
        else:
            yield battery


def free_from(carried: Iterable[Carried]) -> Mapping[str, int]:
    """The minute of the event from which on each crew is back from what it carries."""
    found: dict[str, int] = {}
    for move in carried:
        if move.crew:
            found[move.crew] = max(move.back_min, found.get(move.crew, 0))
    return found
