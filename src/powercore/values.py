"""Value types of the core: numbers as people type them, and the time grid."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from powercore.errors import NotANumber, OutOfRange

FloatArray = NDArray[np.float64]
BoolArray = NDArray[np.bool_]
IntArray = NDArray[np.int64]

#: Voltage at which the currents of equipment are stated: what a thing draws is its
#: power, and at another voltage other amps. [V] Common practice, no source: the nominal
#: voltage of four LiFePO4 cells.
STATED_V = 12.8

#: A comma before three digits: a thousand, or a decimal comma.
_EITHER = re.compile(r"[+-]?[1-9]\d{0,2},\d{3}")
_NUMBER = re.compile(r"[+-]?(\d+([.,]\d*)?|[.,]\d+)")


def parse_number(text: str, field: str) -> float:
    """
    Read a number as people type it: `12.94` and `12,94` are the same.

    Parameters
    ----------
    text : str
        What was typed; blanks around it don't matter.
    field : str
        What the number is, for the error.

    Returns
    -------
    float
        A finite number.

    Raises
    ------
    NotANumber
        If the text is anything else: empty, `NaN`, two separators, a unit; or a comma
        before three digits, which is one thing here and another there.
    """
    text = text.strip().replace("\u2212", "-")
    if _EITHER.fullmatch(text):
        whole, decimal = text.replace(",", ""), text.replace(",", ".").rstrip("0")
        raise NotANumber(
            f"{field}: is '{text}' {whole} or {decimal.rstrip('.')}? Write it without "
            "the comma."
        )
    if not _NUMBER.fullmatch(text):
        raise NotANumber(
            f"{field} must be a plain number such as 12.94, not '{text[:40]}'."
        )
    return float(text.replace(",", "."))


#: How people write units, in lower case, by the unit that is wanted: what one is of it.
#: The foot and the pound are the international ones (NIST SP 811, appendix B.8).
UNITS: dict[str, dict[str, float]] = {
    "Ah": {"ah": 1, "mah": 0.001, "amp hours": 1, "amp-hours": 1},
    "mAh": {"mah": 1, "ah": 1000},
    "A": {"a": 1, "ma": 0.001, "amp": 1, "amps": 1},
    "mA": {"ma": 1, "a": 1000},
    "V": {"v": 1, "mv": 0.001, "volt": 1, "volts": 1, "vdc": 1},
    "W": {"w": 1, "kw": 1000, "watt": 1, "watts": 1, "wp": 1},
    "Wh": {"wh": 1, "kwh": 1000},
    "VA": {"va": 1, "kva": 1000},
    "kg": {"kg": 1, "g": 0.001} | dict.fromkeys(("lb", "lbs", "pounds"), 0.45359237),
    "mΩ": {"mω": 1, "mohm": 1, "ω": 1000, "ohm": 1000},
    "m": {"m": 1, "cm": 0.01, "mm": 0.001, "metres": 1, "meters": 1}
    | dict.fromkeys(("ft", "feet", "foot", "'", "′"), 0.3048)
    | dict.fromkeys(("in", "inch", "inches", '"', "″"), 0.0254),
    "L": {"l": 1, "ml": 0.001},
    "%": {"%": 1, "percent": 1},
    "h": {"h": 1, "hours": 1, "min": 1 / 60},
    "min": {"min": 1, "minutes": 1, "h": 60, "hours": 60},
    "s": {"s": 1, "seconds": 1, "min": 60},
    "°C": {"°c": 1, "c": 1},
    "°": {"°": 1},
    "mm²": {"mm²": 1, "mm2": 1},
}
_WITH_UNIT = re.compile(r"([-+−]?[\d.,]*\d)\s*([^\d\s.,].*?)?")
_FAHRENHEIT = ("°f", "f")


def parse_quantity(text: str, field: str, unit: str) -> float:
    """
    Read a number as people type it, alone or with a unit: `30 ft` are 9.144 m.

    Parameters
    ----------
    text : str
        What was typed.
    field : str
        What the number is, for the error.
    unit : str
        The unit of a bare number, and of what is returned.

    Raises
    ------
    NotANumber
        As of `parse_number`, or where the unit is none of that kind.
    """
    found = _WITH_UNIT.fullmatch(text.strip())
    own = found.group(2).strip(" .").casefold() if found and found.group(2) else ""
    if found is None or not own:
        return parse_number(text, field)
    if unit == "°C" and own in _FAHRENHEIT:
        return float(f"{(parse_number(found.group(1), field) - 32) / 1.8:.12g}")
    share = UNITS.get(unit, {}).get(own)
    if share is None:
        return parse_number(text, field)
    value = parse_number(found.group(1), field)
    # 2300 mAh are 2.3 Ah to the last digit.
    return value if share == 1 else float(f"{value * share:.12g}")


def without_zeros(text: str) -> str:
    """Return a text without leading zeros in its numbers: K07 and K7 sound alike."""
    return re.sub(r"\d+", lambda digits: str(int(digits.group())), text)


def as_counted(text: str) -> list[tuple[int, int | str]]:
    """Return a key that sorts texts as people count: K2 before K11."""
    parts = re.findall(r"\d+|\D+", text.casefold())
    return [(0, int(part)) if part.isdecimal() else (1, part) for part in parts]


def in_range(
    field: str,
    value: float,
    *,
    low: float | None = None,
    high: float | None = None,
    unit: str = "",
    why: str = "",
) -> float:
    """
    Return a value if it is finite and within its range.

    Raises
    ------
    OutOfRange
        Naming the field, the value, the range, and why the range exists.
    """
    too_low = low is not None and value < low
    too_high = high is not None and value > high
    if not math.isfinite(value) or too_low or too_high:
        shown = f"{value:g}" if isinstance(value, float) else value
        raise OutOfRange(field, shown, low=low, high=high, unit=unit, why=why)
    return value


@dataclass(frozen=True, slots=True, kw_only=True)
class TimeGrid:
    """Equal steps of time from an event's start; minutes count from there."""

    #: Length of a step. [min]
    step_min: int = 5
    #: Number of steps.
    count: int

    def __post_init__(self) -> None:
        in_range("Time step", self.step_min, low=1, high=60, unit="min")
        in_range("Number of time steps", self.count, low=1, high=100_000)

    @classmethod
    def covering(cls, span_min: int, step_min: int = 5) -> TimeGrid:
        """Return the shortest grid that covers a span of minutes."""
        return cls(step_min=step_min, count=max(1, -(-span_min // step_min)))

    @property
    def span_min(self) -> int:
        """Length of the whole grid. [min]"""
        return self.step_min * self.count

    @property
    def edges_min(self) -> FloatArray:
        """Edges of the steps. [min], shape (count + 1,)"""
        return np.arange(self.count + 1, dtype=float) * self.step_min

    def cumulative_wh(self, power_w: FloatArray) -> FloatArray:
        """Energy used up to each edge by a power that is constant in a step. [Wh]"""
        per_step = np.asarray(power_w, dtype=float) * self.step_min / 60.0
        return np.concatenate([[0.0], np.cumsum(per_step)])


@dataclass(frozen=True, slots=True, kw_only=True)
class Window:
    """A stretch of time, counted from the event's start. [min]"""

    start_min: int
    end_min: int

    def __post_init__(self) -> None:
        if self.end_min <= self.start_min:
            raise OutOfRange("End of a window", self.end_min, low=self.start_min + 1)


def without(windows: Sequence[Window], gaps: Sequence[Window]) -> tuple[Window, ...]:
    """Windows with every gap cut out of them, in order."""
    left = sorted((window.start_min, window.end_min) for window in windows)
    for gap in gaps:
        cut = []
        for start, end in left:
            cut.append((start, min(end, gap.start_min)))
            cut.append((max(start, gap.end_min), end))
        left = [(start, end) for start, end in cut if end > start]
    return tuple(Window(start_min=start, end_min=end) for start, end in sorted(left))


def overlap_min(grid: TimeGrid, start_min: float, end_min: float) -> FloatArray:
    """Minutes of each step that lie in a stretch. shape (grid.count,)"""
    edges = grid.edges_min
    common = np.minimum(edges[1:], end_min) - np.maximum(edges[:-1], start_min)
    return np.clip(common, 0, grid.step_min)


def windows_where(grid: TimeGrid, marked: NDArray[np.bool_]) -> list[Window]:
    """Stretches of marked steps, in order."""
    padded = np.concatenate([[False], marked, [False]]).astype(int)
    edges = np.flatnonzero(np.diff(padded)) * grid.step_min
    return [
        Window(start_min=int(first), end_min=int(last))
        for first, last in zip(edges[::2], edges[1::2], strict=True)
    ]
