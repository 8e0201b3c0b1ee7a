"""How cells are read: one small function per kind of cell."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from datetime import date, datetime, time
from typing import TypeVar

from hollow_kettle.ui.forms import FIRST_YEAR, LAST_YEAR
from hollow_kettle.ui.forms import time_of_day as parse_time
from powercore.errors import PowercoreError
from powercore.limits import Limit
from powercore.values import parse_quantity

from .tables import CellFault


def text(most: int) -> Callable[[str], str]:
    """Read a text of at most some length."""

    def read(cell: str) -> str:
        if len(cell) > most:
            raise CellFault(f"has {len(cell)} characters; {most} is the most")
        return cell

    return read


def number(limit: Limit) -> Callable[[str], float]:
    """
    Read a number within a range; decimal point or comma, with its unit or without.

    "35 @ 20 h" is a capacity with the hours it is given for: 35.
    """

    def read(cell: str) -> float:
        # The hours that a capacity is given for don't change what it is.
        asked = cell.partition("@")[0] if limit.unit in ("Ah", "mAh") else cell
        try:
            return limit.check("it", parse_quantity(asked, "it", limit.unit))
        except PowercoreError as error:
            raise CellFault(str(error).removeprefix("it ").rstrip(".")) from error

    return read


def whole(limit: Limit) -> Callable[[str], int]:
    """Read a whole number within a range."""
    as_number = number(limit)

    def read(cell: str) -> int:
        value = as_number(cell)
        if value != int(value):
            raise CellFault(f"must be a whole number, not '{cell}'")
        return int(value)

    return read


def cells(limit: Limit) -> Callable[[str], int]:
    """Read cells in series: 4, 4S, 4S2P, and 2x6 for two batteries of six."""
    as_number = whole(limit)

    def read(cell: str) -> int:
        if found := CELLS.search(cell):
            return as_number(found[1])
        if found := _TIMES.fullmatch(cell.strip()):
            return as_number(str(int(found[1]) * int(found[2])))
        return as_number(cell)

    return read


#: Cells in series and in parallel, as people write them.
CELLS = re.compile(r"\b(\d+)\s*s(?:\s*(\d+)\s*p)?\b", re.IGNORECASE)
_TIMES = re.compile(r"(\d+)\s*[x×*]\s*(\d+)")


def choice(names: Mapping[str, Iterable[str]]) -> Callable[[str], str]:
    """Read one of a few words; `names` gives each key its other spellings."""
    known = {
        spelling.casefold(): key
        for key, spellings in names.items()
        for spelling in (key, *spellings)
    }

    def read(cell: str) -> str:
        key = known.get(cell.casefold())
        if key is None:
            raise CellFault(f"'{cell[:30]}' is not one of {', '.join(names)}")
        return key

    return read


def wall_time(cell: str) -> datetime:
    """Read a local date and time: 2026-06-27 14:00."""
    for form in ("%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M"):
        try:
            moment = datetime.strptime(cell, form)  # noqa: DTZ007 - wall time of a zone
        except ValueError:
            continue
        return _in_years(moment)
    raise CellFault(f"must be a date and time like 2026-06-27 14:00, not '{cell[:30]}'")


D = TypeVar("D", bound=date)


def _in_years(day: D) -> D:
    """A day in a club's years; "0026" and "9999" are slips."""
    if not FIRST_YEAR <= day.year <= LAST_YEAR:
        raise CellFault(
            f"must be a year from {FIRST_YEAR} to {LAST_YEAR}, not {day.year}"
        )
    return day


_YES, _NO = ("yes", "y", "true", "1", "x"), ("no", "n", "false", "0", "-")


def yes(cell: str) -> bool:
    """Read yes or no."""
    word = cell.casefold()
    if word in _YES:
        return True
    if word in _NO:
        return False
    raise CellFault(f"must be yes or no, not '{cell[:20]}'")


def day(cell: str) -> date:
    """Read a date: 2026-04-11."""
    try:
        return _in_years(date.fromisoformat(cell))
    except ValueError:
        raise CellFault(f"must be a date like 2026-04-11, not '{cell[:20]}'") from None


def time_of_day(cell: str) -> time:
    """Read a time of day: 22:00."""
    try:
        return parse_time(cell)
    except ValueError:
        raise CellFault(f"must be a time like 22:00, not '{cell[:20]}'") from None
