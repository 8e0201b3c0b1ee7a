"""What tables and rotations are worth, by the strict order."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from powercore.event.plans import Pin
from powercore.event.problem import Leg, Problem
from powercore.rotation.objective import Key, key_of, key_with_margin, key_with_risk
from powercore.rotation.polish.rounds import grouped
from powercore.rotation.polish.swaps import with_fewer_swaps
from powercore.rotation.polish.times import with_rounder_times
from powercore.rotation.timetable import NoCrewLeft, Timetable, legs_of, steps_of
from powercore.rotation.verify import Report, verify
from powercore.values import IntArray

#: What each station risks in many futures; see `powercore.futures.stress.risk`.
Risk = Callable[[Problem, Sequence[Leg]], dict[str, float]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """A rotation that breaks no rule, and what it is compared by."""

    legs: tuple[Leg, ...]
    #: When it has stations on low power by its own choice.
    steps: tuple[Pin, ...]
    report: Report
    key: Key
    #: What all its stations risk, where futures say what is better. [min]
    risk_min: float | None = None


class Judge:
    """Says what tables and rotations are worth, by the strict order."""

    def __init__(
        self,
        problem: Problem,
        *,
        use: float | None = None,
        risk: Risk | None = None,
        keep_until_min: int = 0,
    ) -> None:
        self.problem, self.use, self.risk = problem, use, risk
        self.keep_until_min = keep_until_min
        #: The event with a rotation's steps, as planned and with more use.
        self.known: dict[tuple[Pin, ...], tuple[Problem, Problem]] = {}

    def checked(self, table: Timetable, at: IntArray, best: Found) -> Found | None:
        """
        A table as a rotation; None when it can't be carried out after all.

        One that is better than the best so far goes to low power as late as it can.
        """
        try:
            legs = legs_of(table, at)
        except NoCrewLeft:
            return None
        can_choose = table.seats > len(table.stations)
        steps = steps_of(table, at) if can_choose else best.steps
        planned, _ = self._problems(steps)
        past = self.keep_until_min
        legs = with_fewer_swaps(planned, legs, keep_until_min=past)
        legs = grouped(planned, legs, keep_until_min=past)
        found = self.found(legs, steps)
        if found is None or not can_choose or not found.key < best.key:
            return found
        return self._trimmed(found)

    def found(self, legs: tuple[Leg, ...], steps: tuple[Pin, ...]) -> Found | None:
        """A rotation with what it is compared by; None when it breaks a rule."""
        planned, more = self._problems(steps)
        report = verify(planned, legs)
        if not report.is_valid:
            return None
        risk_min = None
        if self.risk is not None:
            risk = self.risk(planned, legs)
            key = key_with_risk(planned, legs, report.outcome, risk)
            risk_min = sum(risk.values())
        elif more is not planned:
            losses = verify(more, legs).outcome
            key = key_with_margin(planned, legs, report.outcome, losses)
        else:
            key = key_of(planned, legs, report.outcome)
        return Found(legs=legs, steps=steps, report=report, key=key, risk_min=risk_min)

    def at_rounder_times(self, found: Found) -> Found:
        """The same with walks at rounder times, if it is better so."""
        planned, _ = self._problems(found.steps)
        legs = with_rounder_times(
            planned, found.legs, keep_until_min=self.keep_until_min
        )
        made = self.found(legs, found.steps)
        return made if made is not None and made.key < found.key else found

    def _problems(self, steps: tuple[Pin, ...]) -> tuple[Problem, Problem]:
        found = self.known.get(steps)
        if found is None:
            planned = self.problem.with_steps(steps)
            more = planned if self.use is None else Problem(planned.scenario, self.use)
            found = self.known[steps] = planned, more
        return found

    def _trimmed(self, found: Found) -> Found:
        """The same with each step as short as it may be: begun later, or not at all."""
        plain, grain = Judge(self.problem), self.problem.grid.step_min
        best = plain.found(found.legs, found.steps)
        assert best is not None  # noqa: S101 - it breaks no rule
        for step in found.steps:
            if step.start_min < self.keep_until_min:
                continue
            others = [one for one in best.steps if one != step]
            # How much of it is cut off; half of what is left is tried, and so on.
            least, most = 0, -(-(step.end_min - step.start_min) // grain)
            while least < most:
                cut = (least + most + 1) // 2
                start = step.start_min + cut * grain
                left = [replace(step, start_min=start)] if start < step.end_min else []
                steps = sorted(
                    others + left, key=lambda one: (one.place, one.start_min)
                )
                made = plain.found(found.legs, tuple(steps))
                if made is not None and made.key <= best.key:
                    best, least = made, cut
                else:
                    most = cut - 1
        return self.found(best.legs, best.steps) or found
