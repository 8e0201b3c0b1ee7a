"""One rotation against another: what a change costs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from powercore.event.problem import Leg, Problem
from powercore.rotation.objective import TAIL, Key, key_of, thin_min
from powercore.rotation.verify import Report, verify


@dataclass(frozen=True, slots=True, kw_only=True)
class Cost:
    """What a change costs: more of everything than without it; negative is a gain."""

    off_air_min: float
    #: On a lower power step than agreed.
    lowered_min: float
    unserved_wh: float
    reserve_min: float
    #: Less slack than before, where nothing else is lost. [min]
    thin_min: float
    walks: int
    night_walks: int
    bay_changes: int
    #: Hours that engines run for charging alone, and what charging burns. [L]
    engine_h: float
    fuel_l: float
    #: Minutes off the air by station, where they differ.
    by_station: tuple[tuple[str, float], ...]
    #: Whether the strict order of the objective says better (-1), equal or worse (1);
    #: even use and charge left at the end are no reason to say either.
    verdict: int


def key_if_valid(problem: Problem, legs: Sequence[Leg]) -> Key | None:
    """What a rotation is compared by; None when it breaks a rule."""
    report = verify(problem, legs)
    return key_of(problem, legs, report.outcome) if report.is_valid else None


@dataclass(frozen=True, slots=True)
class Replayed:
    """A rotation, replayed, whether it breaks a rule or not."""

    report: Report
    key: Key
    thin_min: float
    lowered_min: float

    @classmethod
    def of(cls, problem: Problem, legs: Sequence[Leg]) -> Replayed:
        """Replay a rotation."""
        report = verify(problem, legs)
        outcome = report.outcome
        return cls(
            report,
            key_of(problem, legs, outcome),
            float(round(thin_min(problem, legs, outcome))),
            sum(problem.lowered_min.values()),
        )

    @property
    def off_air_min(self) -> dict[str, float]:
        """Minutes off the air by station, where there are any."""
        found: dict[str, float] = {}
        for fall in self.report.outcome.shortfalls:
            if fall.what == "off_air":
                found[fall.station] = found.get(fall.station, 0.0) + fall.open_min
        return found

    def cost(self, base: Replayed) -> Cost:
        """What it costs against another."""
        before, after = base.report.outcome, self.report.outcome
        was, is_now = base.off_air_min, self.off_air_min
        own, its = self.key[:-TAIL], base.key[:-TAIL]
        return Cost(
            off_air_min=after.total_min("off_air") - before.total_min("off_air"),
            lowered_min=self.lowered_min - base.lowered_min,
            unserved_wh=after.unserved_wh - before.unserved_wh,
            reserve_min=after.total_min("reserve") - before.total_min("reserve"),
            thin_min=self.thin_min - base.thin_min,
            walks=after.walks - before.walks,
            night_walks=after.night_walks - before.night_walks,
            bay_changes=after.bay_changes - before.bay_changes,
            engine_h=(after.engine_min - before.engine_min) / 60,
            fuel_l=after.fuel_l - before.fuel_l,
            by_station=tuple(
                (station, is_now.get(station, 0.0) - was.get(station, 0.0))
                for station in sorted(was.keys() | is_now.keys())
                if abs(is_now.get(station, 0.0) - was.get(station, 0.0)) >= 0.5
            ),
            verdict=(own > its) - (own < its),
        )
