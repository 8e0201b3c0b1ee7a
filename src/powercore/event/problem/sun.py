"""What plans count on of the sun, and when it is dark."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from powercore.event.plans import FORECAST, NO_SUN, StationPlan
from powercore.event.problem.basis import Basis
from powercore.sun.arrays import Array
from powercore.values import BoolArray, FloatArray


class Sun(Basis):
    """What panels give under the sky that plans count on, and the dark."""

    def sky_of(self, station: str) -> str:
        """The sky that plans count on at a station."""
        first = min(one.tier for one in self.stations.values())
        is_first = self.stations[station].tier == first
        return self.scenario.first_tier_sky if is_first else self.scenario.other_sky

    @cached_property
    def sun_w(self) -> dict[str, FloatArray]:
        """
        What plans count on of the panels at each station, on the grid. [W]

        Under the sky that the event says, for the first tier and for the others.
        """
        return self._panels_w(
            {
                key: (one.arrays, self.sky_of(key), one)
                for key, one in self.stations.items()
            }
        )

    @cached_property
    def forecast_w(self) -> dict[str, FloatArray]:
        """What panels at each station give as forecast, counted on or not. [W]"""
        return self._panels_w(
            {key: (one.arrays, FORECAST, one) for key, one in self.stations.items()}
        )

    @cached_property
    def yard_forecast_w(self) -> dict[str, FloatArray]:
        """What panels of the yard's sources give as forecast, counted or not. [W]"""
        return self._panels_w(
            {one.key: (one.arrays, FORECAST, None) for one in self.scenario.sources}
        )

    @cached_property
    def yard_sun_w(self) -> dict[str, FloatArray]:
        """What plans count on of the panels at each of the yard's sources. [W]"""
        event = self.scenario
        return self._panels_w(
            {one.key: (one.arrays, event.yard_sky, None) for one in event.sources}
        )

    def _panels_w(
        self, asked: dict[str, tuple[tuple[Array, ...], str, StationPlan | None]]
    ) -> dict[str, FloatArray]:
        event = self.scenario
        found = {key: np.zeros(self.grid.count) for key in asked}
        counted = {
            key: (arrays, sky, station)
            for key, (arrays, sky, station) in asked.items()
            if arrays and (sky != NO_SUN or any(hour.is_seen for hour in event.sky))
        }
        if event.site is None or not counted:
            return found
        # Loads pvlib and pandas: only for events that have panels.
        from powercore.event.sky import panels_w

        watts = panels_w(
            event.site,
            event.zone,
            event.starts_at,
            event.span_min,
            event.sky,
            tuple(
                (arrays, sky, event.charging_v(station))
                for arrays, sky, station in counted.values()
            ),
        )
        return found | dict(zip(counted, watts, strict=True))

    @cached_property
    def dark(self) -> BoolArray:
        """Steps of the grid in which the sun is down; none without a place."""
        event = self.scenario
        if event.site is None:
            return np.zeros(self.grid.count, dtype=bool)
        # Loads pvlib and pandas: only for events that are on the map.
        from powercore.event.sky import dark

        return dark(event.site, event.zone, event.starts_at, event.span_min)

    def is_night(self, leave: int, back: int) -> bool:
        """Whether the sun is down at some time of a walk."""
        if not self._is_ever_dark:
            return False
        step = self.grid.step_min
        return bool(self.dark[max(0, leave) // step : -(-back // step)].any())

    @cached_property
    def _is_ever_dark(self) -> bool:
        return bool(self.dark.any())
