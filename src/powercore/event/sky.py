"""
What the sun gives a scenario: power offered at each station and source, by sky.

Loads pvlib, so only what asks for sun imports it.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from functools import cached_property, lru_cache
from zoneinfo import ZoneInfo

import numpy as np
import pandas as pd

from powercore.errors import UnknownKey
from powercore.event.plans import (
    CLEAR,
    FORECAST,
    NO_SUN,
    SKIES,
    UNKNOWN_OKTAS,
    SkyHour,
)
from powercore.event.scenario import Scenario
from powercore.sun import solar
from powercore.sun.arrays import Array, Horizon, Site
from powercore.values import BoolArray, FloatArray, TimeGrid


@dataclass(frozen=True, slots=True, kw_only=True)
class DaySum:
    """Harvest of one local day. [Wh]"""

    day: str
    wh: float


class SkyView:
    """
    The sky over a scenario's site, on a time grid.

    Parameters
    ----------
    site : Site
        Where.
    zone : str
        IANA zone, for shade by the clock and for days.
    starts_at : str
        Start in UTC, ISO 8601.
    grid : TimeGrid
        Steps from there; each counts with the sun at its middle.
    forecast : sequence of SkyHour
        What is forecast.
    """

    def __init__(
        self,
        site: Site,
        zone: str,
        starts_at: str,
        grid: TimeGrid,
        forecast: tuple[SkyHour, ...] = (),
    ) -> None:
        self.site, self.grid, self.forecast = site, grid, forecast
        self._lights: dict[str, solar.Light] = {}
        start = pd.Timestamp(datetime.fromisoformat(starts_at)).tz_convert("UTC")
        middles = (np.arange(grid.count) + 0.5) * grid.step_min
        self.times = start + pd.to_timedelta(middles, unit="min")
        local = self.times.tz_convert(ZoneInfo(zone))
        self.local_min = (local.hour * 60 + local.minute).to_numpy()
        dates = pd.Series(local.strftime("%Y-%m-%d"))
        self.days, self.day_names = pd.factorize(dates)

    @classmethod
    def of(cls, scenario: Scenario) -> SkyView | None:
        """The sky over a scenario; None without a site."""
        if scenario.site is None:
            return None
        return cls(
            scenario.site,
            scenario.zone,
            scenario.starts_at,
            scenario.grid,
            scenario.sky,
        )

    @cached_property
    def sun(self) -> solar.Sun:
        """Where the sun stands at the middle of each step."""
        return solar.sun_at(self.site, self.times)

    @property
    def is_dark(self) -> BoolArray:
        """Steps in which the sun is down. bool, shape (grid.count,)"""
        return np.asarray(self.sun.apparent_zenith >= 90)

    def _hourly(self, name: str, default: float) -> FloatArray:
        """A forecast's column, held from each entry to the next."""
        if not self.forecast:
            return np.full(self.grid.count, default)
        starts = [hour.start_min for hour in self.forecast]
        middles = (np.arange(self.grid.count) + 0.5) * self.grid.step_min
        at = np.clip(np.searchsorted(starts, middles, side="right") - 1, 0, None)
        values = [getattr(hour, name) for hour in self.forecast]
        return np.array([np.nan if v is None else v for v in values], dtype=float)[at]

    @property
    def oktas(self) -> FloatArray:
        """Cloud as forecast; half of it where nothing is. [eighths]"""
        return self._hourly("oktas", UNKNOWN_OKTAS)

    @cached_property
    def is_seen(self) -> BoolArray:
        """Steps of which somebody noted the sky. bool, shape (grid.count,)"""
        return self._hourly("is_seen", 0.0) > 0

    def light(self, sky: str) -> solar.Light:
        """
        Light on the flat ground under a sky. [W/m²]

        Raises
        ------
        UnknownKey
            If there is no such sky.
        """
        if sky not in self._lights:
            self._lights[sky] = self._light(sky)
        return self._lights[sky]

    def _light(self, sky: str) -> solar.Light:
        if sky == FORECAST:
            return self._forecast_light()
        if sky == NO_SUN:
            zero = np.zeros(self.grid.count)
            found = solar.Light(global_w=zero, beam_w=zero, diffuse_w=zero)
        elif sky == CLEAR:
            found = solar.light_under(self.sun, 0.0)
        else:
            raise UnknownKey(f"There is no sky '{sky}'.")
        if not self.is_seen.any():
            return found
        seen = self._forecast_light()
        return solar.Light(
            global_w=np.where(self.is_seen, seen.global_w, found.global_w),
            beam_w=np.where(self.is_seen, seen.beam_w, found.beam_w),
            diffuse_w=np.where(self.is_seen, seen.diffuse_w, found.diffuse_w),
        )

    def _forecast_light(self) -> solar.Light:
        by_cloud = solar.light_under(self.sun, self.oktas)
        global_w = self._hourly("global_w", np.nan)
        known = np.isfinite(global_w)
        if not known.any():
            return by_cloud
        global_w = np.where(known, global_w, by_cloud.global_w)
        split = solar.measured_light(self.sun, global_w)
        beam, diffuse = (
            self._hourly("beam_w", np.nan),
            self._hourly("diffuse_w", np.nan),
        )
        return solar.Light(
            global_w=global_w,
            beam_w=np.where(np.isfinite(beam), beam, split.beam_w),
            diffuse_w=np.where(np.isfinite(diffuse), diffuse, split.diffuse_w),
        )

    def harvest(self, array: Array, sky: str, battery_v: float) -> solar.Harvest:
        """What an array would give a battery under a sky, with shade and horizon."""
        is_shaded = (self.local_min < array.lit_from_min) | (
            self.local_min >= array.lit_until_min
        )
        return solar.harvest(
            array,
            self.sun,
            self.light(sky),
            air_c=self._hourly("air_c", 20.0),
            wind_ms=self._hourly("wind_ms", 1.0),
            horizon=Horizon(array.horizon),
            is_shaded=is_shaded,
            days=self.days,
            battery_v=battery_v,
        )

    def offered_w(
        self, arrays: tuple[Array, ...], sky: str, battery_v: float
    ) -> FloatArray:
        """Power of some arrays together, on such a battery. [W], (grid.count,)"""
        series = np.zeros(self.grid.count)
        if sky == NO_SUN and not self.is_seen.any():
            return series
        for array in arrays:
            series += self.harvest(array, sky, battery_v).power_w
        return series

    def by_day(self, watts: FloatArray) -> list[DaySum]:
        """Sums of a power by local day. [Wh]"""
        hours = self.grid.step_min / 60
        sums = np.bincount(self.days, weights=watts * hours)
        return [
            DaySum(day=str(day), wh=float(wh))
            for day, wh in zip(self.day_names, sums, strict=True)
        ]


@dataclass(frozen=True, slots=True, kw_only=True)
class Sunshine:
    """Power offered by panels, by station and by source, step by step. [W]"""

    stations: dict[str, FloatArray]
    sources: dict[str, FloatArray]


def sunshine(scenario: Scenario, sky: str, view: SkyView | None = None) -> Sunshine:
    """
    What panels would give all batteries of a scenario under a sky.

    Parameters
    ----------
    sky : str
        "none", "forecast" or "clear".
    view : SkyView, optional
        The sky, where it is at hand already.
    """
    view = view or SkyView.of(scenario)
    zero = np.zeros(scenario.grid.count)

    def offered(arrays: tuple[Array, ...], volts: float) -> FloatArray:
        return view.offered_w(arrays, sky, volts) if view and arrays else zero

    yard_v = scenario.charging_v()
    return Sunshine(
        stations={
            one.key: offered(one.arrays, scenario.charging_v(one))
            for one in scenario.stations
        },
        sources={one.key: offered(one.arrays, yard_v) for one in scenario.sources},
    )


@lru_cache(maxsize=8)
def dark(site: Site, zone: str, starts_at: str, span_min: int) -> BoolArray:
    """
    Steps of an event in which the sun is down; kept.

    Returns
    -------
    bool array, shape (grid.count,)
    """
    found = SkyView(site, zone, starts_at, TimeGrid.covering(span_min)).is_dark
    found.flags.writeable = False
    return found


@lru_cache(maxsize=8)
def panels_w(
    site: Site,
    zone: str,
    starts_at: str,
    span_min: int,
    forecast: tuple[SkyHour, ...],
    asked: tuple[tuple[tuple[Array, ...], str, float], ...],
) -> tuple[FloatArray, ...]:
    """
    What groups of arrays give, each under its sky and on its volts; kept.

    Returns
    -------
    tuple of float arrays, shape (grid.count,) each
        Power. [W]
    """
    view = SkyView(site, zone, starts_at, TimeGrid.covering(span_min), forecast)
    found = tuple(view.offered_w(*one) for one in asked)
    for watts in found:
        watts.flags.writeable = False
    return found


def every_sky(
    scenario: Scenario, view: SkyView | None = None
) -> dict[str, tuple[list[FloatArray], list[FloatArray]]]:
    """
    What panels give stations and sources under each sky, in their order.

    Parameters
    ----------
    scenario : Scenario
    view : SkyView, optional
        Its sun and light, where they are worked out already.

    Returns
    -------
    dict
        By sky: for each station, then for each source, watts of shape (grid.count,).
    """
    view = view or SkyView.of(scenario)
    found = {sky: sunshine(scenario, sky, view) for sky in SKIES}
    return {
        sky: (list(shine.stations.values()), list(shine.sources.values()))
        for sky, shine in found.items()
    }
