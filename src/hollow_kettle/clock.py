"""
The clocks: an event's own "now", the club's "now", and real time.

Field, board and demo ask an event's clock, so that an event can be replayed or
rehearsed. Sessions, jobs and lock-outs run on real time. Nothing else in the
application reads a clock; lint bans it.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo, available_timezones


def real_now() -> datetime:
    """Return the real time, in UTC."""
    return datetime.now(UTC)


@dataclass(frozen=True, slots=True, kw_only=True)
class Clock:
    """An event's or the club's time, derived from real time."""

    #: Added to real time. [timedelta]
    offset: timedelta = timedelta(0)
    #: Seconds of event time for one real second, counted from `started_at`.
    rate: float = 1.0
    #: Real time at which `rate` began to count.
    started_at: datetime | None = None
    #: When set, the clock stands still at this time.
    frozen_at: datetime | None = None

    def now(self) -> datetime:
        """Return what this clock shows, in UTC."""
        return self.at(real_now())

    def at(self, real: datetime) -> datetime:
        """Return what this clock shows at a real time, in UTC."""
        if self.frozen_at is not None:
            return self.frozen_at
        if self.started_at is not None and self.rate != 1.0:
            real = self.started_at + (real - self.started_at) * self.rate
        return real + self.offset


def moment_of(said: object) -> datetime | None:
    """A moment as machines write it (ISO 8601), in UTC without a zone; else None."""
    try:
        found = datetime.fromisoformat(str(said).replace("Z", "+00:00"))
    except ValueError:
        return None
    return found.replace(tzinfo=UTC) if found.tzinfo is None else found


def is_known_zone(name: str) -> bool:
    """Say whether a name is an IANA zone that this machine knows."""
    return name in available_timezones()


def local(moment: datetime, zone: str) -> datetime:
    """Return a moment as wall-clock time of a zone."""
    return moment.astimezone(ZoneInfo(zone))


def letters_of(moment: datetime, zone: str) -> str:
    """The letters of a zone, " EDT", where that hour is there twice; else nothing."""
    here = local(moment, zone)
    first, second = (here.replace(fold=fold) for fold in (0, 1))
    is_twice = first.utcoffset() != second.utcoffset() and (
        first.astimezone(UTC).astimezone(here.tzinfo).replace(tzinfo=None)
        == here.replace(tzinfo=None)
    )
    return f" {here.tzname()}" if is_twice else ""


def told(moment: datetime, zone: str, pattern: str = "%H:%M") -> str:
    """A moment by the wall clock, with its zone where that hour is there twice."""
    return f"{local(moment, zone):{pattern}}{letters_of(moment, zone)}"


def from_local(wall: datetime, zone: str) -> datetime:
    """
    Expand a wall-clock time of a zone to UTC; the one place that does.

    An hour that occurs twice when clocks go back means its first occurrence, or its
    second where the time says so (`fold`).
    """
    return wall.replace(tzinfo=ZoneInfo(zone)).astimezone(UTC)


def shifted(moment: datetime, by: timedelta, zone: str, to_zone: str = "") -> datetime:
    """A moment so much later by the clock on the wall, there or in another zone."""
    wall = local(moment, zone).replace(tzinfo=None)
    return from_local(wall + by, to_zone or zone)
