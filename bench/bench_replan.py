"""An event that leaves its plan, with and without a replan: minutes off the air."""

import json
import sys
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

from hollow_kettle.database.home import EXAMPLES  # noqa: E402 - after the path
from powercore.event.problem import (  # noqa: E402
    CARRIED,
    CHARGE,
    SERVE,
    WAIT,
    YARD,
    Leg,
    Problem,
)
from powercore.event.problem.legs import lives_of  # noqa: E402
from powercore.event.scenario import Scenario, decode  # noqa: E402
from powercore.rotation.construct import construct  # noqa: E402
from powercore.rotation.verify import verify  # noqa: E402
from powercore.values import Window, without  # noqa: E402

#: When it goes wrong, and when the crews go by a new plan: noticed half an hour later,
#: with ten minutes to set off. [min]
WRONG, NOTICED, LEAD = 300, 330, 10
STATION, MORE, BAY = "Drumlin", 1.4, "Bay 1"


def gone_wrong(scenario: Scenario) -> Scenario:
    """One station draws 40 % more, a bay is dead, the generator fails."""
    failed = [Window(start_min=WRONG, end_min=scenario.span_min)]
    return replace(
        scenario,
        stations=tuple(
            replace(one, draws=MORE) if one.name == STATION else one
            for one in scenario.stations
        ),
        bays=tuple(one for one in scenario.bays if one.name != BAY),
        sources=tuple(
            replace(one, windows=without(one.windows, failed))
            if one.kind == "generator"
            else one
            for one in scenario.sources
        ),
    )


def going_on(problem: Problem, legs: Iterable[Leg]) -> list[Leg]:
    """The plan as it was; what was to charge on the dead bay waits in the yard."""
    return [
        replace(leg, kind=WAIT, place=YARD)
        if leg.kind == CHARGE and leg.place not in problem.bays
        else leg
        for leg in legs
    ]


def from_then(truth: Scenario, problem: Problem, legs: list[Leg]) -> Scenario:
    """The event from the moment on that somebody replans, as it truly is then."""
    cut = [
        part
        for leg in legs
        for part in (
            [replace(leg, end_min=NOTICED), replace(leg, start_min=NOTICED)]
            if leg.start_min < NOTICED < leg.end_min
            else [leg]
        )
    ]
    socs = dict(zip(cut, verify(problem, cut).outcome.leg_soc, strict=True))
    batteries = []
    for key, life in lives_of(cut).items():
        leg = next(one for one in life if one.start_min >= NOTICED)
        place, is_spare = leg.place, leg.kind == WAIT and leg.place != YARD
        if leg.kind == CARRIED:  # whoever is on the way arrives
            rest = [one for one in life if one.start_min >= leg.end_min]
            place = rest[0].place if rest and rest[0].kind == SERVE else YARD
        battery = problem.batteries[key]
        at = {"start_soc": socs[leg][0], "start_place": place or YARD}
        batteries.append(replace(battery, is_spare=is_spare, **at))
    serving = [b.start_place for b in batteries if b.start_place in problem.stations]
    assert len(serving) == len(set(serving))
    return replace(
        truth,
        span_min=truth.span_min - NOTICED,
        stations=tuple(
            replace(one, openings=_later(one.openings)) for one in truth.stations
        ),
        batteries=tuple(batteries),
        sources=tuple(
            replace(one, windows=_later(one.windows), quiet=_later(one.quiet))
            for one in truth.sources
        ),
        crews=_later(truth.crews, LEAD),
        sky=(),
        site=None,
        is_under_way=True,
    )


def _later(rows: Iterable[Any], lead: int = 0) -> tuple[Any, ...]:
    return tuple(
        replace(
            row,
            start_min=max(lead, row.start_min - NOTICED),
            end_min=row.end_min - NOTICED,
        )
        for row in rows
        if row.end_min - NOTICED > lead
    )


def off_air(
    problem: Problem, legs: Iterable[Leg], *, until: int | None = None
) -> float:
    """Minutes off the air that the replay finds, up to a minute where one is given."""
    falls = verify(problem, list(legs)).outcome.shortfalls
    return sum(
        fall.open_min
        for fall in falls
        if fall.what == "off_air" and (until is None or fall.start_min < until)
    )


def main() -> None:
    """Replay both on the field day of the examples, without sun."""
    scenario = decode((EXAMPLES / "field-day.json").read_bytes())
    scenario = replace(scenario, site=None)
    truth = gone_wrong(scenario)
    problem = Problem(truth)
    planned = construct(Problem(scenario))
    stuck = going_on(problem, planned)
    without_it = off_air(problem, stuck)
    then = Problem(from_then(truth, problem, stuck))
    with_it = off_air(problem, stuck, until=NOTICED) + off_air(then, construct(then))
    as_planned = off_air(Problem(scenario), planned)
    sides = [
        {"name": "as planned, nothing wrong", "value": as_planned, "unit": "min"},
        {"name": "gone wrong, the plan goes on", "value": without_it, "unit": "min"},
        {"name": "gone wrong, replanned", "value": with_it, "unit": "min"},
    ]
    print(
        json.dumps(
            {
                "what": f"off the air: {STATION} + 40 %, {BAY} dead, generator out",
                "sides": sides,
                "ratio": with_it / max(1.0, without_it),
                "target": "under 1: a replan saves minutes",
            }
        )
    )


if __name__ == "__main__":
    main()
