"""
What most likely happened at an event, by its log: who fed what, and how full it was.

Each turn's charge is corrected by what was read later in it. What is not known, or
contradicts, is named for somebody to settle.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import cached_property
from itertools import pairwise
from uuid import UUID

import numpy as np
from scipy.special import ndtr

from hollow_kettle.field import conflicts
from hollow_kettle.field.beliefs import Turn as BelievedTurn
from hollow_kettle.field.beliefs import history_of
from hollow_kettle.field.faults import Fault, faults_of
from hollow_kettle.field.physics import EventPhysics
from hollow_kettle.log.models import FieldEntry, Placement, StationSpan
from hollow_kettle.plan.models import Event, Rotation, Station
from powercore.belief.believed import SocEstimate
from powercore.belief.ends import blamed_in, says_end
from powercore.debrief.shortfall import Stretch, below
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import FloatArray

#: How finely a belief is sampled to find when it was in reserve.
SAMPLE_MIN = 10
SAMPLE = timedelta(minutes=SAMPLE_MIN)
#: A fault noted so near to a station's going off the air is why it did.
NEAR = timedelta(minutes=30)
#: Another battery so soon after it came back says that the first had ended.
RELIEVED = timedelta(minutes=10)
#: An open station that nobody read for so long was not watched.
UNWATCHED, HOUR = timedelta(hours=3), timedelta(hours=1)
#: How sure a stretch into reserve must be to be said without "likely". (0 to 1)
SURE = 0.9


@dataclass(frozen=True, slots=True)
class Reserve:
    """A stretch in which a battery was likely below its reserve."""

    stretch: Stretch
    #: How likely. (0 to 1)
    chance: float
    #: What was read of it meanwhile, or just before or after.
    evidence: str

    @property
    def is_carried(self) -> bool:
        """Whether a reading carries it."""
        return bool(self.evidence) and self.chance >= SURE


@dataclass(frozen=True, slots=True)
class Turn:
    """A battery at a station's position, with what is believed of its charge."""

    station_key: UUID
    tag: str
    battery: UUID
    #: When it came there, which may be before the event; and from when to when it
    #: counts.
    began: datetime
    start: datetime
    end: datetime
    start_soc: SocEstimate
    end_soc: SocEstimate
    used_wh: float
    in_reserve: list[Reserve]
    readings: int


@dataclass(frozen=True, slots=True)
class Gap:
    """Something that the log leaves open, and where to settle it."""

    words: str
    is_contradiction: bool = False


class History:
    """What the log makes of an event up to a moment."""

    def __init__(self, event: Event, until: datetime) -> None:
        self.event = event
        self.until = min(until, event.ends_at)
        self.physics = EventPhysics(event)
        self.stations: list[Station] = list(event.stations.all())
        self.spans: list[StationSpan] = self.physics.spans
        self.faults = faults_of(event)
        here = Placement.objects.filter(
            started_at__lt=self.until, place__event_key=event.pk
        )
        served = set(here.order_by().values_list("battery", flat=True))
        #: Everywhere that the event's batteries were, yard and bays included.
        self.lives = history_of(self.physics, served, self.until, SAMPLE)
        turns = (self._turn(turn) for turn in self.lives)
        self.turns = [turn for turn in turns if turn is not None]

    def open_h(self, station: Station) -> float:
        """Hours in which a station was to be on the air, as far as it has come."""
        grid = self.physics.problem.grid
        count = max(0, int(self.event.minute_of(self.until) // grid.step_min))
        watts = self.physics.problem.load_w[str(station.pk)][:count]
        return float((watts > 0).sum()) * grid.step_min / 60

    def of(self, station: Station) -> list[Turn]:
        """The turns of batteries at a station."""
        return [turn for turn in self.turns if turn.station_key == station.pk]

    def _turn(self, turn: BelievedTurn) -> Turn | None:
        """A battery's turn at a station of the event; None: it was somewhere else."""
        event, key = self.event, turn.station
        if key not in self.physics.problem.stations:
            return None
        # Whatever the log says, the debrief is of the event.
        start = max(turn.start, event.starts_at)
        end = min(turn.end or self.until, self.until)
        every = list(turn.history.values())
        if start >= end or not every:
            return None
        minutes = [event.minute_of(moment) for moment in turn.history]
        asked = np.arange(event.minute_of(start), event.minute_of(end), SAMPLE_MIN)
        asked = np.append(asked, event.minute_of(end))
        low, typical, high = (
            np.interp(asked, minutes, [getattr(one, name) for one in every])
            for name in ("low", "typical", "high")
        )
        feed = self.physics.problem.feed(key, str(turn.battery))
        chances = chance_below(feed.reserve_soc, low, typical, high)
        return Turn(
            station_key=UUID(key),
            tag=self.physics.problem.batteries[str(turn.battery)].tag,
            battery=turn.battery,
            began=turn.start,
            start=start,
            end=end,
            start_soc=replace(every[0], low=low[0], typical=typical[0], high=high[0]),
            end_soc=replace(every[-1], low=low[-1], typical=typical[-1], high=high[-1]),
            used_wh=max(0.0, float(typical[0] - typical[-1])) * feed.capacity_wh,
            in_reserve=[
                self._reserve(turn, stretch, asked, chances)
                for stretch in self._not_denied(
                    turn,
                    below(asked.tolist(), typical.tolist(), feed.reserve_soc),
                    feed.reserve_soc,
                )
            ],
            readings=len(turn.readings),
        )

    def _not_denied(
        self, turn: BelievedTurn, stretches: list[Stretch], reserve_soc: float
    ) -> list[Stretch]:
        """Stretches without what lies before a gauge that showed more than reserve."""
        shown = [
            self.event.minute_of(one.effective_at)
            for one in turn.readings
            if one.gauge_pct is not None and one.gauge_pct / 100 > reserve_soc
        ]
        found = []
        for one in stretches:
            start = max([one.start_min, *(at for at in shown if at < one.end_min)])
            if not any(at >= one.end_min for at in shown) and start < one.end_min:
                found.append(Stretch(start_min=start, end_min=one.end_min))
        return found

    def _reserve(
        self,
        turn: BelievedTurn,
        stretch: Stretch,
        asked: FloatArray,
        chances: FloatArray,
    ) -> Reserve:
        inside = (asked >= stretch.start_min) & (asked <= stretch.end_min)
        near = [
            one
            for one in turn.readings
            if stretch.start_min
            <= self.event.minute_of(one.effective_at)
            <= stretch.end_min + NEAR.total_seconds() / 60
        ]
        return Reserve(
            stretch=stretch,
            chance=float(chances[inside].max()) if inside.any() else 0.5,
            evidence=_words_of(near[-1]) if near else "",
        )

    # --- why, and what is not known ---

    def fault_of(self, span: StationSpan) -> Fault | None:
        """The connection or equipment that put a station off the air, if one did."""
        ends = span.ended_at or self.until
        near = [
            one
            for one in self.faults
            if one.entry.station_key == span.station_key
            and one.group
            and span.started_at - NEAR <= one.entry.effective_at <= ends
        ]
        return near[0] if near else None

    def said_of(self, span: StationSpan) -> str:
        """What was said as a station went off the air."""
        return self._said.get(span.entry_uid, "")

    @cached_property
    def _said(self) -> dict[UUID, str]:
        keys = [span.entry_uid for span in self.spans]
        entries = FieldEntry.objects.filter(uid__in=keys).exclude(note="")
        return dict(entries.values_list("uid", "note"))

    def power_ended(self, span: StationSpan) -> BelievedTurn | None:
        """The turn whose battery had ended, where another one brought power back."""
        if span.what != "off_air" or self.fault_of(span) is not None:
            return None
        here = [t for t in self.lives if t.station == str(span.station_key)]
        before = [t for t in here if t.start < span.started_at]
        said = self.said_of(span)
        if blamed_in(said):
            return None
        if before and says_end(said):
            return before[-1]
        back = (span.ended_at or self.until) + RELIEVED
        after = [t for t in here if span.started_at <= t.start <= back]
        if not before or not after or after[0].battery == before[-1].battery:
            return None
        return before[-1]

    @property
    def gaps(self) -> list[Gap]:
        """What contradicts or is missing in the log, contradictions first."""
        event = self.event
        tags = {
            UUID(key): one.tag for key, one in self.physics.problem.batteries.items()
        }
        found = [
            Gap(one.words, is_contradiction=True)
            for one in conflicts.questions(event, tags)
        ]
        if event.state != Event.State.CLOSED:
            found.append(Gap("the event is not closed: all is as of now"))
        found += [
            Gap(f"{self._name(one.station_key)} went off the air and nobody noted back")
            for one in self.spans
            if one.what == "off_air" and one.ended_at is None
        ]
        for station in self.stations:
            found += self._unwatched(station)
        return found

    def _unwatched(self, station: Station) -> list[Gap]:
        """Stretches in which a station was open and nobody read or swapped there."""
        read = sorted(
            one.effective_at
            for turn in self.lives
            if turn.station == str(station.pk)
            for one in turn.readings
        )
        swaps = [turn.start for turn in self.lives if turn.station == str(station.pk)]
        if not swaps:
            if self._is_open(station, self.event.starts_at, self.until):
                return [Gap(f"no battery was ever noted at {station.name}")]
            return []
        moments = sorted([self.event.starts_at, *read, *swaps, self.until])
        return [
            Gap(f"{station.name} was not read for {(end - start) // HOUR} h")
            for start, end in pairwise(moments)
            if end - start >= UNWATCHED and self._is_open(station, start, end)
        ]

    def _is_open(self, station: Station, start: datetime, end: datetime) -> bool:
        return self.physics.drawn_as_planned_wh(str(station.pk), start, end) > 0

    def _name(self, key: UUID) -> str:
        return next((one.name for one in self.stations if one.pk == key), "A station")


def chance_below(
    limit: float, low: FloatArray, typical: FloatArray, high: FloatArray
) -> FloatArray:
    """How likely a charge is below a limit, by its median and 80 % interval."""
    side = np.where(limit >= typical, high - typical, typical - low)
    return np.asarray(ndtr((limit - typical) * ONE_IN_TEN / np.maximum(side, 1e-6)))


def baseline_of(event: Event) -> Rotation | None:
    """The last rotation published before the event began; None: none was."""
    began = event.starts_at - event.clock_offset  # rotations are dated in real time
    made = event.rotations.filter(published_at__lte=began, from_min=0)
    return made.select_related("snapshot").order_by("-published_at").first()


def _words_of(entry: FieldEntry) -> str:
    if entry.gauge_pct is not None:
        return f"gauge {entry.gauge_pct:.0f} %"
    if entry.volts is not None:
        how = (entry.how or "receiving").replace("_", " ")
        return f"{entry.volts:.2f} V {how}"
    return f"counter {entry.amp_hours or 0:.1f} Ah"
