"""A time as people type it: 8:36, 0105, 1405z, with or without a date."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta

from hollow_kettle.clock import from_local, local
from hollow_kettle.ui.forms import FIRST_YEAR, LAST_YEAR

from .services import AHEAD

_TIME = re.compile(
    r"(?:(?P<date>\d{4}-\d\d-\d\d)[ t]+)?"
    r"(?:(?P<hour>\d{1,2}):(?P<minute>\d\d)|(?P<four>\d{4}))\s?(?P<zulu>z|utc)?",
    re.IGNORECASE,
)


def typed_moment(text: str, now: datetime, zone: str) -> datetime | None:
    """
    Return the moment that was typed, in UTC; None where it is no time.

    An hour alone is the latest one, a little ahead allowed.
    """
    found = _TIME.fullmatch(text.strip())
    if found is None:
        return None
    four = found["four"]
    hour = int(four[:2] if four else found["hour"])
    minute = int(four[2:] if four else found["minute"])
    if hour > 23 or minute > 59:
        return None
    is_utc = found["zulu"] is not None
    here = now.astimezone(UTC) if is_utc else local(now, zone)
    day = here.date()
    if found["date"]:
        try:
            day = datetime.strptime(found["date"], "%Y-%m-%d").date()  # noqa: DTZ007
        except ValueError:
            return None
        if not FIRST_YEAR <= day.year <= LAST_YEAR:  # no clock is turned so far
            return datetime(day.year, day.month, day.day, hour, minute, tzinfo=UTC)

    def on(that: date) -> datetime:
        wall = datetime(that.year, that.month, that.day, hour, minute)  # noqa: DTZ001
        return wall.replace(tzinfo=UTC) if is_utc else from_local(wall, zone)

    moment = on(day)
    if not found["date"] and moment > now + AHEAD:
        moment = on(day - timedelta(days=1))
    return moment
