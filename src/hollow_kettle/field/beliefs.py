"""
What is believed of each battery's charge, worked out from the log.

A battery's life is walked through in time: where it was, what the plan says the
station drew or the bay gave meanwhile, and what was read. The result is cached in
`BatteryNow`; pages carry it forward to their own now.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

import numpy as np
from django.db.models import Q

from hollow_kettle.log.models import (
    BatteryNow,
    FieldEntry,
    Kind,
    Place,
    PlaceKind,
    Placement,
    SourceOff,
    Standing,
    StationDraw,
    StationSpan,
)
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.charge import belief as charge
from powercore.belief.draw import DrawFactor
from powercore.belief.estimate import (
    Belief,
    Charging,
    CounterReading,
    Flow,
    GaugeReading,
    SocEstimate,
    Step,
    TurnBegins,
    VoltsReading,
    charged_since,
    used_since,
)
from powercore.belief.readings import is_tripped
from powercore.event.problem import Problem
from powercore.physics.battery import Pack
from powercore.values import BUS_V

#: A station's real draw against its plan, as a share of it (one standard
#: deviation). Common practice, no source.
DRAW_SD = 0.2
#: How far it wanders from hour to hour from what is learned of it. Common practice,
#: no source. (one standard deviation, as a share)
WANDER_SD = 0.1
#: Charges and readings at the shelf count so long before an event.
AT_THE_SHELF = timedelta(days=3)


@dataclass(frozen=True, slots=True)
class Stretch:
    """A battery at one place from one moment to another."""

    place: Place | None
    start: datetime
    end: datetime


class EventPhysics:
    """What the plan says flowed in an event: at its stations, on its bays."""

    def __init__(self, event: Event) -> None:
        self.event = event
        found = problem_for(event)
        self.problem, self.low = found.problem, found.low
        self.stations = found.stations
        self.spans = list(StationSpan.objects.filter(event_key=event.pk))
        #: What readings say of stations' real draw, by key.
        self.draws = {
            str(row.station_key): row.believed
            for row in StationDraw.objects.filter(event_key=event.pk)
        }
        #: Since when sources are off by the log, by key.
        self.off_since = {
            str(row.source_key): row.started_at
            for row in SourceOff.objects.filter(event_key=event.pk, ended_at=None)
        }

    def drawn_wh(self, station: str, start: datetime, end: datetime) -> float:
        """Energy a station drew by plan, minus off the air, less on low power."""
        if station not in self.problem.stations or end <= start:
            return 0.0
        off = [
            s
            for s in self.spans
            if str(s.station_key) == station and s.what == "off_air"
        ]
        low = [
            s
            for s in self.spans
            if str(s.station_key) == station and s.what == "low_power"
        ]
        marks = {start, end}
        for span in (*off, *low):
            marks |= {span.started_at, span.ended_at or end}
        cuts = sorted(moment for moment in marks if start <= moment <= end)
        total = 0.0
        for first, last in itertools.pairwise(cuts):
            if any(_covers(span, first) for span in off):
                continue
            problem = (
                self.low
                if any(_covers(span, first) for span in low)
                else (self.problem)
            )
            total += self._planned_wh(problem, station, first, last)
        return total

    def drawn_as_planned_wh(
        self, station: str, start: datetime, end: datetime
    ) -> float:
        """Energy a station was planned to draw, whatever happened. [Wh]"""
        return self._planned_wh(self.problem, station, start, end)

    def _planned_wh(
        self, problem: Problem, station: str, start: datetime, end: datetime
    ) -> float:
        edges, drawn = problem.grid.edges_min, problem.drawn_wh[station]
        first, last = self.event.minute_of(start), self.event.minute_of(end)
        return float(np.interp(last, edges, drawn) - np.interp(first, edges, drawn))

    def power_hours(self, bay: str, start: datetime, end: datetime) -> float:
        """Hours in which a bay's source ran, by its plan and what was noted."""
        plan = self.problem.bays.get(bay)
        if plan is None:
            return 0.0
        first, last = self.event.minute_of(start), self.event.minute_of(end)
        return sum(
            max(0.0, min(last, window.end_min) - max(first, window.start_min)) / 60
            for window in self.problem.sources[plan.source].windows
        )

    def hours_until(self, bay: str, now: datetime, hours: float) -> float | None:
        """When a bay has given so many hours of power; None: not before the end."""
        plan, at = self.problem.bays[bay], self.event.minute_of(now)
        left_min = 60 * hours
        for window in self.problem.sources[plan.source].windows:
            start = max(at, window.start_min)
            if window.end_min - start >= left_min:
                return (start - at + left_min) / 60
            left_min -= max(0.0, window.end_min - start)
        return None

    def pack(self, battery: UUID) -> Pack | None:
        """A battery of the event as the core sees it."""
        found = self.problem.batteries.get(str(battery))
        return None if found is None else found.pack

    def between(
        self,
        battery: UUID,
        pack: Pack,
        place: Place | None,
        start: datetime,
        end: datetime,
    ) -> Step | None:
        """What passed with a battery at a place, as a step of a belief."""
        if place is None or end <= start:
            return None
        if place.kind == PlaceKind.POSITION:
            station = str(place.station_key)
            draw = self.draws.get(station, DrawFactor(sd=DRAW_SD))
            planned_ah = self.drawn_wh(station, start, end) / BUS_V
            ah, sd = draw.mean * planned_ah, max(draw.sd, WANDER_SD) * planned_ah
            return Flow(ah=ah, sd_ah=sd) if ah > 0 else None
        if place.kind == PlaceKind.BAY and str(place.pk) in self.problem.bays:
            hours = self.power_hours(str(place.pk), start, end)
            model = self.problem.charge_model(str(place.pk), str(battery))
            return Charging(model=model, hours=hours) if hours > 0 else None
        return None

    def carried_forward(
        self, now_row: BatteryNow, pack: Pack, now: datetime
    ) -> SocEstimate:
        """What was believed at the last entry, carried forward to now."""
        before = SocEstimate(
            typical=now_row.soc_typical,
            low=now_row.soc_low,
            high=now_row.soc_high,
            evidence=now_row.evidence,
        )
        if now_row.as_of is None:
            return before
        step = self.between(now_row.battery, pack, now_row.place, now_row.as_of, now)
        if isinstance(step, Flow):
            return used_since(
                before, step.ah / pack.trusted_ah, step.sd_ah / pack.trusted_ah
            )
        if isinstance(step, Charging):
            return charged_since(before, step.model, step.hours)
        return before


def _covers(span: StationSpan, moment: datetime) -> bool:
    return span.started_at <= moment and (
        span.ended_at is None or moment < span.ended_at
    )


def unstruck(entries: Iterable[FieldEntry]) -> Iterable[FieldEntry]:
    """Return the entries that are neither strikes nor struck."""
    found = list(entries)
    struck = {entry.strikes for entry in found if entry.kind == Kind.STRIKE}
    return [e for e in found if e.kind != Kind.STRIKE and e.uid not in struck]


def readings_of(event: Event) -> defaultdict[UUID, list[FieldEntry]]:
    """
    The readings of an event that count, by battery, oldest first.

    What was noted at the shelf in the days before it and while it ran counts too.
    """
    readings: defaultdict[UUID, list[FieldEntry]] = defaultdict(list)
    span = (event.starts_at - AT_THE_SHELF, event.ends_at)
    entries = FieldEntry.objects.filter(
        Q(event_key=event.pk, kind__in=(Kind.READING, Kind.STRIKE))
        | Q(
            event_key=None,
            battery__isnull=False,
            kind__in=(Kind.READING, Kind.CHARGED, Kind.STRIKE),
            effective_at__range=span,
        ),
        standing=Standing.KEPT,
    ).order_by("effective_at", "uid")
    for entry in unstruck(entries):
        if entry.battery is not None:
            readings[entry.battery].append(entry)
    return readings


def lives_of(batteries: Iterable[UUID]) -> defaultdict[UUID, list[Placement]]:
    """Where batteries were, on the way included, oldest first."""
    lives: defaultdict[UUID, list[Placement]] = defaultdict(list)
    found = Placement.objects.filter(battery__in=set(batteries))
    for placement in found.select_related("place"):
        lives[placement.battery].append(placement)
    return lives


def refresh(
    physics: EventPhysics,
    readings: Mapping[UUID, Sequence[FieldEntry]],
    batteries: Iterable[UUID] | None = None,
) -> None:
    """Work out `BatteryNow` anew, as of now, for some batteries or for all."""
    event = physics.event
    until = event.last_moment
    wanted = (
        set(batteries)
        if batteries is not None
        else {UUID(key) for key in physics.problem.batteries}
    )
    wanted = {uid for uid in wanted if physics.pack(uid) is not None}
    lives = lives_of(wanted)
    rows = [
        _battery_now(physics, uid, lives[uid], readings.get(uid, ()), until)
        for uid in sorted(wanted)
    ]
    BatteryNow.objects.bulk_create(
        rows,
        update_conflicts=True,
        unique_fields=["battery"],
        update_fields=[
            "event_key",
            "place",
            "since",
            "soc_typical",
            "soc_low",
            "soc_high",
            "as_of",
            "read_at",
            "evidence",
            "is_tripped",
            "base_tripped",
            "base_typical",
            "base_low",
            "base_high",
            "base_at",
        ],
    )
    if event.state == Event.State.CLOSED:
        charge.refresh(wanted)  # what the shelf noted since goes on from here


def _battery_now(
    physics: EventPhysics,
    uid: UUID,
    placements: list[Placement],
    readings: Sequence[FieldEntry],
    until: datetime,
) -> BatteryNow:
    pack = physics.pack(uid)
    assert pack is not None  # noqa: S101 - only batteries of the event get here
    belief = Belief(pack)
    last = placements[-1] if placements else None
    as_of = walk(physics, uid, placements, readings, belief)
    if as_of is not None and until > as_of:
        step = physics.between(uid, pack, last.place if last else None, as_of, until)
        if step is not None:
            belief.apply(step)
        as_of = until
    found = belief.estimate()
    tripped = charge.last_says_tripped(readings)
    return BatteryNow(
        battery=uid,
        is_tripped=tripped,
        base_tripped=tripped,
        event_key=physics.event.pk,
        place=last.place if last else None,
        since=last.started_at if last else None,
        soc_typical=found.typical,
        soc_low=found.low,
        soc_high=found.high,
        as_of=as_of,
        read_at=readings[-1].effective_at if readings else None,
        evidence=found.evidence[:200],
        base_typical=found.typical,
        base_low=found.low,
        base_high=found.high,
        base_at=as_of,
    )


def walk(
    physics: EventPhysics,
    uid: UUID,
    placements: list[Placement],
    readings: Sequence[FieldEntry],
    belief: Belief,
    marks: dict[datetime, SocEstimate] | None = None,
) -> datetime | None:
    """
    Walk a belief through a battery's life; return up to when.

    At each moment of `marks` the estimate of that moment is noted there.
    """
    pack = belief.pack
    moments: list[tuple[datetime, int, object]] = []
    moments += [(p.started_at, 0, p) for p in placements]
    moments += [(entry.effective_at, 1, entry) for entry in readings]
    moments += [(moment, 2, None) for moment in marks or ()]
    moments.sort(key=lambda item: (item[0], item[1]))
    place: Place | None = None
    at: datetime | None = None
    for moment, _, what in moments:
        if at is not None:
            step = physics.between(uid, pack, place, at, moment)
            if step is not None:
                belief.apply(step)
        at = moment
        if isinstance(what, Placement):
            place = what.place
            belief.apply(TurnBegins())
        elif isinstance(what, FieldEntry):
            for step in reading_steps(what, pack):
                belief.apply(step)
        elif marks is not None:
            marks[moment] = belief.estimate()
    return at


def reading_steps(entry: FieldEntry, pack: Pack) -> list[Step]:
    """Return what a reading says, as steps of a belief."""
    if entry.kind == Kind.CHARGED:
        return [charge.ended_step(pack, entry)]
    steps: list[Step] = []
    if entry.amp_hours is not None:
        steps.append(
            CounterReading(
                ah=entry.amp_hours, words=f"counter {entry.amp_hours:+.1f} Ah out"
            )
        )
    if entry.volts is not None:
        amps = entry.amps or 0.0
        how = entry.how or "receiving"
        said = how.replace("_", " ")
        words = f"{entry.volts:.2f} V {said}"
        if entry.amps is not None:
            words = f"{entry.volts:.2f} V {amps:.1f} A {said}"
        if not is_tripped(entry.volts):
            steps.append(
                VoltsReading(
                    volts=entry.volts,
                    amps=amps,
                    how=how,
                    words=words,
                    unplugged_min=entry.unplugged_min or 0.0,
                )
            )
    if entry.gauge_pct is not None:
        steps.append(
            GaugeReading(
                soc=entry.gauge_pct / 100, words=f"gauge {entry.gauge_pct:.0f} %"
            )
        )
    return steps
