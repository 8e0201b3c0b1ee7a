"""A time as people type it: 8:36, 0105, 1405z, with or without a date."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta

from hollow_kettle.clock import from_local, local
from hollow_kettle.ui.forms import FIRST_YEAR, LAST_YEAR

from .services import AHEAD

_TIME = re.compile(
    r"(?:(?P<date>\d{4}-\d\d-\d\d)[ t]+)?"
    r"(?:(?P<hour>\d{1,2}):(?P<minute>\d\d)|(?P<four>\d{4}))"
    r"\s?(?:(?P<zulu>z|utc)|(?P<letters>[a-z]{3,5}|[+-]\d\d(?:\d\d)?))?",
    re.IGNORECASE,
)


def typed_moment(text: str, now: datetime, zone: str) -> datetime | None:
    """
    Return the moment that was typed, in UTC; None where it is no time.

    An hour alone is the latest one, a little ahead allowed. One that is there twice, as
    clocks go back, is the latest that has been, unless its zone's letters say which.
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

    def on(that: date) -> datetime | None:
        wall = datetime(that.year, that.month, that.day, hour, minute)  # noqa: DTZ001
        if is_utc:
            return wall.replace(tzinfo=UTC)
        both = [from_local(wall.replace(fold=fold), zone) for fold in (0, 1)]
        if letters := found["letters"]:
            both = [one for one in both if _letters(one, zone) == letters.casefold()]
            if not both:
                return None
        been = [one for one in both if one <= now + timedelta(minutes=1)]
        return max(been, default=both[0])

    moment = on(day)
    if moment is None:
        return None
    if not found["date"] and moment > now + AHEAD:
        moment = on(day - timedelta(days=1))
    return moment


def _letters(moment: datetime, zone: str) -> str:
    return (local(moment, zone).tzname() or "").casefold()
