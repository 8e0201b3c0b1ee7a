"""
A stand-in for a weather service: invented weather from a seed.

It has the interface a real service would have, so that one could take its place:
`hourly(latitude, longitude, start, end)` gives an entry for each hour.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Protocol

import numpy as np


@dataclass(frozen=True, slots=True, kw_only=True)
class Hour:
    """Weather of one hour: cloud in eighths, air in °C, wind in m/s."""

    at: datetime
    oktas: float
    air_c: float
    wind_ms: float


class WeatherService(Protocol):
    """What the application asks of any weather service."""

    name: str

    def hourly(
        self, latitude: float, longitude: float, start: datetime, end: datetime
    ) -> list[Hour]:
        """Return the forecast from one moment to another, hour by hour."""


class InventedWeather:
    """Weather that nobody saw: the same for the same seed, place and day."""

    name = "invented weather (simulated service)"

    def __init__(self, seed: int = 1) -> None:
        self.seed = seed

    def hourly(
        self, latitude: float, longitude: float, start: datetime, end: datetime
    ) -> list[Hour]:
        """Cloud that drifts over hours, air that follows season and time of day."""
        text = f"{self.seed} {latitude:.2f} {longitude:.2f} {start:%Y-%m-%d}"
        digest = hashlib.sha256(text.encode()).digest()
        rng = np.random.default_rng(int.from_bytes(digest[:8], "big"))
        moment = start.replace(minute=0, second=0, microsecond=0)
        cloud, found = float(rng.uniform(1, 6)), []
        usual = float(rng.uniform(2, 5.5))
        while moment <= end:
            cloud += 0.15 * (usual - cloud) + float(rng.normal(0, 0.9))
            cloud = min(8.0, max(0.0, cloud))
            solar_h = (moment.hour + moment.minute / 60 + longitude / 15) % 24
            season = -np.cos(2 * np.pi * (moment.timetuple().tm_yday - 20) / 365)
            warmth = 26 - 0.45 * abs(latitude) + np.sign(latitude) * 12 * season
            swing = 5 * np.cos(2 * np.pi * (solar_h - 15) / 24) * (1 - cloud / 16)
            found.append(
                Hour(
                    at=moment,
                    oktas=round(cloud, 1),
                    air_c=round(float(warmth + swing), 1),
                    wind_ms=round(abs(float(rng.normal(2.5, 1.2))), 1),
                )
            )
            moment += timedelta(hours=1)
        return found
