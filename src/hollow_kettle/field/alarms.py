"""Alarms: one for each cause, until somebody takes it on by name."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from hollow_kettle.clock import told
from hollow_kettle.log.models import Kind
from hollow_kettle.plan.models import Event
from hollow_kettle.ui.templatetags.kettle import chance
from powercore.gear.faults import symptom_of

from .coming import Noted
from .faults import open_of, where_of
from .page import Alarm, Board, BoardStation

#: What was taken on so long ago, and still is so, alarms again. Common practice, no
#: source.
AGAIN = timedelta(hours=1)
OFF, NO_VOLTS, HELD, SHORT = "off the air", "0 V", "on hold", "too short"
DANGER = "danger"
CAUSES = (OFF, NO_VOLTS, HELD, SHORT, DANGER)


def alarms_of(event: Event, board: Board, noted: Sequence[Noted]) -> list[Alarm]:
    """What needs somebody now; what somebody took on stands last, with the name."""
    causes = [
        *_dangers(event, board, noted),
        *(one for line in board.stations for one in _causes(event, line, board.now)),
    ]
    found = [_taken_on(one, noted, board.now) for one in causes]
    return sorted(found, key=lambda one: one.seen_by != "")


def _dangers(event: Event, board: Board, noted: Sequence[Noted]) -> Iterator[Alarm]:
    """Open faults that may hurt somebody, at a station or nowhere named: one each."""
    seen = set()
    for one in open_of(noted):
        symptom = symptom_of(one.symptom)
        if not symptom.is_danger or one.station in seen:
            continue
        seen.add(one.station)
        at = told(one.at, event.zone)
        words = f"{where_of(board, one)}: {symptom.name} since {at}."
        yield Alarm(one.station, DANGER, words)


def _causes(event: Event, line: BoardStation, now: datetime) -> Iterator[Alarm]:
    """The gravest cause at a station: what follows from it is no alarm of its own."""
    station, name = line.station.pk, line.station.name
    battery = line.battery
    if line.is_off:
        since = line.off_since or now
        more = f" {line.soonest[:1].upper()}{line.soonest[1:]}." if line.soonest else ""
        words = f"{name} is off the air since {told(since, event.zone)}.{more}"
        yield Alarm(station, OFF, words)
    elif line.is_tripped and battery is not None:
        words = f"{name}: {battery.tag} read 0 V. Tripped? Unplug everything first."
        yield Alarm(station, NO_VOLTS, words)
    elif battery is not None and battery.is_held:
        words = f"{name}: {battery.tag} is on hold. Take it out of use."
        yield Alarm(station, HELD, words)
    elif line.is_thin and line.disconnect is not None and line.slack is not None:
        left = timedelta(hours=line.disconnect.bad_h or 0.0)
        words = (
            f"{name}: {chance(line.slack.chance)} {line.risk_of}, perhaps by "
            f"{told(now + left, event.zone)}; planned "
            f"{chance(line.planned_chance)}."
        )
        yield Alarm(station, SHORT, words)


def _taken_on(alarm: Alarm, noted: Sequence[Noted], now: datetime) -> Alarm:
    for one in reversed(noted):
        if (
            one.kind == Kind.SEEN
            and (one.station, one.words) == (alarm.station, alarm.cause)
            and now - one.at < AGAIN
        ):
            return replace(alarm, seen_by=one.who, seen_at=one.at)
    return alarm
