"""The log line: what somebody types, understood, and what it would make of a belief."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from hollow_kettle.clock import from_local, letters_of, local
from hollow_kettle.log.models import BatteryNow, FieldEntry, Kind, Place, PlaceKind
from hollow_kettle.plan.models import Event
from powercore.belief.believed import SocEstimate
from powercore.belief.readings import net_ah, usual_volts
from powercore.logline import said as core
from powercore.logline.message import parse_all
from powercore.logline.names import Names
from powercore.logline.parse import Choice, Question
from powercore.logline.said import Said, write

from . import beliefs
from .forms import EntryForm
from .physics import EventPhysics
from .whats import FORMS

_READ = ("volts", "amps", "unplugged_min", "amp_hours", "ah_in", "gauge_pct")
#: At most so many lines of one message are taken at once.
MOST_LINES = 60


@dataclass(slots=True)
class Heard:
    """One line: what it means, or what is asked about it."""

    line: str
    said: Said | None = None
    #: The entry in the words of a sentence.
    words: str = ""
    asks: str = ""
    choices: tuple[Choice, ...] = ()
    #: Of a reading: what it says alone, and what is believed with it.
    alone: list[str] = field(default_factory=list)
    fused: SocEstimate | None = None
    #: What became of it.
    saved: str = ""


class Ear:
    """Understands what is typed at one event, now."""

    def __init__(self, event: Event) -> None:
        self.event = event
        self.physics = EventPhysics(event)
        self._batteries = {
            single.tag: UUID(unit.key)
            for unit in self.physics.problem.batteries.values()
            for single in (*unit.members, unit)
        }
        self._stations = {one.name: one for one in self.physics.stations}
        self._sources = {one.name: one for one in event.sources.all()}
        self._bays = {one.name: one for one in event.bays.all()}
        places = Place.objects.filter(event_key=event.pk)
        self._places = {
            place.name: place
            for place in places
            if place.kind in (PlaceKind.BAY, PlaceKind.YARD_RACK)
        }
        self._spares = {
            place.station_key: place
            for place in places
            if place.kind == PlaceKind.STATION
        }
        self.names = self._names()

    def _names(self) -> Names:
        event, problem = self.event, self.physics.problem
        now = local(event.clock.now(), event.zone)
        tags = {uid: tag for tag, uid in reversed(self._batteries.items())}
        stations = {one.pk: one.name for one in self._stations.values()}
        serving = BatteryNow.objects.filter(
            battery__in=tags, place__kind=PlaceKind.POSITION, place__event_key=event.pk
        ).values_list("place__station_key", "battery")
        bays = [p.name for p in self._places.values() if p.kind == PlaceKind.BAY]
        racks = [p.name for p in self._places.values() if p.kind != PlaceKind.BAY]
        return Names(
            batteries={
                tag: usual_volts(problem.batteries[str(uid)].pack)
                for tag, uid in self._batteries.items()
            },
            unknown_v=usual_volts(None),
            stations=tuple(self._stations),
            bays=tuple(bays),
            rack=racks[0] if racks else "Yard rack",
            sources=tuple(self._sources),
            feeds={stations[key]: tags[uid] for key, uid in serving if key in stations},
            now=now.replace(tzinfo=None, second=0, microsecond=0),
            zone=ZoneInfo(event.zone),
        )

    def hear(self, text: str) -> list[Heard]:
        """Understand what was typed: one line, or a whole message of them."""
        found = []
        for number, (line, meant) in enumerate(parse_all(text, self.names)):
            if number >= MOST_LINES:
                more = f"{MOST_LINES} lines are taken at once: log this one next."
                heard = Heard(line, asks=more)
            elif isinstance(meant, Question):
                heard = Heard(line, asks=meant.asks, choices=meant.choices)
            else:
                heard = Heard(line, said=meant, words=self._words(meant))
            found.append(heard)
        return found

    def form(self, heard: Heard, key: UUID) -> tuple[str, EntryForm]:
        """Return what is noted, and the form that a line fills in."""
        assert heard.said is not None  # noqa: S101 - who asks has understood it
        what = heard.said.kind
        data = {"uid": str(key), **self._data(heard.said)}
        return what, FORMS[what][1](data, event=self.event)

    def _data(self, said: Said) -> dict[str, Any]:
        data: dict[str, Any] = {
            "tag": said.battery,
            "tag_out": said.battery_out,
            "text": said.text,
            "sure": "on" if said.is_sure else "",
            "taken": self._typed(said.when),
            "what": said.what,
            "state": said.what,
            "how": said.how or "receiving",
            "way": "on" if said.kind == core.MOVE and not said.place else "",
        }
        for name in _READ:
            value = getattr(said, name)
            data[name] = "" if value is None else core.number(value)
        station = self._stations.get(said.station)
        place = self._places.get(said.place)
        if said.is_spare and station is not None:
            place = self._spares.get(station.pk)
        data["station"] = station.pk if station else ""
        data["to"] = data["place_out"] = place.pk if place else ""
        source = self._sources.get(said.source) or self._bays.get(said.source)
        owner = station or source
        if said.kind == core.FAULT:
            data["text"] = said.text or core.WRONG[said.what]
        return data | {
            "source": source.pk if source else "",
            "symptom": said.what,
            "sky": said.what,
            "panels": owner.pk if owner else "",
        }

    def _typed(self, when: datetime | None) -> str:
        """A moment as a form takes it; in UTC where its hour is there twice."""
        if when is None:
            return ""
        moment = from_local(when, self.event.zone)
        if letters_of(moment, self.event.zone):
            return f"{moment:%Y-%m-%d %H:%M}z"
        return f"{when:%Y-%m-%d %H:%M}"

    def _words(self, said: Said) -> str:
        plain = write(said).removesuffix(" !")
        if said.when is not None:
            bare = f"{said.when:%Y-%m-%d %H:%M}"
            zone = letters_of(from_local(said.when, self.event.zone), self.event.zone)
            plain = plain.replace(bare, f"{bare}{zone}", 1)
        if said.kind != core.READING:
            return plain
        here = {tag: station for station, tag in self.names.feeds.items()}
        at = f" at {here[said.battery]}" if said.battery in here else ""
        return plain.replace(said.battery, f"{said.battery}{at}:", 1)

    def weigh(self, heard: Heard) -> None:
        """Say what a reading says alone, and what is believed with it."""
        said = heard.said
        if said is None or said.kind != core.READING or said.battery == "":
            return
        uid = self._batteries.get(said.battery)
        if uid is None:
            return
        at = self.event.clock.now()
        if said.when is not None:
            at = from_local(said.when, self.event.zone)
        entry = FieldEntry(
            kind=Kind.READING,
            battery=uid,
            effective_at=at,
            volts=said.volts,
            amps=said.amps,
            how=said.how,
            unplugged_min=said.unplugged_min,
            amp_hours=net_ah(said.amp_hours, said.ah_in),
            gauge_pct=said.gauge_pct,
        )
        found = beliefs.with_reading(self.physics, uid, entry)
        if found is None:
            return
        heard.fused = found
        heard.alone = [
            f"{answer.method} alone {answer.low:.0%} to {answer.high:.0%}"
            for answer in found.methods
            if answer.method in ("volts", "counter", "gauge")
        ]


def errors_of(form: EntryForm) -> str:
    """What a form has against what was typed, in one line."""
    every: Mapping[str, Any] = form.errors
    return " ".join(str(error) for errors in every.values() for error in errors)
