"""
What happened at an event: simulated physically, and logged as people would.

The crew carries out the published rotation, somewhat late; the batteries are what
they really are, not what their labels say; what people read has the errors of
their meters. When a battery ends before its relief, its station goes off the air
and somebody fetches another, as in the field.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from hollow_kettle.field import services as field_log
from hollow_kettle.log.models import Kind, Place, PlaceKind
from hollow_kettle.log.services import Sent
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.shelf.models import Asset
from powercore.event.problem import CARRIED, CHARGE, SERVE, Leg
from powercore.gear.plant import Account, PlantBattery
from powercore.values import STATED_V

from .shelf import BATTERIES

TRUE_AH = {battery.tag: battery.true_ah for battery in BATTERIES}
#: Batteries with an amp-hour counter and with a gauge of their own.
COUNTERS = {"K07", "K08", "K11"}
GAUGES = {"K14", "K15"}
#: What panels gave of what was forecast.
SKY = 0.85
STEP_MIN = 5


@dataclass(slots=True)
class Held:
    """A battery in the story: what it is, where it is."""

    asset: Asset
    plant: PlantBattery
    place: Place
    turn_out_ah: float = 0.0
    #: When a battery that was swapped out is back in the yard. [min]
    back_at: float = -60


@dataclass
class Story:
    """Plays an event from its start for some hours."""

    event: Event
    hours: float
    home: Place
    people: dict[str, Actor]
    #: How much more than planned a station really draws. [ratio]
    draws: dict[str, float]
    seed: int
    held: dict[UUID, Held] = field(default_factory=dict)
    off_since: dict[UUID, int] = field(default_factory=dict)
    rescue_at: dict[UUID, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.random = random.Random(self.seed)  # noqa: S311 - a story, not a secret
        rotation = published(self.event)
        assert rotation is not None  # noqa: S101 - the demo publishes first
        self.problem, legs = problem_of(rotation)
        self.legs = sorted(legs, key=lambda leg: (leg.start_min, leg.kind))
        self.stations = {str(s.pk): s for s in self.event.stations.all()}
        self.places = {
            str(place.station_key or place.pk): place
            for place in Place.objects.filter(event_key=self.event.pk).exclude(
                kind=PlaceKind.STATION
            )
        }
        self.rack = field_log.yard_rack(self.event)
        self.late: dict[int | None, int] = {}
        for leg in self.legs:
            if leg.kind == CARRIED and leg.round not in self.late:
                self.late[leg.round] = self.random.choice((0, 1, 2, 3, 4, 6, 9))

    # --- the play --------------------------------------------------------------

    def play(self) -> None:
        """Play it; entries are logged as they happen."""
        self._begin()
        todo = self._planned()
        last = int(self.hours * 60)
        for minute in range(0, last + 1, STEP_MIN):
            while todo and todo[0][0] <= minute:
                _, kind, leg = todo.pop(0)
                if kind == "swap":
                    self._swap(leg.place, leg.battery, minute)
                elif kind == "off":
                    self._take_off(leg, minute)
                elif not self._put_on(leg, minute) and minute + STEP_MIN < leg.end_min:
                    todo.insert(0, (minute + STEP_MIN, kind, leg))  # not back yet
                    todo.sort(key=lambda item: item[0])
            self._rescue(minute)
            if minute < last:
                self._flow(minute)
                self._read(minute)

    def _begin(self) -> None:
        """All leave home full; each station gets its first battery."""
        first = {leg.battery: leg for leg in reversed(self.legs) if leg.start_min == 0}
        for key, battery in self.problem.batteries.items():
            asset = Asset.objects.get(pk=key)
            if battery.is_on_hold:
                continue
            plant = PlantBattery(
                pack=battery.pack,
                true_ah=TRUE_AH[asset.tag],
                soc=1.0,
                account=Account(),
            )
            self.held[asset.pk] = Held(asset, plant, self.rack)
            self._note(
                Kind.READING,
                -40,
                "heron",
                battery=asset.pk,
                gauge_pct=100.0,
                note="full by its charger",
            )
            leg = first.get(key)
            if leg is not None and leg.kind == SERVE:
                self._put_to_serve(self.stations[leg.place], asset.pk, None, -5)
            elif leg is not None and leg.kind == CHARGE:
                self._move(asset.pk, self.places[leg.place], -5)
            else:
                self._move(asset.pk, self.rack, -5)

    def _planned(self) -> list[tuple[int, str, Leg]]:
        todo: list[tuple[int, str, Leg]] = []
        for leg in self.legs:
            if leg.kind == SERVE and leg.start_min > 0:
                number = next(
                    other.round
                    for other in self.legs
                    if other.kind == CARRIED
                    and other.battery == leg.battery
                    and other.end_min == leg.start_min
                )
                todo.append((leg.start_min + self.late[number], "swap", leg))
            elif leg.kind == CHARGE:
                if leg.start_min > 0:
                    todo.append((leg.start_min, "on", leg))
                if leg.end_min < self.event.span_min:
                    todo.append((leg.end_min, "off", leg))
        order = {"off": 0, "swap": 1, "on": 2}
        tags = {key: battery.tag for key, battery in self.problem.batteries.items()}
        return sorted(
            todo, key=lambda item: (item[0], order[item[1]], tags[item[2].battery])
        )

    # --- what happens ------------------------------------------------------------

    def _swap(self, station_key: str, battery_key: str, minute: int) -> None:
        uid = UUID(battery_key)
        station = self.stations[station_key]
        if self.held[uid].place.kind == PlaceKind.POSITION:
            return  # it was fetched elsewhere in the meantime
        old = self._at(self.places[station_key])
        if old is not None:
            self._final_reading(old, minute)
        self._put_to_serve(station, uid, old, minute)
        self._back_on(station, minute)
        if old is not None:
            walk_min = self.problem.stations[station_key].walk_min
            old.back_at = minute + walk_min + 1
            self._move(old.asset.pk, self.rack, old.back_at)

    def _put_to_serve(
        self, station: Station, uid: UUID, old: Held | None, minute: int
    ) -> None:
        held = self.held[uid]
        self._note(
            Kind.SWAP,
            minute,
            "heron",
            battery=uid,
            battery_out=old.asset.pk if old else None,
            place=self.places[str(station.pk)],
            station_key=station.pk,
        )
        held.place, held.turn_out_ah = self.places[str(station.pk)], 0.0
        feed = self.problem.feed(str(station.pk), str(uid))
        held.plant.cut_soc = max(0.02, feed.floor_soc)

    def _back_on(self, station: Station, minute: int) -> None:
        if station.pk in self.off_since:
            del self.off_since[station.pk]
            self.rescue_at.pop(station.pk, None)
            self._note(Kind.BACK, minute + 1, "wren", station_key=station.pk)

    def _put_on(self, leg: Leg, minute: int) -> bool:
        """Put a battery on its bay, if it is back and the bay is free."""
        held, place = self.held[UUID(leg.battery)], self.places[leg.place]
        is_here = held.place == self.rack and held.back_at < minute
        if not is_here or self._at(place) is not None:
            return False
        self._move(held.asset.pk, place, minute)
        return True

    def _take_off(self, leg: Leg, minute: int) -> None:
        held = self.held[UUID(leg.battery)]
        if held.place == self.places[leg.place]:
            self._move(held.asset.pk, self.rack, minute)

    def _rescue(self, minute: int) -> None:
        """Somebody fetches another battery for a station that went off the air."""
        for station_uid, when in list(self.rescue_at.items()):
            ready = [
                held
                for held in self.held.values()
                if held.place == self.rack
                and held.back_at < minute
                and held.plant.soc > 0.45
                and self.problem.feed(str(station_uid), str(held.asset.pk)).refusal
                is None
            ]
            if when <= minute and ready:
                best = max(
                    ready, key=lambda held: (held.plant.stored_wh, held.asset.tag)
                )
                self._swap(str(station_uid), str(best.asset.pk), minute)

    def _flow(self, minute: int) -> None:
        """Let power flow for one step."""
        hours = STEP_MIN / 60
        slot = minute // self.problem.grid.step_min
        for key, station in self.stations.items():
            watts = float(self.problem.demand_w[key][slot])
            held = self._at(self.places[key])
            if watts <= 0 or held is None or station.pk in self.off_since:
                continue
            watts *= self.draws.get(station.name, 1.0) * self.random.uniform(0.9, 1.1)
            watts -= SKY * float(self.problem.forecast_w[key][slot])
            if watts <= 0:
                held.turn_out_ah -= held.plant.charge(-watts, hours) / STATED_V
                continue
            given = held.plant.serve(watts, hours)
            held.turn_out_ah += given / STATED_V
            if given < watts * hours - 1e-6:
                self._goes_off(station, held, minute + round(60 * given / watts))
        for key, bay in self.problem.bays.items():
            held = self._at(self.places[key])
            if held is not None and self.problem.source_is_on(bay.source, minute):
                held.plant.charge(bay.max_w, hours)

    def _goes_off(self, station: Station, held: Held, minute: int) -> None:
        self.off_since[station.pk] = minute
        self.rescue_at[station.pk] = minute + self.random.randint(24, 52)
        volts = held.plant.pack.rested_v(held.plant.soc)
        self._note(
            Kind.OFF_AIR,
            minute,
            "wren",
            station_key=station.pk,
            note=f"{held.asset.tag} quit; radio dropped out on transmit",
        )
        self._note(
            Kind.READING,
            minute + 4,
            "wren",
            battery=held.asset.pk,
            volts=round(volts, 2),
            amps=0.0,
            how="unplugged",
            unplugged_min=3.0,
        )

    # --- what is read --------------------------------------------------------------

    def _read(self, minute: int) -> None:
        """Each open station is read about once an hour."""
        for number, station in enumerate(self.stations.values()):
            held = self._at(self.places[str(station.pk)])
            if held is None or station.pk in self.off_since:
                continue
            if minute % 60 == (number * 10 + 15) % 60 and self.random.random() < 0.85:
                self._reading(held, station, minute)

    def _reading(self, held: Held, station: Station, minute: int) -> None:
        tag, plant = held.asset.tag, held.plant
        if tag in COUNTERS:
            self._note(
                Kind.READING,
                minute,
                "wren",
                battery=held.asset.pk,
                amp_hours=round(held.turn_out_ah * self.random.uniform(0.99, 1.02), 1),
            )
            return
        if tag in GAUGES:
            gauge = min(
                100, max(0, round(plant.soc * 100 + self.random.uniform(-2, 2)))
            )
            self._note(
                Kind.READING,
                minute,
                "wren",
                battery=held.asset.pk,
                gauge_pct=float(gauge),
            )
            return
        amps = sum(
            load.count * load.draw.receive_a
            for load in self.problem.stations[str(station.pk)].loads
        )
        amps *= self.random.uniform(0.95, 1.05)
        volts = plant.pack.loaded_v(plant.soc, amps) + self.random.gauss(0, 0.015)
        self._note(
            Kind.READING,
            minute,
            "wren",
            battery=held.asset.pk,
            volts=round(volts, 2),
            amps=round(amps, 1),
            how="receiving",
        )

    def _final_reading(self, old: Held, minute: int) -> None:
        """What the removed battery shows when it comes off."""
        if old.asset.tag in COUNTERS:
            self._note(
                Kind.READING,
                minute - 1,
                "heron",
                battery=old.asset.pk,
                amp_hours=round(old.turn_out_ah, 1),
            )
        else:
            volts = old.plant.pack.rested_v(old.plant.soc) + self.random.gauss(0, 0.015)
            self._note(
                Kind.READING,
                minute - 1,
                "heron",
                battery=old.asset.pk,
                volts=round(volts, 2),
                amps=0.0,
                how="unplugged",
                unplugged_min=1.0,
            )

    # --- small things --------------------------------------------------------------

    def _at(self, place: Place) -> Held | None:
        return next((h for h in self.held.values() if h.place == place), None)

    def _move(self, uid: UUID, to: Place, minute: float) -> None:
        self.held[uid].place = to
        self._note(Kind.MOVE, minute, "heron", battery=uid, place=to)

    def _note(self, kind: str, minute: float, who: str, **fields: Any) -> None:
        said = {"tag": fields.pop("tag")} if "tag" in fields else {}
        field_log.note(
            self.event,
            kind,
            by=self.people[who],
            at=self._moment(minute),
            sent=Sent(
                device="story", uid=UUID(int=self.random.getrandbits(128)), raw=said
            ),
            refresh=False,
            **fields,
        )

    def _moment(self, minute: float) -> datetime:
        return self.event.starts_at + timedelta(minutes=minute)

    def go_home(self) -> None:
        """All batteries are checked in at home."""
        for uid in list(self.held):
            self._move(uid, self.home, self.hours * 60 + 45)
