"""Where power ran short: found in the log, corrected and completed by people."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from django.db.models import Prefetch

from hollow_kettle.debrief.history import History, Turn
from hollow_kettle.debrief.models import Photo, Shortfall
from hollow_kettle.field.beliefs import believed_draws
from hollow_kettle.log.models import FieldEntry, Kind, StationSpan
from hollow_kettle.plan.models import Station
from powercore.belief.draw import DrawFactor
from powercore.belief.ends import blamed_in
from powercore.debrief import shortfall as core
from powercore.debrief.shortfall import Stretch
from powercore.gear.faults import CAUSES
from powercore.physics.loads import ONE_IN_TEN

#: A stretch shorter than this is none. [min]
LEAST_MIN = 0.5
_NOTED = (Kind.OFF_AIR, Kind.POWER_STEP, Kind.SHED)


@dataclass(slots=True)
class Fall:
    """One shortfall as it is counted and shown."""

    station: Station
    measured: core.Shortfall
    start: datetime
    end: datetime
    #: Keys of what was found that it stands for.
    keys: tuple[str, ...]
    #: What it rests on, in words.
    evidence: str
    #: How sure it is. (0 to 1)
    chance: float = 1.0
    is_carried: bool = True
    is_open_ended: bool = False
    note: str = ""
    #: Its cause by the fault log or by somebody's word: key and words.
    why: str = ""
    why_words: str = ""
    #: What somebody made of it; None: it is as it was found.
    row: Shortfall | None = None
    #: What it not got would have been, 1 time in 10 less and more. [Wh]
    low_wh: float | None = None
    high_wh: float | None = None

    @property
    def what(self) -> str:
        """The way it ran short."""
        return self.measured.what

    @property
    def key(self) -> str:
        """What names it in forms: the row's own key, else the first found one's."""
        return str(self.row.pk) if self.row else self.keys[0]

    @property
    def words(self) -> str:
        """The way it ran short, in words, no surer than it is."""
        label = str(Shortfall.What(self.what).label)
        if self.is_carried:
            return label
        tenths = min(9, max(5, round(10 * self.chance)))
        return f"{'likely' if tenths > 5 else 'perhaps'} {label}, {tenths} in 10"

    @property
    def is_harm(self) -> bool:
        """Whether it did harm; into reserve is a broken promise, counted apart."""
        return self.what != Shortfall.What.RESERVE

    @property
    def photos(self) -> list[Photo]:
        """Photos of it, without what they show."""
        return list(self.row.photos.all()) if self.row else []

    @property
    def group(self) -> str:
        """ "connection" or "equipment", where its cause is one."""
        return CAUSES[self.why].group if self.why in CAUSES else ""


class Falls:
    """The shortfalls of an event, in order of time."""

    def __init__(self, history: History) -> None:
        self.history, self.event = history, history.event
        self.draws = believed_draws(history.physics)
        self._notes = dict(
            FieldEntry.objects.filter(
                event_key=self.event.pk, kind__in=_NOTED
            ).values_list("uid", "note")
        )
        rows = list(
            Shortfall.objects.filter(event=self.event)
            .select_related("made_by")
            .prefetch_related(Prefetch("photos", Photo.objects.defer("content")))
        )
        found = list(self._found())
        self._by_key = {fall.keys[0]: fall for fall in found}
        covered = {key for row in rows for key in row.covers}
        kept = [fall for fall in found if fall.keys[0] not in covered]
        kept += [
            self._of_row(row)
            for row in rows
            if not row.is_dropped
            and row.starts_at < self.event.ends_at
            and row.ends_at > self.event.starts_at
        ]
        self.every = sorted(kept, key=lambda fall: (fall.start, fall.station.name))
        #: What somebody said did not happen.
        self.dropped = [row for row in rows if row.is_dropped]

    def of_key(self, key: str) -> Fall | None:
        """The shortfall that a form names."""
        return next((fall for fall in self.every if fall.key == key), None)

    def _found(self) -> Iterator[Fall]:
        stations = {one.pk: one for one in self.history.stations}
        for span in self.history.spans:
            station = stations.get(span.station_key)
            start = max(span.started_at, self.event.starts_at)
            end = min(span.ended_at or self.history.until, self.history.until)
            if station is None or end <= start:
                continue
            fall = self._of_span(span, station, start, end)
            if fall.measured.minutes >= LEAST_MIN:
                yield fall
        for turn in self.history.turns:
            yield from self._into_reserve(turn, stations[turn.station_key])

    def _of_span(
        self, span: StationSpan, station: Station, start: datetime, end: datetime
    ) -> Fall:
        fault = self.history.fault_of(span) if span.what == "off_air" else None
        ended = self.history.power_ended(span)
        why = fault.cause_key if fault else "ended" if ended else ""
        if not why and span.what == "off_air":
            why = blamed_in(self.history.said_of(span))
        fall = self._fall(
            span.what,
            station,
            start,
            end,
            keys=(str(span.entry_uid),),
            evidence="noted" if span.ended_at else "noted; nobody noted its end",
        )
        fall.is_open_ended = span.ended_at is None
        fall.note = self._notes.get(span.entry_uid, "")
        self._because(fall, why)
        return fall

    def _into_reserve(self, turn: Turn, station: Station) -> Iterator[Fall]:
        for number, one in enumerate(turn.in_reserve):
            fall = self._fall(
                "reserve",
                station,
                self.event.moment_of(one.stretch.start_min),
                self.event.moment_of(one.stretch.end_min),
                keys=(f"reserve-{turn.battery}-{turn.start:%m%d%H%M}-{number}",),
                evidence=one.evidence or "no reading; by what it drew",
            )
            fall.chance, fall.is_carried = one.chance, one.is_carried
            fall.note = f"{turn.tag} below its reserve"
            if fall.measured.minutes >= LEAST_MIN:
                yield fall

    def _of_row(self, row: Shortfall) -> Fall:
        covered = [self._by_key[key] for key in row.covers if key in self._by_key]
        said = "; ".join(dict.fromkeys(one.evidence for one in covered))
        by = f"by hand, {row.made_by.name}" if row.made_by else "by hand"
        station = next(one for one in self.history.stations if one.pk == row.station_id)
        fall = self._fall(
            row.what,
            station,
            max(row.starts_at, self.event.starts_at),
            min(row.ends_at, self.event.ends_at),
            keys=tuple(row.covers),
            evidence=f"{said}; {by}" if said else by,
        )
        fall.row, fall.note = (
            row,
            row.note or next((one.note for one in covered if one.note), ""),
        )
        self._because(fall, row.why or next((o.why for o in covered if o.why), ""))
        return fall

    def _because(self, fall: Fall, why: str) -> None:
        fall.why, fall.why_words = why, dict(Shortfall.WHY)[why] if why else ""

    def _fall(
        self,
        what: str,
        station: Station,
        start: datetime,
        end: datetime,
        *,
        keys: tuple[str, ...],
        evidence: str,
    ) -> Fall:
        physics, key = self.history.physics, str(station.pk)
        measured = core.shortfall(
            what,
            Stretch(
                start_min=self.event.minute_of(start), end_min=self.event.minute_of(end)
            ),
            grid=physics.problem.grid,
            full_w=physics.problem.demand_w[key],
            low_w=physics.low.demand_w[key],
        )
        draw = self.draws.get(station.pk, DrawFactor())
        fall = Fall(station, measured, start, end, keys, evidence)
        if measured.energy_wh:
            low = max(0.0, draw.mean - ONE_IN_TEN * draw.sd)
            fall.low_wh = measured.energy_wh * low
            fall.high_wh = measured.energy_wh * (draw.mean + ONE_IN_TEN * draw.sd)
        return fall


def falls_of(history: History) -> Falls:
    """The shortfalls of an event."""
    return Falls(history)
