"""How an event is set up: which battery begins where, and in which order of hands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from uuid import UUID

from hollow_kettle.plan.models import Event, Leg, Rotation, Station
from powercore.event.problem import CHARGE
from powercore.values import as_counted

from .queries import tags_of


@dataclass(frozen=True, slots=True)
class StationStart:
    """What a station is set up from, its battery last."""

    station: Station
    #: Equipment with its count, panels, supplies: as it is planned.
    things: list[str]
    panels: list[str]
    supplies: list[str]
    battery: UUID | None = None
    tag: str = ""
    spares: list[str] = field(default_factory=list)

    @property
    def steps(self) -> list[str]:
        """The order of hands, by what is there; the battery comes last."""
        return list(self._steps())

    def _steps(self) -> Iterator[str]:
        station = self.station
        yield (
            "Mast and antenna up by people trained for it, nothing near overhead "
            "lines; antenna on its radio before anything is switched on."
        )
        if self.things:
            yield f"In place, switched off: {', '.join(self.things)}."
        if self.panels:
            yield (
                f"{', '.join(self.panels)}: set up and covered, not plugged in. The "
                "controller sees a battery before it sees a panel."
            )
        for supply in self.supplies:
            yield f"{supply}: in place, off."
        yield self._feed(station)
        yield (
            f"Battery last: {self.tag or 'the one planned'}. Terminals covered, no "
            "tool across them."
        )
        if self.panels:
            yield "Panels uncovered and plugged in, then the load on."
        yield "Volts at the radio, receiving and key down; log them with the battery."
        if self.spares:
            yield f"Spares dry and shaded, terminals covered: {', '.join(self.spares)}."
        if station.is_unattended:
            yield "Leave it switched on and listen to it from the yard once."

    @staticmethod
    def _feed(station: Station) -> str:
        line = ""
        if station.feed_m:
            wire = f", AWG {station.feed_awg}" if station.feed_awg else ""
            line = f" {station.feed_m:g} m of line{wire};"
        fuse = f"{station.main_fuse_a:g} A " if station.main_fuse_a else ""
        return (
            f"Feed:{line} {fuse}fuse at the battery's end; red to plus, checked with a "
            "meter before it is plugged in."
        )


@dataclass(frozen=True, slots=True)
class Starts:
    """How an event is set up, station by station, and the yard."""

    stations: list[StationStart]
    #: Bays with what begins on them, and what waits in the rack: nothing on hold.
    bays: list[tuple[str, str]]
    rack: list[str]


def starts_of(event: Event, rotation: Rotation | None) -> Starts:
    """
    Return how a rotation of an event begins; without one, batteries are not named.

    A rotation made under way begins nothing: what stands, stands.
    """
    legs: list[Leg] = []
    tags: Mapping[UUID, str] = {}
    if rotation is not None and rotation.from_min == 0:
        legs = list(rotation.legs.filter(start_min=0))
        tags = tags_of(rotation)
    feeds = {leg.station: leg for leg in legs if leg.station and not leg.is_spare}
    stations = event.stations.prefetch_related(
        "equipment__equipment", "arrays", "supplies"
    )
    found = []
    for station in stations:
        leg = feeds.get(station.pk)
        found.append(
            StationStart(
                station=station,
                things=[
                    f"{one.count} × {one.equipment.name}"
                    if one.count > 1
                    else one.equipment.name
                    for one in station.equipment.all()
                ],
                panels=[array.name for array in station.arrays.all()],
                supplies=[str(one) for one in station.supplies.all()],
                battery=leg.battery if leg else None,
                tag=tags.get(leg.battery, "") if leg else "",
                spares=sorted(
                    tags.get(one.battery, "")
                    for one in legs
                    if one.is_spare and one.place == station.pk
                ),
            )
        )
    named = dict(event.bays.values_list("pk", "name"))
    on_bays = {leg.battery: leg for leg in legs if leg.kind == CHARGE and leg.place}
    held = set(event.batteries.exclude(hold="").values_list("pk", flat=True))
    used = held | {leg.battery for leg in legs if leg.station or leg.battery in on_bays}
    return Starts(
        stations=found,
        bays=sorted(
            (named.get(leg.place, "bay") if leg.place else "bay", tags.get(key, ""))
            for key, leg in on_bays.items()
        ),
        rack=sorted(
            (tag for key, tag in tags.items() if key not in used), key=as_counted
        ),
    )
