"""Causes of a day's event with bands, against the plain replay of as many futures."""

import json
import sys
from dataclasses import replace
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

import numpy as np  # noqa: E402 - after the path
from rotations import grow  # noqa: E402
from timing import seconds  # noqa: E402

from powercore.debrief.attribute import Actual, attribute  # noqa: E402
from powercore.debrief.separate import Ratio, ReadTurn, separate  # noqa: E402
from powercore.debrief.versions import Given, versions_of  # noqa: E402
from powercore.event.plans import LOW, Pin  # noqa: E402
from powercore.event.problem import SERVE, Problem  # noqa: E402
from powercore.futures.budget import no_sun  # noqa: E402
from powercore.futures.draws import likely  # noqa: E402
from powercore.futures.replay import replay  # noqa: E402
from powercore.rotation.construct import STYLES, construct  # noqa: E402
from powercore.values import Window  # noqa: E402

#: Futures that the plain replay is timed on, in so many rounds.
SAMPLE, ROUNDS = 8, 3


def what_was(problem: Problem, legs: list) -> Actual:
    """Every cause at once: more use, weak packs, late walks, an outage, a plug."""
    serving = [leg for leg in legs if leg.kind == SERVE]
    turns = [
        ReadTurn(
            station=leg.place,
            battery=leg.battery,
            start_min=leg.start_min,
            end_min=leg.end_min,
            used=Ratio(log=0.2, sd=0.1),
        )
        for leg in serving
    ]
    count = problem.grid.count
    first = next(iter(problem.stations))
    bay = next(iter(problem.bays))
    late = tuple(
        replace(leg, start_min=leg.start_min + 15) if leg in serving[8:] else leg
        for leg in legs
    )
    return Actual(
        believed=versions_of(
            problem,
            separate(
                turns,
                station_sd=dict.fromkeys(problem.stations, 0.3),
                battery_sd=dict.fromkeys(problem.batteries, 0.1),
            ),
            start_soc=dict.fromkeys(problem.batteries, (0.95, 0.04)),
            given=Given(
                station_sun_w=np.full((len(problem.stations), count), 5.0),
                source_sun_w=np.zeros((len(problem.sources), count)),
                light=Ratio(log=0.0, sd=0.2),
            ),
        ),
        legs=late,
        dead={bay: [Window(start_min=300, end_min=500)]},
        faults={first: [Window(start_min=100, end_min=140)]},
        saving=(Pin(kind=LOW, place=first, start_min=600, end_min=800),),
        missed_wh={first: 100.0},
        off_min={first: 60.0},
    )


def main() -> None:
    """Share a grown club event's causes; replay some futures one by one beside it."""
    problem = Problem(grow("club", "tight", 1))
    legs = construct(problem, STYLES[:1])
    actual = what_was(problem, list(legs))
    found = attribute(problem, legs, actual)
    futures = likely(problem, no_sun(problem), count=SAMPLE)
    # In turns, the quickest of each: the machine is shared.
    fast, one = [], []
    for _ in range(ROUNDS):
        fast.append(seconds(lambda: attribute(problem, legs, actual)))
        one += [
            seconds(lambda i=i: replay(problem, legs, futures, i, planned=problem))
            for i in range(SAMPLE)
        ]
    slow = min(one) * found.futures
    causes = len(found.total.parts) - 1
    print(
        json.dumps(
            {
                "what": f"{causes} causes of a 24 h event with "
                f"{len(problem.stations)} stations, {found.versions} versions",
                "sides": [
                    {"name": "plain replay of all", "value": slow, "unit": "s"},
                    {"name": "shared out", "value": min(fast), "unit": "s"},
                    {"name": "futures", "value": found.futures, "unit": ""},
                ],
                "ratio": slow / min(fast),
                "target": "30 or more",
            }
        )
    )


if __name__ == "__main__":
    main()
