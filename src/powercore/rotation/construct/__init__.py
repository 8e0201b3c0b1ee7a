"""
Build a first complete rotation at once: greedy with look-ahead, several starts.

Whoever waits for a plan gets the first start (`AT_ONCE`); the others, and what
`powercore.rotation.polish` makes of the best, can come later.

The event is walked through in 5-minute steps. Before each step the most urgent
stations, first tier first, are asked when their battery reaches its reserve; one
whose last good chance of a walk has come gets a battery from the yard. Returned
batteries charge where a bay is free and the yard is watched. Every start differs
in how early it swaps, which battery it sends, and how full it charges; the best
result by the strict order of the objective is kept. Big events get fewer starts,
so that a plan is there at once. Everything made is valid.
"""

from __future__ import annotations

from collections.abc import Sequence

from powercore.event.problem import Leg, Problem
from powercore.rotation.construct.styles import (
    AT_ONCE,
    BIG_STEPS,
    OF_BIG,
    STYLES,
    Style,
)
from powercore.rotation.construct.walkthrough import Walkthrough
from powercore.rotation.objective import Key, key_of
from powercore.rotation.pins import repaired
from powercore.rotation.verify import verify

__all__ = ["AT_ONCE", "STYLES", "Style", "construct"]


def construct(
    problem: Problem, styles: Sequence[Style] | None = None
) -> tuple[Leg, ...]:
    """
    Return the best rotation of several greedy starts; the same every time.

    Parameters
    ----------
    problem : Problem
        The event; batteries already at a station or bay stay until relieved.
    styles : sequence of Style, optional
        The starts to try; by default as many as the event's size allows.

    Returns
    -------
    tuple of Leg
        A complete rotation: every battery that is not on hold is accounted for
        from start to end, and all pins are kept.

    Raises
    ------
    powercore.rotation.pins.PinRefused
        If a pin can't be kept.
    """
    if styles is None:
        is_big = len(problem.batteries) * problem.grid.count > BIG_STEPS
        styles = OF_BIG if is_big else STYLES
    plans = [Walkthrough(problem, style).run() for style in styles]

    def key(legs: tuple[Leg, ...]) -> Key:
        return key_of(problem, legs, verify(problem, legs).outcome)

    best = plans[0] if len(plans) == 1 else min(plans, key=key)
    return repaired(problem, best) if problem.scenario.pins else best
