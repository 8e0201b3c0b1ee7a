"""Check a rotation against its problem, independently of whatever made it."""

from __future__ import annotations

from collections.abc import Sequence

from powercore.event.problem import Leg, Problem
from powercore.rotation.verify.pins import broken_pins
from powercore.rotation.verify.replay import Replay
from powercore.rotation.verify.report import Outcome, Report
from powercore.rotation.verify.rules import broken_rules, malformed


def verify(
    problem: Problem, legs: Sequence[Leg], *, trace_min: int | None = None
) -> Report:
    """
    Check the rules and replay the physics.

    Parameters
    ----------
    problem : Problem
        What the rotation is for.
    legs : sequence of Leg
        The rotation, in any order.
    trace_min : int, optional
        Note each leg's charge at least so often, in `outcome.traces`. [min]

    Returns
    -------
    Report
        With `outcome.leg_soc` in the order of `legs`. When a leg names something
        unknown or runs backwards, only that is reported, and nothing is replayed.
    """
    broken = list(malformed(problem, legs))
    if broken:
        return Report(broken=tuple(broken), outcome=Outcome())
    broken += [*broken_rules(problem, legs), *broken_pins(problem, legs)]
    replay = Replay(problem, legs, trace_min)
    outcome = replay.run()
    broken += replay.broken
    return Report(broken=tuple(broken), outcome=outcome)
