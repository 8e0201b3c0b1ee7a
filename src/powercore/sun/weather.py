"""
Weather files: a plain CSV, EPW and TMY3, read into hours with what is assumed.

A typical-year file (EPW, TMY3) has no year of its own: its hours stand for the same
month, day and hour of any year.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import numpy as np

from powercore import limits
from powercore.errors import PowercoreError
from powercore.values import parse_number

#: Names a column of a plain CSV may have.
COLUMNS = {
    "time": ("time", "at", "datetime", "date", "timestamp", "valid"),
    "oktas": ("oktas", "cloud", "cloud_oktas", "eighths"),
    "cloud_pct": ("cloud_pct", "cloud_cover", "cloudcover", "cloud_percent"),
    "air_c": ("air_c", "temp_c", "temperature", "temp", "air"),
    "wind_ms": ("wind_ms", "wind", "wind_speed"),
    "global_w": ("global_w", "ghi", "ghi_w", "global"),
    "beam_w": ("beam_w", "dni"),
    "diffuse_w": ("diffuse_w", "dhi"),
}
#: The longest gap that is bridged with what stood before it. [h]
LONGEST_GAP_H = 6


class UnreadableWeather(PowercoreError):
    """A file does not say what weather must say."""


@dataclass(frozen=True, slots=True, kw_only=True)
class WeatherRow:
    """Weather from a moment on; what a file lacks is None."""

    at: datetime
    oktas: float | None = None
    air_c: float | None = None
    wind_ms: float | None = None
    global_w: float | None = None
    beam_w: float | None = None
    diffuse_w: float | None = None


@dataclass(slots=True)
class Weather:
    """What a file says for a span, and what is assumed where it says nothing."""

    kind: str
    rows: list[WeatherRow]
    #: What is assumed if it is accepted, in words.
    assumed: list[str] = field(default_factory=list)


def read_weather(
    content: bytes, *, zone: str, start: datetime, end: datetime
) -> Weather:
    """
    Read a weather file for a span of time.

    Parameters
    ----------
    content : bytes
        An EPW or TMY3 file, or a CSV whose headings name time and cloud or light.
    zone : str
        IANA zone of times that state none.
    start, end : datetime
        The span that is needed; rows outside are left out.

    Raises
    ------
    UnreadableWeather
        Naming the line and what is wrong with it.
    """
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = content.decode("latin-1")
    if text.startswith("LOCATION,"):
        weather = _typical(_epw(text), "EPW", start, end)
    elif "GHI (W/m^2)" in text[:4000]:
        weather = _typical(_tmy3(text), "TMY3", start, end)
    else:
        weather = _plain(text, zone)
    return _fitted(weather, start, end)


# --- typical years ----------------------------------------------------------------


def _epw(text: str) -> dict[tuple[int, int, int], WeatherRow]:
    from pvlib.iotools import read_epw

    try:
        data, _ = read_epw(io.StringIO(text), coerce_year=2023)
    except Exception as error:  # the reader raises whatever its parser does
        raise UnreadableWeather(f"This EPW file can't be read: {error}.") from error
    return _by_hour(
        data.index,
        {
            "oktas": data["total_sky_cover"] * 0.8,
            "air_c": data["temp_air"],
            "wind_ms": data["wind_speed"],
            "global_w": data["ghi"],
            "beam_w": data["dni"],
            "diffuse_w": data["dhi"],
        },
    )


def _tmy3(text: str) -> dict[tuple[int, int, int], WeatherRow]:
    from pvlib.iotools import read_tmy3

    try:
        data, _ = read_tmy3(io.StringIO(text), coerce_year=2023, map_variables=True)
    except Exception as error:  # the reader raises whatever its parser does
        raise UnreadableWeather(f"This TMY3 file can't be read: {error}.") from error
    cloud = data.get("TotCld (tenths)")
    return _by_hour(
        data.index - timedelta(hours=1),  # its hours are labelled at their end
        {
            "oktas": None if cloud is None else cloud * 0.8,
            "air_c": data["temp_air"],
            "wind_ms": data["wind_speed"],
            "global_w": data["ghi"],
            "beam_w": data["dni"],
            "diffuse_w": data["dhi"],
        },
    )


def _by_hour(index, columns) -> dict[tuple[int, int, int], WeatherRow]:  # type: ignore[no-untyped-def]
    """Rows by UTC month, day and hour; light must not be below zero."""
    found = {}
    moments = index.tz_convert("UTC")
    for number, moment in enumerate(moments):
        values = {}
        for name, column in columns.items():
            value = None if column is None else float(column.iloc[number])
            values[name] = None if value is None or np.isnan(value) else value
        if values["oktas"] is not None:
            values["oktas"] = min(8.0, max(0.0, values["oktas"]))
        key = (moment.month, moment.day, moment.hour)
        found[key] = WeatherRow(at=moment.to_pydatetime(), **values)
    return found


def _typical(
    year: dict[tuple[int, int, int], WeatherRow],
    kind: str,
    start: datetime,
    end: datetime,
) -> Weather:
    """The hours of a typical year that fall into a span."""
    rows = []
    moment = start.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
    is_leap = False
    while moment < end:
        key = (moment.month, moment.day, moment.hour)
        if key[:2] == (2, 29) and key not in year:
            key, is_leap = (2, 28, moment.hour), True
        row = year.get(key)
        if row is not None:
            rows.append(
                WeatherRow(
                    at=moment,
                    oktas=row.oktas,
                    air_c=row.air_c,
                    wind_ms=row.wind_ms,
                    global_w=row.global_w,
                    beam_w=row.beam_w,
                    diffuse_w=row.diffuse_w,
                )
            )
        moment += timedelta(hours=1)
    assumed = [f"a typical year ({kind}): not a forecast of these days"]
    if is_leap:
        assumed.append("29 February is taken from the 28th")
    return Weather(kind=kind, rows=rows, assumed=assumed)


# --- plain CSV --------------------------------------------------------------------


def _plain(text: str, zone: str) -> Weather:
    lines = text.splitlines()
    if not lines:
        raise UnreadableWeather("The file is empty.")
    dialect = ";" if lines[0].count(";") > lines[0].count(",") else ","
    reader = csv.reader(io.StringIO(text, newline=None), delimiter=dialect)
    try:
        headings, *table = [[cell.strip() for cell in cells] for cells in reader]
    except csv.Error as error:
        raise UnreadableWeather(f"Line {reader.line_num}: {error}.") from error
    headings = [cell.lower() for cell in headings]
    at = {
        name: next((headings.index(one) for one in known if one in headings), None)
        for name, known in COLUMNS.items()
    }
    if at["time"] is None:
        raise UnreadableWeather(
            f"No column is named {' or '.join(COLUMNS['time'][:3])}; found "
            f"{', '.join(headings[:8])}."
        )
    if at["oktas"] is None and at["cloud_pct"] is None and at["global_w"] is None:
        raise UnreadableWeather(
            "The file needs a column oktas, cloud_pct or global_w (light, W/m²)."
        )
    rows, naive = [], 0
    for number, cells in enumerate(table, start=2):
        if not any(cells):
            continue
        try:
            moment, is_naive = _moment(_cell(cells, at["time"]), zone)
            naive += is_naive
            rows.append(WeatherRow(at=moment, **_values(cells, at)))
        except (PowercoreError, ValueError, OverflowError) as error:
            raise UnreadableWeather(f"Line {number}: {error}") from error
    if not rows:
        raise UnreadableWeather("The file has headings, but no hours.")
    assumed = [f"times state no zone: taken as {zone}"] if naive else []
    return Weather(kind="CSV", rows=rows, assumed=assumed)


def _cell(cells: Sequence[str], at: int | None) -> str:
    return cells[at].strip() if at is not None and at < len(cells) else ""


def _moment(text: str, zone: str) -> tuple[datetime, bool]:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError as error:
        raise ValueError(
            f"'{text[:30]}' is not a time like 2026-06-27 14:00."
        ) from error
    if moment.tzinfo is None:
        return moment.replace(tzinfo=ZoneInfo(zone)).astimezone(UTC), True
    return moment.astimezone(UTC), False


def _values(cells: Sequence[str], at: dict[str, int | None]) -> dict[str, float | None]:
    ranges = {
        "oktas": limits.OKTAS,
        "cloud_pct": limits.SHARE.percent,
        "air_c": limits.CELSIUS,
        "wind_ms": limits.WIND_MS,
        "global_w": limits.GLOBAL_W,
        "beam_w": limits.BEAM_W,
        "diffuse_w": limits.DIFFUSE_W,
    }
    found: dict[str, float | None] = {}
    for name, limit in ranges.items():
        text = _cell(cells, at[name])
        found[name] = limit.check(name, parse_number(text, name)) if text else None
    percent = found.pop("cloud_pct")
    if found["oktas"] is None and percent is not None:
        found["oktas"] = percent * 8 / 100
    return found


# --- the span ---------------------------------------------------------------------


def _fitted(weather: Weather, start: datetime, end: datetime) -> Weather:
    """Keep what falls into the span; name steps, gaps and what is missing."""
    rows = sorted(weather.rows, key=lambda row: row.at)
    twice = [a.at for a, b in pairwise(rows) if a.at == b.at]
    if twice:
        raise UnreadableWeather(f"{twice[0]:%Y-%m-%d %H:%M} UTC is in the file twice.")
    apart = [(b.at - a.at).total_seconds() / 3600 for a, b in pairwise(rows)]
    longest_h = max(LONGEST_GAP_H, float(np.median(apart)) if apart else 0.0)
    inside = [row for row in rows if row.at < end]
    held = [row for row in inside if row.at <= start][-1:]
    inside = held + [row for row in inside if row.at > start]
    if not inside or inside[-1].at < start - timedelta(hours=longest_h):
        raise UnreadableWeather(
            f"The file ends before or begins after the event: it has "
            f"{rows[0].at:%Y-%m-%d %H:%M} to {rows[-1].at:%Y-%m-%d %H:%M} UTC."
        )
    steps = [round((b.at - a.at).total_seconds() / 60) for a, b in pairwise(inside)]
    assumed = list(weather.assumed)
    if apart:
        usual = round(float(np.median(apart)) * 60)
        if usual >= 1440:
            assumed.append("one entry a day: each holds for the whole day")
        elif usual != 60:
            assumed.append(f"entries every {usual} min: each holds until the next")
        gaps = [
            (a.at, step)
            for (a, _), step in zip(pairwise(inside), steps, strict=True)
            if step > 1.5 * usual
        ]
        for moment, step in gaps[:5]:
            assumed.append(
                f"a gap of {step / 60:.1f} h after {moment:%Y-%m-%d %H:%M} UTC: what "
                "stood before it holds on"
            )
    if inside[0].at > start:
        assumed.append(
            f"nothing before {inside[0].at:%Y-%m-%d %H:%M} UTC: the first entry holds"
        )
    if end - inside[-1].at > timedelta(hours=longest_h):
        assumed.append(
            f"nothing after {inside[-1].at:%Y-%m-%d %H:%M} UTC: the last entry holds on"
        )
    if all(row.air_c is None for row in inside):
        assumed.append("no air temperature: 20 °C")
    if all(row.wind_ms is None for row in inside):
        assumed.append("no wind: 1 m/s")
    if all(row.oktas is None for row in inside):
        assumed.append("no cloud, only light: the light counts as it is")
    return Weather(kind=weather.kind, rows=inside, assumed=assumed)
