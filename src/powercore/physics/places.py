"""Walking minutes between two spots on the ground."""

from __future__ import annotations

import math

#: Mean radius of the Earth: the mean of the three semi-axes of WGS 84. [m]
EARTH_M = (2 * 6_378_137.0 + 6_356_752.3) / 3
#: Walking pace with a battery in hand. [m/min] 4 km/h: common practice, no source.
PACE_M_PER_MIN = 4000 / 60
#: A path is longer than the straight line. [ratio] Common practice, no source.
DETOUR = 1.3


def distance_m(lat_a: float, lon_a: float, lat_b: float, lon_b: float) -> float:
    """Great-circle distance by the haversine formula; degrees in. [m]"""
    phi_a, phi_b = math.radians(lat_a), math.radians(lat_b)
    half_lat, half_lon = (phi_b - phi_a) / 2, math.radians(lon_b - lon_a) / 2
    h = (
        math.sin(half_lat) ** 2
        + math.cos(phi_a) * math.cos(phi_b) * math.sin(half_lon) ** 2
    )
    return 2 * EARTH_M * math.asin(math.sqrt(min(1.0, h)))


def walking_min(lat_a: float, lon_a: float, lat_b: float, lon_b: float) -> int:
    """Whole walking minutes, one at the least. [min]"""
    metres = distance_m(lat_a, lon_a, lat_b, lon_b) * DETOUR
    return max(1, math.ceil(metres / PACE_M_PER_MIN))
