"""
Sun: position, sky, plane of array, panel and controller, on pvlib's models.

A chain of published models, each replaceable alone: solar position by NREL's
algorithm, clear sky by Haurwitz, cloud by Kasten and Czeplak, the split into beam
and diffuse by Erbs, the tilted plane by Hay and Davies, cell temperature by Faiman,
direct-current power in the form of PVWatts. Open-circuit volts never count as
harvest: only power that a controller passes into a battery does.

Azimuths count clockwise from north; times are UTC.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import pandas as pd
from pvlib import atmosphere, clearsky, irradiance, pvsystem, solarposition, temperature

from powercore.sun.arrays import (
    PWM_SHARE,
    TRACKING,
    Array,
    Horizon,
    Site,
    reach,
    straight_w,
)
from powercore.values import FloatArray

#: Share of the light that the ground sends back; grass. Common practice, no source.
ALBEDO = 0.2
#: How much hotter a panel is that lies on the ground. [°C] Common practice, no source:
#: 5 to 15 °C.
ON_GROUND_C = 10.0
#: Change of the short-circuit current. [1/°C] Common practice, no source.
ISC_PER_C = 0.0005
#: Below this elevation haze and trees leave no beam worth turning a panel for. [°]
LOW_SUN = 5.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Sun:
    """Where the sun stands, moment by moment; arrays of one shape (n,)."""

    #: Angle from straight up, with and without the air's refraction. [°]
    apparent_zenith: FloatArray
    zenith: FloatArray
    #: Clockwise from north. [°]
    azimuth: FloatArray
    #: Irradiance outside the air on a plane that faces the sun. [W/m²]
    extra_w: FloatArray
    #: Day of the year.
    day: np.ndarray

    @property
    def elevation(self) -> FloatArray:
        """Apparent height over the flat horizon. [°]"""
        return 90.0 - self.apparent_zenith


def sun_at(site: Site, times: pd.DatetimeIndex) -> Sun:
    """
    Solar position at UTC times.

    By the algorithm of Reda and Andreas [1]_ as pvlib has it.

    References
    ----------
    .. [1] I. Reda and A. Andreas, Solar Position Algorithm for Solar Radiation
       Applications, NREL/TP-560-34302, 2008.
    """
    found = solarposition.spa_python(
        times,
        site.latitude,
        site.longitude,
        altitude=site.altitude_m,
        pressure=atmosphere.alt2pres(site.altitude_m),
    )
    return Sun(
        apparent_zenith=found["apparent_zenith"].to_numpy(),
        zenith=found["zenith"].to_numpy(),
        azimuth=found["azimuth"].to_numpy(),
        extra_w=np.asarray(irradiance.get_extra_radiation(times), dtype=float),
        day=times.dayofyear.to_numpy(),
    )


def sun_hours(
    site: Site, local_day: pd.Timestamp
) -> tuple[pd.Timestamp, pd.Timestamp] | None:
    """
    Sunrise and sunset of a local day; None in polar day and polar night.

    Parameters
    ----------
    local_day : Timestamp
        Any moment of the day, in its zone: "the day" is a local one, about the sun's
        highest stand that is nearest to noon there, whatever day it is in UTC.
    """
    noon = local_day.normalize() + pd.Timedelta(hours=12)
    day = pd.Timedelta(hours=12)
    around = pd.date_range(noon - day, noon + day, freq=_COARSE)
    highest = around[int(np.argmax(_height(site, around)))]
    rise = _crossing(site, highest - day, highest, rising=True)
    down = _crossing(site, highest, highest + day, rising=False)
    return None if rise is None or down is None else (rise, down)


#: Where the sun's upper edge touches the horizon: its middle stands 50' below, of which
#: 34' are refraction, as almanacs have it. [°]
_EDGE = -0.8333
_COARSE = pd.Timedelta(minutes=5)


def _height(site: Site, times: pd.DatetimeIndex) -> FloatArray:
    """Height of the sun's middle above where it rises, without the air. [°]"""
    return 90.0 - sun_at(site, times.tz_convert("UTC")).zenith - _EDGE


def _crossing(
    site: Site, start: pd.Timestamp, end: pd.Timestamp, *, rising: bool
) -> pd.Timestamp | None:
    """
    The crossing of the horizon nearest to the sun's highest stand, to a second.

    Bracketed coarsely, then finely, on the position itself: the closed form for a day
    of UTC takes the sun's declination of another day where local days cross it.
    """
    found = None
    for step in (_COARSE, pd.Timedelta(seconds=1)):
        times = pd.date_range(start, end, freq=step)
        is_up = _height(site, times) > 0
        turns = np.flatnonzero(
            is_up[1:] & ~is_up[:-1] if rising else is_up[:-1] & ~is_up[1:]
        )
        if turns.size == 0:
            return found
        at = int(turns[-1] if rising else turns[0])
        start, end = times[at], times[at + 1]
        found = end if rising else start
    return found


# --- sky ------------------------------------------------------------------------


@dataclass(frozen=True, slots=True, kw_only=True)
class Light:
    """Irradiance, moment by moment. [W/m²], arrays of shape (n,)"""

    global_w: FloatArray
    beam_w: FloatArray
    diffuse_w: FloatArray


def cloud_share(oktas: float | FloatArray) -> FloatArray:
    """
    Share of the clear sky's light that clouds leave: 1 - 0.75 (N/8)^3.4.

    F. Kasten and G. Czeplak, Solar Energy 24 (1980) 177-189, from one maritime
    mid-latitude city: a day may well differ by 20 %. Constants from memory.
    """
    eighths = np.clip(np.asarray(oktas, dtype=float), 0, 8) / 8
    return 1 - 0.75 * eighths**3.4


def light_under(sun: Sun, oktas: float | FloatArray) -> Light:
    """
    Light on the flat ground under clouds.

    Haurwitz's clear sky [1]_ thinned by Kasten and Czeplak, split by Erbs [2]_.

    References
    ----------
    .. [1] B. Haurwitz, Journal of Meteorology 2 (1945) 154-166.
    .. [2] D. G. Erbs et al., Solar Energy 28 (1982) 293-302.
    """
    clear = clearsky.haurwitz(pd.Series(sun.apparent_zenith))["ghi"].to_numpy()
    return _split(sun, clear * cloud_share(oktas))


def _split(sun: Sun, global_w: FloatArray) -> Light:
    found = irradiance.erbs(global_w, sun.zenith, sun.day)
    beam = np.nan_to_num(np.asarray(found["dni"], dtype=float))
    diffuse = np.nan_to_num(np.asarray(found["dhi"], dtype=float))
    return Light(global_w=global_w, beam_w=beam, diffuse_w=diffuse)


def measured_light(
    sun: Sun,
    global_w: FloatArray,
    beam_w: FloatArray | None = None,
    diffuse_w: FloatArray | None = None,
) -> Light:
    """Light as a weather file has it; split by Erbs where it has only the sum."""
    global_w = np.asarray(global_w, dtype=float)
    if beam_w is None or diffuse_w is None:
        return _split(sun, global_w)
    return Light(global_w=global_w, beam_w=beam_w, diffuse_w=diffuse_w)


def hidden(horizon: Horizon, sun: Sun) -> np.ndarray:
    """Whether the sun stands behind the horizon, by moments. bool, shape (n,)"""
    return sun.elevation <= horizon.elevation_at(sun.azimuth)


# --- array ----------------------------------------------------------------------


@dataclass(frozen=True, slots=True, kw_only=True)
class Harvest:
    """What an array gives, moment by moment; arrays of shape (n,)."""

    #: Light in its plane. [W/m²]
    plane_w: FloatArray
    cell_c: FloatArray
    #: Into the battery's terminals. [W]
    power_w: FloatArray


def facing(
    array: Array, sun: Sun, days: np.ndarray | None = None
) -> tuple[float | FloatArray, float | FloatArray]:
    """
    Tilt and azimuth of an array, moment by moment. [°]

    An array that is turned n times a day looks, in each n-th part of the time that
    the sun is more than 5° up, where the sun is in the middle of that part.

    Parameters
    ----------
    days : array of int, shape (n,)
        Number of the local day of each moment; one day when left out.
    """
    if array.turns == 0 or array.tilt == 0:
        return array.tilt, array.azimuth
    looking = np.full(sun.azimuth.shape, array.azimuth)
    of_day = np.zeros(sun.azimuth.shape, dtype=int) if days is None else days
    for day in np.unique(of_day):
        up = np.flatnonzero((of_day == day) & (sun.elevation > LOW_SUN))
        if not up.size:
            continue
        cuts = np.linspace(0, up.size, array.turns + 1).round().astype(int)
        for first, last in pairwise(cuts):
            if last > first:
                middle = up[(first + last - 1) // 2]
                looking[up[first:last]] = sun.azimuth[middle]
    return array.tilt, looking


def plane_light(  # noqa: PLR0913 - what the published models take
    sun: Sun,
    light: Light,
    tilt: float | FloatArray,
    azimuth: float | FloatArray,
    *,
    sky_view: float = 1.0,
    is_hidden: np.ndarray | None = None,
    albedo: float = ALBEDO,
) -> FloatArray:
    """
    Light in a tilted plane. [W/m²], shape (n,)

    Hay and Davies (1980), as pvlib has it. Where the sun is hidden, the beam and
    the light round the sun are gone; the rest of the sky counts with its view.
    """
    found = irradiance.haydavies(
        tilt,
        azimuth,
        light.diffuse_w,
        light.beam_w,
        sun.extra_w,
        solar_zenith=sun.apparent_zenith,
        solar_azimuth=sun.azimuth,
        return_components=True,
    )
    even = np.nan_to_num(np.asarray(found["poa_isotropic"], dtype=float))
    round_sun = np.nan_to_num(np.asarray(found["poa_circumsolar"], dtype=float))
    beam = light.beam_w * np.maximum(
        irradiance.aoi_projection(tilt, azimuth, sun.apparent_zenith, sun.azimuth), 0
    )
    direct = round_sun + beam
    if is_hidden is not None:
        direct = np.where(is_hidden, 0.0, direct)
    ground = light.global_w * albedo * (1 - np.cos(np.radians(tilt))) / 2
    return np.maximum(direct + even * sky_view + ground, 0.0)


def harvest(  # noqa: PLR0913 - what the published models take
    array: Array,
    sun: Sun,
    light: Light,
    *,
    air_c: float | FloatArray = 20.0,
    wind_ms: float | FloatArray = 1.0,
    horizon: Horizon | None = None,
    is_shaded: np.ndarray | None = None,
    days: np.ndarray | None = None,
    battery_v: float,
) -> Harvest:
    """
    Power that an array brings to a battery's terminals.

    Parameters
    ----------
    sun, light : Sun, Light
        Moments of shape (n,).
    air_c, wind_ms : float or array
        Air temperature and wind. [°C], [m/s]
    horizon : Horizon, optional
        What stands round about.
    is_shaded : array of bool, optional
        Moments at which something near shades the array.
    days : array of int, optional
        Number of each moment's local day, for arrays that are turned.
    battery_v : float
        Volts of the battery on the charger. [V]

    Returns
    -------
    Harvest
        What a battery with room would get; a full one takes less.
    """
    horizon = horizon or Horizon()
    is_hidden = hidden(horizon, sun)
    if is_shaded is not None:
        is_hidden = is_hidden | is_shaded
    tilt, azimuth = facing(array, sun, days)
    plane = plane_light(
        sun, light, tilt, azimuth, sky_view=horizon.sky_view, is_hidden=is_hidden
    )
    plane = plane * (1 - array.dirt) * (sun.apparent_zenith < 90)
    cell = temperature.faiman(plane, air_c, wind_ms)
    cell = np.asarray(cell, dtype=float) + ON_GROUND_C * array.is_on_ground
    return Harvest(
        plane_w=plane, cell_c=cell, power_w=passed_w(array, plane, cell, battery_v)
    )


def passed_w(
    array: Array,
    plane_w: float | FloatArray,
    cell_c: float | FloatArray,
    battery_v: float,
) -> FloatArray:
    """
    Power that the controller passes on. [W]

    The panel's best is G/1000 × P (1 + g (T - 25)), as PVWatts has it (Dobos,
    NREL/TP-6A20-62641). A tracking controller takes that, less its own loss. One
    that only switches gives the panel's current at the battery's volts: about
    0.98 × Isc, and never more than the panel's best.
    """
    plane_w = np.asarray(plane_w, dtype=float)
    best = np.maximum(
        pvsystem.pvwatts_dc(plane_w, cell_c, array.watts, array.power_per_c), 0.0
    )
    best = best * reach(array, battery_v, cell_c)
    panel_a = best / array.vmp_v
    if array.method == "pwm":
        warmth = 1 + ISC_PER_C * (np.asarray(cell_c, dtype=float) - 25)
        panel_a = PWM_SHARE * array.isc_a * plane_w / 1000 * warmth
        panel_a = panel_a * reach(array, battery_v, cell_c)
        given = straight_w(panel_a, battery_v, best)
        # The drop in the leads costs nothing while the panel's volts are to spare.
        spare_v = array.vmp_v - battery_v
        lost = np.maximum(panel_a * array.cable_ohm - max(spare_v, 0.0), 0.0) * panel_a
    else:
        lost = panel_a**2 * array.cable_ohm
        given = best
    given = np.maximum(given - lost, 0.0)
    if array.method == "mppt":
        given = given * TRACKING
    given = given * array.factor
    if array.max_a is not None:
        given = np.minimum(given, array.max_a * battery_v)
    return np.asarray(given, dtype=float)
