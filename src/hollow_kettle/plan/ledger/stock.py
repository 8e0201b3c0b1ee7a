"""The stock line of a rotation: what the coming night needs, and what is at hand."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from hollow_kettle.plan.bridge.problems import EventProblem
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.models import Event, Rotation
from powercore.futures.budget import no_sun
from powercore.futures.draws import likely
from powercore.futures.simulate import simulate
from powercore.futures.stock import StockLine, stock_lines

from .page import nights_of


@dataclass(frozen=True, slots=True)
class Stock:
    """A dark or quiet stretch, with its moments."""

    starts: datetime
    line: StockLine


def stock_of(event: Event, rotation: Rotation, now: datetime | None) -> Stock | None:
    """Work out the stock line of the first such stretch that is not over yet."""
    problem, legs = problem_of(rotation)
    at = rotation.from_min if now is None else event.minute_of(now)
    coming = [
        window
        for window in nights_of(EventProblem(problem, ()))
        if window.end_min + rotation.from_min > at
    ]
    if not coming:
        return None
    runs = simulate(problem, legs, likely(problem, no_sun(problem), count=0))
    line = stock_lines(problem, legs, runs, coming[:1])[0]
    return Stock(event.moment_of(line.start_min + rotation.from_min), line)
