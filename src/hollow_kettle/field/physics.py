"""What an event's plan says flowed: at its stations, on its bays, from the sun."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from datetime import datetime, timedelta
from uuid import UUID

import numpy as np

from hollow_kettle.log.models import (
    BatteryNow,
    Place,
    PlaceKind,
    SourceOff,
    StationDraw,
    StationSpan,
)
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.bridge.windows import clipped
from hollow_kettle.plan.models import Event
from powercore.belief.believed import (
    CHARGES,
    Begun,
    Joint,
    SocEstimate,
    carried,
    unknown,
)
from powercore.belief.ends import END_SOC
from powercore.belief.slack import with_planned_draw
from powercore.belief.steps import Charging, Step, Use
from powercore.event.problem import Problem
from powercore.physics.battery import Pack
from powercore.values import FloatArray, Window, without

#: Where sun or a supply fills a battery, its charge is followed so finely.
FINELY = timedelta(hours=1)


class EventPhysics:
    """What the plan says flowed in an event: at its stations, on its bays."""

    def __init__(self, event: Event) -> None:
        self.event = event
        found = problem_for(event)
        #: Keeps what was worked out for as long as the event stays as it is.
        self.once = found.once
        self.problem, self.low = found.problem, found.low
        self.stations = found.stations
        self.spans = list(StationSpan.objects.filter(event_key=event.pk))
        #: What readings say of stations' real draw, by key.
        self.draws = {
            str(row.station_key): row.believed
            for row in StationDraw.objects.filter(event_key=event.pk)
        }
        #: Since when sources are off by the log, by key.
        self._outages: list[SourceOff] = found.once(
            "outages", lambda: list(SourceOff.objects.filter(event_key=event.pk))
        )
        self.off_since = {
            str(row.source_key): row.started_at
            for row in self._outages
            if row.ended_at is None
        }

    def restarted_since(self, moment: datetime) -> dict[str, datetime]:
        """When sources came on again after a moment, by key."""
        return {
            str(row.source_key): row.ended_at
            for row in self._outages
            if row.ended_at is not None and row.ended_at > moment
        }

    def drawn_wh(self, station: str, start: datetime, end: datetime) -> float:
        """Energy a station drew by plan, minus off the air, less on low power."""
        return sum(wh for *_, wh in self._uses(station, start, end))

    def _uses(
        self, station: str, start: datetime, end: datetime
    ) -> Iterator[tuple[datetime, datetime, float]]:
        """Stretches in which a station was on one power, and what that drew. [Wh]"""
        if station not in self.problem.stations or end <= start:
            return
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
        for first, last in itertools.pairwise(cuts):
            if any(_covers(span, first) for span in off):
                yield first, last, 0.0
                continue
            is_low = any(_covers(span, first) for span in low)
            problem = self.low if is_low else self.problem
            yield first, last, self._planned_wh(problem, station, first, last)

    def drawn_as_planned_wh(
        self, station: str, start: datetime, end: datetime
    ) -> float:
        """Energy a station was planned to draw, whatever happened. [Wh]"""
        return self._planned_wh(self.problem, station, start, end)

    def _planned_wh(
        self, problem: Problem, station: str, start: datetime, end: datetime
    ) -> float:
        return self._within(problem.drawn_wh[station], start, end)

    def _within(self, wh: FloatArray, start: datetime, end: datetime) -> float:
        edges = self.problem.grid.edges_min
        first, last = self.event.minute_of(start), self.event.minute_of(end)
        return float(np.interp(last, edges, wh) - np.interp(first, edges, wh))

    def panels_w(self, owner: str, at: datetime) -> float:
        """What panels of a station or a source were to give at a moment. [W]"""
        problem = self.problem
        series = problem.forecast_w.get(owner)
        if series is None:
            series = problem.yard_forecast_w.get(owner)
        slot = int(self.event.minute_of(at) // problem.grid.step_min)
        if series is None or not 0 <= slot < problem.grid.count:
            return 0.0
        return float(series[slot])

    def panels_v(self, owner: str) -> float:
        """Volts of what panels of a station, or of the yard, charge. [V]"""
        return self.problem.scenario.charging_v(self.problem.stations.get(owner))

    def source_name(self, key: str) -> str:
        """What a source is called."""
        found = self.problem.sources.get(key)
        return "the yard" if found is None else found.name

    def power_hours(self, bay: str, start: datetime, end: datetime) -> float:
        """Hours in which a bay's source ran, by its plan and what was noted."""
        if bay not in self.problem.bays:
            return 0.0
        first, last = self.event.minute_of(start), self.event.minute_of(end)
        return sum(
            max(0.0, min(last, window.end_min) - max(first, window.start_min)) / 60
            for window in self.bay_windows(bay)
        )

    def bay_windows(self, bay: str) -> tuple[Window, ...]:
        """When a bay gives power: its source's hours without those it was faulty."""
        spans = [
            clipped(self.event, row.started_at, row.ended_at or self.event.ends_at, 0)
            for row in self._outages
            if str(row.source_key) == bay
        ]
        gaps = [Window(start_min=a, end_min=b) for a, b in spans if b > a]
        windows = self.problem.sources[self.problem.bays[bay].source].windows
        return without(windows, gaps) if gaps else windows

    def hours_until(self, bay: str, now: datetime, hours: float) -> float | None:
        """When a bay has given so many hours of power; None: not before the end."""
        at = self.event.minute_of(now)
        left_min = 60 * hours
        for window in self.bay_windows(bay):
            start = max(at, window.start_min)
            if window.end_min - start >= left_min:
                return (start - at + left_min) / 60
            left_min -= max(0.0, window.end_min - start)
        return None

    def end_soc(self, station: str | None, battery: UUID) -> float:
        """Where a battery's power ends at a station, or anywhere. (0 to 1)"""
        if station not in self.problem.stations or self.pack(battery) is None:
            return END_SOC
        return max(END_SOC, self.problem.feed(str(station), str(battery)).floor_soc)

    def pack(self, battery: UUID) -> Pack | None:
        """A battery of the event as the core sees it."""
        found = self.problem.batteries.get(str(battery))
        return None if found is None else found.pack

    def passed(
        self, place: Place | None, battery: UUID, start: datetime, end: datetime
    ) -> list[Step]:
        """What passed with a battery at a place, as steps of a belief."""
        pack = self.pack(battery)
        if place is None or pack is None or end <= start:
            return []
        if place.kind == PlaceKind.POSITION:
            return list(self._used(str(place.station_key), pack, start, end))
        if place.kind == PlaceKind.BAY and str(place.pk) in self.problem.bays:
            hours = self.power_hours(str(place.pk), start, end)
            model = self.problem.charge_model(str(place.pk), str(battery))
            return [Charging(model=model, hours=hours)] if hours > 0 else []
        return []

    def _used(
        self, station: str, pack: Pack, start: datetime, end: datetime
    ) -> Iterator[Use]:
        # Charge goes by the pack's own volts, as plans count it.
        for first, last, drawn_wh in self._uses(station, start, end):
            given = self.problem.given_wh[station]
            if self._within(given, first, last) <= 0:
                if drawn_wh > 0:
                    yield Use(
                        planned_ah=drawn_wh / pack.nominal_v,
                        hours=(last - first).total_seconds() / 3600,
                    )
                continue
            share = drawn_wh / max(
                1e-9, self._planned_wh(self.problem, station, first, last)
            )
            at = first
            while at < last:
                until = min(last, at + FINELY)
                planned_wh = self._planned_wh(self.problem, station, at, until)
                yield Use(
                    planned_ah=share * planned_wh / pack.nominal_v,
                    hours=(until - at).total_seconds() / 3600,
                    given_ah=self._within(given, at, until) / pack.nominal_v,
                )
                at = until

    def until_evidence(
        self, station: str, row: BatteryNow | None, now: datetime
    ) -> Joint | None:
        """
        What the plan says of a battery in use of which nothing was read there.

        None where the station has evidence of what it draws: belief counts then.
        """
        if row is None or not row.begun or row.since is None or station in self.draws:
            return None
        pack = self.pack(row.battery)
        if pack is None or (row.read_at is not None and row.read_at > row.since):
            return None
        begun = np.clip(Begun.of_numbers(row.begun).charge.even(CHARGES), 0, 1)
        sure = self.problem.batteries[str(row.battery)].trusted_sd
        joint = with_planned_draw(begun, self.problem.stations[station].spread, sure)
        steps = self.passed(row.place, row.battery, row.since, now)
        return carried(unknown(), joint, steps, pack)[1]

    def joint_at(self, row: BatteryNow, now: datetime) -> tuple[SocEstimate, Joint]:
        """What was worked out at the last entry, carried forward to now."""
        before = SocEstimate(
            typical=row.soc_typical,
            low=row.soc_low,
            high=row.soc_high,
            evidence=row.evidence,
        )
        joint, pack = row.joint, self.pack(row.battery)
        if joint is None:
            even = np.linspace(row.soc_low, row.soc_high, 12)
            return before, Joint(even, np.ones(12), np.zeros(12))
        if row.parts_at is None or pack is None:
            return before, joint
        steps = self.passed(row.place, row.battery, row.parts_at, now)
        return carried(before, joint, steps, pack)


def _covers(span: StationSpan, moment: datetime) -> bool:
    return span.started_at <= moment and (
        span.ended_at is None or moment < span.ended_at
    )
