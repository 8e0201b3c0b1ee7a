"""What the sun sheet shows: the sky over a site, and what panels give under it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import date, datetime, time, timedelta
from typing import TYPE_CHECKING, Any

import numpy as np

from hollow_kettle.clock import from_local, local
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.bridge.sun import array_of, sky_site
from hollow_kettle.plan.drawing import hour_ticks
from hollow_kettle.plan.models import Event, PanelArray, Site
from hollow_kettle.ui.drawing import Scale, marks, points
from powercore.errors import PowercoreError, UnknownKey
from powercore.event.plans import CLEAR, FORECAST, SkyHour
from powercore.sun.arrays import HOT_C, VOLTS_PER_C, Array, reach
from powercore.values import BoolArray, TimeGrid

if TYPE_CHECKING:
    from powercore.event.sky import SkyView

#: The sky drawing: directions across, height up. [px]
WIDTH, HEIGHT, LEFT, FOOT = 760, 300, 44, 24
#: Highest elevation drawn. [°]
TOP = 90.0


@dataclass(frozen=True, slots=True)
class Hour:
    """The sun at a full hour: where it is drawn, and whether it is hidden."""

    x: float
    y: float
    label: str
    is_hidden: bool


@dataclass(frozen=True, slots=True)
class SkyDrawing:
    """Sun path over a horizon, as SVG geometry."""

    path: list[str]
    hours: list[Hour]
    horizon: str
    handles: list[tuple[float, float, float, float]]
    panels: list[tuple[float, str]]
    directions: list[tuple[float, str]]
    heights: list[tuple[float, str]]
    day: str
    rise: datetime | None
    down: datetime | None


@dataclass(frozen=True, slots=True)
class ArrayRow:
    """Panels with what they give under each sky. [Wh]"""

    array: PanelArray
    where: str
    clear_wh: float
    forecast_wh: float
    most_w: float
    #: What is wrong with it for what it feeds.
    trouble: str = ""

    @property
    def stand(self) -> str:
        """How it stands, and on what kind of controller."""
        array, how = self.array, "flat"
        if array.tilt:
            faces = f"facing {array.azimuth:g}°"
            turned = f"turned {array.turns} times a day"
            how = f"{array.tilt:g}° up, {turned if array.turns else faces}"
        return f"{how}, {array.method.upper()}"

    @property
    def shade(self) -> str:
        """When something near shades it."""
        array, words = self.array, []
        if array.lit_from:
            words.append(f"until {array.lit_from:%H:%M}")
        if array.lit_until:
            words.append(f"after {array.lit_until:%H:%M}")
        return ", ".join(words)


@dataclass(slots=True)
class SunSheet:
    """All that the sun sheet of one site shows."""

    sites: list[Site]
    site: Site | None = None
    drawing: SkyDrawing | None = None
    rows: list[ArrayRow] = field(default_factory=list)
    hourly: list[dict[str, Any]] = field(default_factory=list)
    #: Outlines of the power under both skies, and the hours beneath.
    clear: str = ""
    forecast: str = ""
    ticks: list[tuple[float, str]] = field(default_factory=list)
    most_w: float = 0.0
    #: Watts up the side: pixel and words.
    marks: list[tuple[float, str]] = field(default_factory=list)
    left: int = LEFT
    cloud: list[tuple[float, float, float]] = field(default_factory=list)
    days: list[dict[str, Any]] = field(default_factory=list)
    trouble: str = ""

    @property
    def drawing_words(self) -> str:
        """The drawing in words, for those who don't see it."""
        if self.drawing is None or self.site is None:
            return ""
        words = f"Sun path on {self.drawing.day}"
        if self.drawing.rise is not None and self.drawing.down is not None:
            zone = self.site.event.zone
            rise, down = (
                local(moment, zone) for moment in (self.drawing.rise, self.drawing.down)
            )
            words += f", sunrise {rise:%H:%M}, sunset {down:%H:%M}"
        return f"{words}, over the horizon of {self.site.name}"


def cloud_by_hour(event: Event) -> str:
    """The forecast's cloud as people type it: eighths, one an hour from the start."""
    rows = list(event.sky.order_by("at"))
    if not rows:
        return ""
    words, at = [], 0
    for hour in range(-(-event.span_min // 60)):
        moment = event.moment_of(60 * hour)
        while at + 1 < len(rows) and rows[at + 1].at <= moment:
            at += 1
        words.append(f"{rows[at].oktas:g}")
    return " ".join(words)


def sun_sheet(event: Event, site: Site | None, day: int = 0) -> SunSheet:
    """
    Work out the sun sheet of a site.

    Parameters
    ----------
    day : int
        Which local day of the event is drawn, the first is 0.
    """
    sites = list(event.sites.prefetch_related("horizon", "station"))
    site = site or next((one for one in sites if one.is_yard), None)
    sheet = SunSheet(sites=sites, site=site)
    if site is None or sky_site(sites) is None:
        return sheet
    try:
        view = problem_for(event).view
        assert view is not None  # noqa: S101 - a place is known
        horizon = tuple((one.azimuth, one.height) for one in site.horizon.all())
        arrays = _arrays_at(event, site)
        sheet.drawing = _drawing(event, view, horizon, arrays, day)
        _fill_harvest(sheet, event, view, horizon, arrays)
    except PowercoreError as error:
        sheet.trouble = str(error)
    return sheet


def _arrays_at(event: Event, site: Site) -> list[PanelArray]:
    rows = event.arrays.select_related("station", "source", "panel")
    if site.is_yard:
        return list(rows.filter(station=None))
    return list(rows.filter(station__site=site))


#: Azimuths that are named along the foot of the drawing. [°]
NAMES = dict(
    zip(range(0, 360, 45), ["N", "NE", "E", "SE", "S", "SW", "W", "NW"], strict=True)
)


def _drawing(
    event: Event,
    view: SkyView,
    horizon: tuple[tuple[float, float], ...],
    arrays: list[PanelArray],
    day: int,
) -> SkyDrawing:
    import pandas as pd

    from powercore.event.sky import SkyView as View
    from powercore.sun import solar
    from powercore.sun.arrays import Horizon

    first = local(event.starts_at, event.zone).date() + timedelta(days=day)
    midnight = from_local(datetime.combine(first, time(0)), event.zone)
    grid = TimeGrid(step_min=10, count=144)
    whole = View(view.site, event.zone, midnight.isoformat(), grid)
    # Across from the pole's side to the other, so that noon stands in the middle.
    middle = 180.0 if view.site.latitude >= 0 else 0.0
    x = Scale(-180, 180, LEFT, WIDTH)
    y = Scale(0, TOP, HEIGHT - FOOT, 8)

    def across(azimuth: float) -> float:
        return x((azimuth - middle + 180) % 360 - 180)

    sun = whole.sun
    at = [
        (across(azimuth), y(elevation))
        for azimuth, elevation in zip(sun.azimuth, sun.elevation, strict=True)
    ]
    shape = Horizon(horizon)
    hides = [shape.elevation_at(azimuth) for azimuth in sun.azimuth]
    hours = [
        Hour(
            x=at[step][0],
            y=at[step][1],
            label=f"{local(midnight + timedelta(minutes=10 * step), event.zone):%H}",
            is_hidden=bool(sun.elevation[step] <= hides[step]),
        )
        for step in range(0, grid.count, 6)
        if sun.elevation[step] > 0
    ]
    around = middle - 180 + np.arange(0, 361, 2.0)
    line = [(x(a - middle), y(float(shape.elevation_at(a % 360)))) for a in around]
    span = solar.sun_hours(view.site, pd.Timestamp(midnight).tz_convert(event.zone))
    return SkyDrawing(
        path=_risen(at, sun.elevation >= 0),
        hours=hours,
        horizon=points([(LEFT, y(0)), *line, (WIDTH, y(0))]),
        handles=[(a, h, across(a), y(h)) for a, h in horizon],
        panels=[
            (across(row.azimuth), row.name)
            for row in arrays
            if row.tilt and not row.turns
        ],
        directions=[(across(a), name) for a, name in NAMES.items()],
        heights=[(y(h), f"{h}°") for h in (0, 30, 60)],
        day=f"{first:%d %b %Y}",
        rise=span[0].to_pydatetime() if span else None,
        down=span[1].to_pydatetime() if span else None,
    )


def _risen(at: list[tuple[float, float]], is_up: BoolArray) -> list[str]:
    """The sun's path while it is up, broken where it runs off the drawing's side."""
    segments: list[list[tuple[float, float]]] = [[]]
    for spot, shines in zip(at, is_up, strict=True):
        last = segments[-1]
        if not shines:
            if last:
                segments.append([])
            continue
        if last and abs(spot[0] - last[-1][0]) > WIDTH / 2:
            segments.append([])
        segments[-1].append(spot)
    return [points(one) for one in segments if len(one) > 1]


def _fill_harvest(
    sheet: SunSheet,
    event: Event,
    view: SkyView,
    horizon: tuple[tuple[float, float], ...],
    arrays: list[PanelArray],
) -> None:
    hours = view.grid.step_min / 60
    total = {sky: np.zeros(view.grid.count) for sky in (FORECAST, CLEAR)}
    volts = _volts(event, arrays)
    for row in arrays:
        given = {
            sky: view.harvest(array_of(row, horizon), sky, volts[row.pk]).power_w
            for sky in total
        }
        for sky, watts in given.items():
            total[sky] += watts
        sheet.rows.append(
            ArrayRow(
                array=row,
                where=str(row.station or row.source),
                clear_wh=float(given[CLEAR].sum()) * hours,
                forecast_wh=float(given[FORECAST].sum()) * hours,
                most_w=float(given[CLEAR].max()),
                trouble=_too_low(array_of(row, horizon), volts[row.pk]),
            )
        )
    sheet.most_w = float(max(total[CLEAR].max(), total[FORECAST].max(), 1.0))
    x, y = Scale(0, event.span_min, LEFT, WIDTH), Scale(0, sheet.most_w, 110, 10)
    sheet.clear = _outline(total[CLEAR], view.grid, x, y)
    sheet.forecast = _outline(total[FORECAST], view.grid, x, y)
    sheet.ticks, sheet.marks = hour_ticks(event, x), marks(y, 3)
    cloud = view.oktas
    sheet.cloud = [
        (x(step * view.grid.step_min), 60 / view.grid.step_min, float(cloud[step]))
        for step in range(0, view.grid.count, 60 // view.grid.step_min)
    ]
    per_hour = 60 // view.grid.step_min
    for step in range(0, view.grid.count, per_hour):
        part = slice(step, step + per_hour)
        sheet.hourly.append(
            {
                "at": event.moment_of(step * view.grid.step_min),
                "oktas": float(cloud[step]),
                "clear": float(total[CLEAR][part].sum()) * hours,
                "forecast": float(total[FORECAST][part].sum()) * hours,
            }
        )
    sheet.days = [
        {"day": _day(clear.day), "clear": clear.wh, "forecast": forecast.wh}
        for clear, forecast in zip(
            view.by_day(total[CLEAR]), view.by_day(total[FORECAST]), strict=True
        )
    ]


def _too_low(array: Array, battery_v: float) -> str:
    """Say that an array's volts don't reach what it feeds."""
    share = float(reach(array, battery_v))
    if share > 0.9:
        return ""
    hot_v = array.vmp_v * (1 - VOLTS_PER_C * (HOT_C - 25))
    gives = "nothing flows" if share == 0 else f"about {share:.0%} of its amps flow"
    return f"{hot_v:.1f} V warm against {battery_v:.1f} V: {gives}; panels in series"


def _day(day: str) -> str:
    return f"{date.fromisoformat(day):%a %d %b}"


def _outline(watts: np.ndarray, grid: TimeGrid, x: Scale, y: Scale) -> str:
    middles = (np.arange(grid.count) + 0.5) * grid.step_min
    line = [(x(float(m)), y(float(w))) for m, w in zip(middles, watts, strict=True)]
    return points([(line[0][0], y(0)), *line, (line[-1][0], y(0))])


def _volts(event: Event, arrays: list[PanelArray]) -> dict[int, float]:
    """Volts of what each of some arrays charges, by its key. [V]"""
    scenario = problem_for(event).problem.scenario
    stations = {station.key: station for station in scenario.stations}
    return {
        row.pk: scenario.charging_v(stations.get(str(row.station_id))) for row in arrays
    }


def modelled_w(
    event: Event, row: PanelArray, at: datetime, oktas: float, battery_v: float
) -> float:
    """
    What the model expects of an array at a moment under a cloud, uncalibrated. [W]

    Raises
    ------
    PowercoreError
        If no place of the event is on the map.
    """
    from powercore.event.sky import SkyView as View

    sites = list(event.sites.prefetch_related("horizon"))
    place = sky_site(sites)
    if place is None:
        raise UnknownKey("Give the yard or a station its coordinates first.")
    where = row.station.site_id if row.station else None
    site = next(
        (one for one in sites if one.pk == where or (where is None and one.is_yard)),
        sites[0],
    )
    horizon = tuple((one.azimuth, one.height) for one in site.horizon.all())
    view = View(
        place,
        event.zone,
        at.isoformat(),
        TimeGrid(step_min=1, count=1),
        (SkyHour(start_min=0, oktas=oktas),),
    )
    array = replace(array_of(row, horizon), factor=1.0)
    return float(view.harvest(array, FORECAST, battery_v).power_w[0])
