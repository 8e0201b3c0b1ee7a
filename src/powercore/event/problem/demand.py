"""What stations ask of batteries, beside their own supplies and the sun."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from powercore.event.problem.sun import Sun
from powercore.physics.loads import load_w
from powercore.values import FloatArray


class Demand(Sun):
    """What each station asks for on the grid, and what is left over there."""

    @cached_property
    def load_w(self) -> dict[str, FloatArray]:
        """What each station's equipment draws on the grid. [W]"""
        return {key: s.demand_w(self.grid) for key, s in self.stations.items()}

    @cached_property
    def sheds(self) -> dict[str, list[tuple[float, FloatArray]]]:
        """Loads that are shed by charge: level and power on the grid. [W]"""
        return {
            key: [
                (load.shed_soc, load_w(self.grid, load, one.openings))
                for load in one.loads
                if load.shed_soc is not None
            ]
            for key, one in self.stations.items()
        }

    @cached_property
    def demand_w(self) -> dict[str, FloatArray]:
        """What is left for each station's battery, without sun, on the grid. [W]"""
        return {
            key: self.use * np.maximum(self.load_w[key] - s.supplied_w(self.grid), 0.0)
            for key, s in self.stations.items()
        }

    @cached_property
    def asked_w(self) -> dict[str, FloatArray]:
        """What is asked of a station's battery beside the sun counted on. [W]"""
        return {
            key: np.maximum(watts - self.sun_w[key], 0.0)
            for key, watts in self.demand_w.items()
        }

    @cached_property
    def surplus_w(self) -> dict[str, FloatArray]:
        """
        What charges a station's battery there, while it gives nothing. [W]

        What the load leaves of the sun counted on, and of a supply that may charge.
        """
        found = {}
        for key in self.stations:
            surplus = np.maximum(self.sun_w[key] - self.demand_w[key], 0.0)
            surplus = surplus + self._spare_w(key)
            found[key] = np.where(self.asked_w[key] > 0, 0.0, surplus)
        return found

    def _spare_w(self, station: str) -> FloatArray:
        """What its load leaves of a supply that may charge. [W]"""
        one = self.stations[station]
        left = one.supplied_w(self.grid) - self.use * self.load_w[station]
        return np.minimum(one.spare_w(self.grid), np.maximum(left, 0.0))

    @cached_property
    def given_wh(self) -> dict[str, FloatArray]:
        """
        What sun and supplies give each station's battery up to each edge. [Wh]

        The sun as forecast, whatever plans count on; supplies what their load leaves.
        """
        return {
            key: self.grid.cumulative_wh(self.forecast_w[key] + self._spare_w(key))
            for key in self.stations
        }

    @cached_property
    def offered_w(self) -> dict[str, FloatArray]:
        """What charges a battery there once its power has ended. [W]"""
        return {
            key: np.where(
                self.demand_w[key] > 0,
                self.sun_w[key] + one.spare_w(self.grid),
                self.surplus_w[key],
            )
            for key, one in self.stations.items()
        }

    @cached_property
    def asked_wh(self) -> dict[str, FloatArray]:
        """What is asked of each station's battery up to each edge of the grid. [Wh]"""
        return {
            key: self.grid.cumulative_wh(watts) for key, watts in self.asked_w.items()
        }

    @cached_property
    def drawn_wh(self) -> dict[str, FloatArray]:
        """Demand of each station up to each edge of the grid. [Wh]"""
        return {
            key: self.grid.cumulative_wh(watts) for key, watts in self.demand_w.items()
        }

    @cached_property
    def open_min(self) -> dict[str, FloatArray]:
        """Minutes each station needed a battery up to each edge of the grid."""
        return {
            key: np.concatenate([[0.0], np.cumsum((watts > 0) * self.grid.step_min)])
            for key, watts in self.demand_w.items()
        }

    @cached_property
    def lowered_min(self) -> dict[str, float]:
        """Minutes in which pins or steps have a station use less than it agreed to."""
        return {
            one.key: float(
                np.sum(one.demand_w(self.grid) > self.load_w[one.key] + 1e-6)
                * self.grid.step_min
            )
            for one in self.scenario.stations
        }

    def may_swap(self, station: str, minute: int) -> bool:
        """Whether operators are there at a minute to swap a spare in or out."""
        watts, step = self.load_w[station], self.grid.step_min
        first = max(0, (minute - 1) // step)
        return bool(np.any(watts[first : minute // step + 1] > 0))
