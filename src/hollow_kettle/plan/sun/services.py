"""Changes to an event's panels, horizons and sky."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.clock import from_local
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.sun import array_of, sky_site
from hollow_kettle.plan.changelog import edits, note
from hollow_kettle.plan.models import (
    Event,
    HorizonPoint,
    PanelArray,
    Site,
    SkyHour,
    Source,
    Station,
)
from hollow_kettle.shelf.models import Asset
from powercore.errors import PowercoreError
from powercore.sun.weather import Weather, WeatherRow, read_weather

from .weather import InventedWeather, WeatherService

#: Cloud of each type of day. [eighths] Common practice, no source.
DAY_TYPES = {
    "clear": ("clear", 0.5),
    "fair": ("fair, some cloud", 3.0),
    "broken": ("broken cloud", 5.5),
    "overcast": ("overcast", 7.8),
}
#: What may be left empty on purpose; other empty fields keep what they had.
_MAY_BE_EMPTY = ("max_a", "lit_from", "lit_until")
#: Most points of a horizon.
MOST_POINTS = 72
#: Usual figures of a "12 V" panel of so many watts: maximum-power and open-circuit
#: voltage, short-circuit against maximum-power current. Common practice, no source.
USUAL_VMP, USUAL_VOC, USUAL_ISC = 18.0, 22.3, 1.08


def _to_the_equator(event: Event, station: Station | None) -> float:
    """Where panels are usually turned to: south, or north in the other half. [°]"""
    sites = [*event.sites.filter(is_yard=True), *event.sites.all()]
    if station is not None:
        sites.insert(0, station.site)
    known = (one.latitude for one in sites if one.latitude is not None)
    return 180.0 if next(known, 0.0) >= 0 else 0.0


@transaction.atomic
def add_array(
    event: Event,
    *,
    station: Station | None = None,
    source: Source | None = None,
    panel: Asset | None = None,
    watts: float | None = None,
    by: Actor | None = None,
    **values: Any,
) -> PanelArray:
    """
    Add panels: one of the shelf's, or by their watts alone.

    Raises
    ------
    ValidationError
        If neither or both of panel and watts are given, neither or both of station
        and source, or the figures make no sense together.
    """
    if (station is None) == (source is None):
        raise ValidationError(
            {"station": "Panels feed one station or one source: choose one."}
        )
    if (panel is None) == (watts is None):
        raise ValidationError(
            {"watts": "Choose a panel of the shelf, or state its watts."}
        )
    if values.get("azimuth") is None:
        values["azimuth"] = _to_the_equator(event, station)
    if panel is not None:
        figures = panel.panel
        volts = {"vmp_v": figures.vmp_v, "voc_v": figures.voc_v}
        amps = {"imp_a": figures.imp_a, "isc_a": figures.isc_a}
        row = PanelArray(
            name=f"{panel.tag} {panel.name}".strip()[:60],
            power_pct_per_c=figures.power_pct_per_c,
            **volts,
            **amps,
        )
        if figures.measured_a:
            row.factor = min(1.5, max(0.1, figures.measured_a / figures.isc_a))
            row.factor_origin = f"{figures.measured_a:g} A measured in full sun"
    else:
        assert watts is not None  # noqa: S101 - checked above
        imp = watts / USUAL_VMP
        row = PanelArray(
            name=f"{watts:.0f} W panel",
            vmp_v=USUAL_VMP,
            imp_a=imp,
            voc_v=USUAL_VOC,
            isc_a=USUAL_ISC * imp,
        )
    row.event, row.station, row.source, row.panel = event, station, source, panel
    kept = _kept(row, {key: value for key, value in values.items() if value != ""})
    note(event, by, f"{kept} added for {station or source}")
    return kept


@transaction.atomic
def change_array(
    row: PanelArray, *, by: Actor | None = None, **values: Any
) -> PanelArray:
    """
    Change how panels stand, what shades them, what they are joined to.

    Raises
    ------
    ValidationError
        If the figures make no sense together.
    """
    return _kept(row, values, by)


def _kept(
    row: PanelArray, values: dict[str, Any], by: Actor | None = None
) -> PanelArray:
    for field, value in values.items():
        if value is not None or field in _MAY_BE_EMPTY:
            setattr(row, field, value)
    try:
        array_of(row)
    except PowercoreError as error:
        raise ValidationError(str(error)) from error
    if changed := edits(row, row.event.zone):
        note(row.event, by, f"{row}: {changed}")
    row.save()
    return row


@transaction.atomic
def set_horizon(
    site: Site, points: list[tuple[float, float]], *, by: Actor | None = None
) -> None:
    """
    Say what stands round about a site: (azimuth, height) pairs. [°]

    Raises
    ------
    ValidationError
        If a pair is out of range, a direction stands twice, or there are too many.
    """
    if len(points) > MOST_POINTS:
        raise ValidationError(f"{MOST_POINTS} points are the most a horizon has.")
    seen: set[float] = set()
    for azimuth, height in points:
        if not 0 <= azimuth <= 360:
            raise ValidationError(
                f"A direction is between 0 and 360°, not {azimuth:g}°."
            )
        if not 0 <= height <= 90:
            raise ValidationError(f"A height is between 0 and 90°, not {height:g}°.")
        if azimuth % 360 in seen:
            raise ValidationError(f"{azimuth:g}° is there twice.")
        seen.add(azimuth % 360)
    site.horizon.all().delete()
    HorizonPoint.objects.bulk_create(
        HorizonPoint(site=site, azimuth=azimuth % 360, height=height)
        for azimuth, height in points
    )
    note(site.event, by, f"horizon of {site}: {len(points)} points")


def read_horizon(text: str) -> list[tuple[float, float]]:
    """
    Read a typed horizon: one "azimuth height" pair a line.

    Raises
    ------
    ValidationError
        Naming the line that is not a pair.
    """
    points = []
    for number, line in enumerate(text.splitlines(), start=1):
        words = line.replace(";", " ").replace("°", " ").split()
        if not words:
            continue
        try:
            azimuth, height = (float(word.replace(",", ".")) for word in words)
        except ValueError as error:
            raise ValidationError(
                f"Line {number}, '{line[:30]}', must be a direction and a height such "
                "as '135 12'."
            ) from error
        points.append((azimuth, height))
    return points


@transaction.atomic
def set_sky(
    event: Event, rows: list[SkyHour], *, origin: str, by: Actor | None = None
) -> int:
    """Replace an event's forecast; return how many entries it has."""
    was = event.sky_origin or "none"
    note(event, by, f"forecast: {origin}, {len(rows)} entries; before: {was}")
    event.sky.all().delete()
    SkyHour.objects.bulk_create(rows)
    event.sky_origin = origin
    event.save(update_fields=["sky_origin"])
    return len(rows)


def forecast_by_day_type(
    event: Event, days: list[tuple[datetime, str]], *, by: Actor | None = None
) -> int:
    """Take the cloud of each day by its type; days are local midnights."""
    rows = [
        SkyHour(event=event, at=from_local(day, event.zone), oktas=DAY_TYPES[kind][1])
        for day, kind in days
    ]
    return set_sky(event, rows, origin="typed: type of each day", by=by)


def forecast_by_oktas(
    event: Event, hours: list[tuple[datetime, float]], *, by: Actor | None = None
) -> int:
    """
    Take typed cloud, hour by hour; moments are wall-clock times.

    Raises
    ------
    ValidationError
        If cloud is no number of eighths.
    """
    for moment, oktas in hours:
        if not 0 <= oktas <= 8:
            raise ValidationError(
                f"Cloud at {moment:%d %b %H:%M} must be 0 to 8 eighths, not {oktas:g}."
            )
    rows = [
        SkyHour(event=event, at=from_local(moment, event.zone), oktas=oktas)
        for moment, oktas in hours
    ]
    return set_sky(event, rows, origin="typed: cloud in eighths", by=by)


#: What a forecast is said to come from that somebody typed or brought in.
TYPED, OF_FILES = "typed", "file"
#: The code of a refusal that asks whether what was typed may go.
REPLACES = "replaces"


def forecast_by_service(
    event: Event,
    service: WeatherService | None = None,
    *,
    is_sure: bool = False,
    by: Actor | None = None,
) -> int:
    """
    Ask the weather service for the span of an event.

    Raises
    ------
    ValidationError
        If no place of the event is on the map; with the code `REPLACES` if that would
        replace what somebody typed or brought in, and nobody is sure of it.
    """
    service = service or InventedWeather()
    origin = event.sky_origin
    is_own = origin.startswith(TYPED) or origin.endswith(OF_FILES)
    if is_own and event.sky.exists() and not is_sure:
        raise ValidationError(
            f"The forecast is {origin}, {event.sky.count()} entries; the service’s "
            "would replace it.",
            code=REPLACES,
        )
    site = sky_site(event.sites.all())
    if site is None:
        raise ValidationError("Give the yard or a station its coordinates first.")
    hours = service.hourly(
        site.latitude, site.longitude, event.starts_at, event.ends_at
    )
    rows = [
        SkyHour(
            event=event,
            at=hour.at,
            oktas=hour.oktas,
            air_c=hour.air_c,
            wind_ms=hour.wind_ms,
        )
        for hour in hours
    ]
    return set_sky(event, rows, origin=service.name, by=by)


def read_file(event: Event, content: bytes) -> Weather:
    """
    Read a weather file for an event; nothing is kept.

    Raises
    ------
    powercore.sun.weather.UnreadableWeather
        Naming the line and what is wrong.
    """
    return read_weather(
        content, zone=event.zone, start=event.starts_at, end=event.ends_at
    )


def forecast_by_file(event: Event, content: bytes, *, by: Actor | None = None) -> int:
    """Take a weather file whose preview was seen."""
    weather = read_file(event, content)
    rows = [_sky_hour(event, row) for row in weather.rows]
    return set_sky(event, rows, origin=f"{weather.kind} file", by=by)


def _sky_hour(event: Event, row: WeatherRow) -> SkyHour:
    given = {
        name: getattr(row, name)
        for name in ("oktas", "air_c", "wind_ms", "global_w", "beam_w", "diffuse_w")
        if getattr(row, name) is not None
    }
    return SkyHour(event=event, at=row.at, **given)
