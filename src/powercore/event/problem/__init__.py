"""
The rotation problem: a scenario with its numbers worked out once.

Planner and verifier share this and nothing else. Each file works out one subject
from those before it: the scenario by key (`basis`), what plans count on of the sun
(`sun`), what stations then ask for (`demand`), what a battery can do there (`feeds`),
what charges it (`charging`), who carries it (`crews`); `legs` are what a rotation is
made of.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property

from powercore.event.plans import YARD, Pin
from powercore.event.problem.crews import CARRY_KG, HANDS, LIFT_KG, WH_PER_KG, Crews
from powercore.event.problem.feeds import RECONNECT_RISE, Feed
from powercore.event.problem.legs import (
    CARRIED,
    CHARGE,
    SERVE,
    WAIT,
    Leg,
    Stop,
    lives_of,
    stops_of,
    visit_of,
)
from powercore.event.scenario import all_low

__all__ = [
    "CARRIED",
    "CARRY_KG",
    "CHARGE",
    "HANDS",
    "LIFT_KG",
    "RECONNECT_RISE",
    "SERVE",
    "WAIT",
    "WH_PER_KG",
    "YARD",
    "Feed",
    "Leg",
    "Problem",
    "Stop",
    "lives_of",
    "stops_of",
    "visit_of",
]


class Problem(Crews):
    """
    A scenario's numbers: demand, feeds and charging, worked out on demand.

    Parameters
    ----------
    scenario : Scenario
        The event.
    use : float
        So many times as much is asked of batteries as is planned: 1.2 is what a
        rotation should stand that is planned for 20 % more use.
    """

    @cached_property
    def all_low(self) -> Problem:
        """The event with every station on its low step."""
        return Problem(all_low(self.scenario), use=self.use)

    def with_steps(self, steps: tuple[Pin, ...]) -> Problem:
        """The event with other steps of a rotation's own choice."""
        if steps == self.scenario.steps:
            return self
        return Problem(replace(self.scenario, steps=steps), use=self.use)
