"""The scenario that a problem is worked out of."""

from __future__ import annotations

from collections.abc import Sequence

from powercore.event.plans import LOW, BatteryPlan, BayPlan, Pin, StationPlan
from powercore.event.scenario import Scenario, low_power
from powercore.values import Window


class Basis:
    """
    The scenario by key, with its pins and steps applied to stations.

    Parameters
    ----------
    scenario : Scenario
        The event.
    use : float
        So many times as much is asked of batteries as is planned.
    """

    def __init__(self, scenario: Scenario, use: float = 1.0) -> None:
        self.scenario = scenario
        self.use = use
        self.grid = scenario.grid
        self.span_min = scenario.span_min
        self.stations: dict[str, StationPlan] = {
            one.key: _as_pinned(one, (*scenario.pins, *scenario.steps))
            for one in scenario.stations
        }
        self.batteries: dict[str, BatteryPlan] = {b.key: b for b in scenario.batteries}
        self.bays: dict[str, BayPlan] = {bay.key: bay for bay in scenario.bays}


def _as_pinned(station: StationPlan, pins: Sequence[Pin]) -> StationPlan:
    """A station on low power where pins say so."""
    for pin in pins:
        if pin.kind == LOW and pin.place == station.key:
            window = Window(start_min=pin.start_min, end_min=pin.end_min)
            station = low_power(station, window)
    return station
