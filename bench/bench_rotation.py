"""A first rotation: what the page waits for, against what the worker goes on to do."""

import json
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

from rotations import grow  # noqa: E402 - after the path
from timing import seconds  # noqa: E402

from hollow_kettle.database.home import EXAMPLES  # noqa: E402
from powercore.event.problem import Problem  # noqa: E402
from powercore.event.scenario import Scenario, decode  # noqa: E402
from powercore.rotation.construct import AT_ONCE, construct  # noqa: E402
from powercore.rotation.objective import thin_min  # noqa: E402
from powercore.rotation.polish.rounds import grouped  # noqa: E402
from powercore.rotation.polish.times import with_rounder_times  # noqa: E402
from powercore.rotation.verify import verify  # noqa: E402


def at_once(scenario: Scenario) -> None:
    """One start, verified, with the figures that are kept with it."""
    problem = Problem(scenario)
    legs = construct(problem, AT_ONCE)
    report = verify(problem, legs)
    assert report.is_valid
    thin_min(problem, legs, report.outcome)


def further(scenario: Scenario) -> None:
    """All starts, rounder times, joined rounds."""
    problem = Problem(scenario)
    grouped(problem, with_rounder_times(problem, construct(problem)))


def main() -> None:
    """Time both on an example and on grown events; the ratio is of the example."""
    events = {
        "example, 6 stations": decode((EXAMPLES / "field-day.json").read_bytes()),
        "club, 6 stations": grow("club", "tight", 1),
        "big, 12 stations": grow("big", "tight", 1),
        "huge, 30 stations": grow("huge", "tight", 1),
    }
    sides, ratios = [], []
    for name, scenario in events.items():
        times = 3 if name.startswith(("example", "club")) else 1
        waited = min(seconds(lambda s=scenario: at_once(s)) for _ in range(times))
        worked = seconds(lambda s=scenario: further(s))
        ratios.append(worked / waited)
        sides += [
            {"name": f"{name}: the page waits", "value": waited, "unit": "s"},
            {"name": f"{name}: the worker goes on", "value": worked, "unit": "s"},
        ]
    print(
        json.dumps(
            {
                "what": "first rotation: one start at once, the rest by the worker",
                "sides": sides,
                "ratio": ratios[0],
                "target": "the page waits about a second",
            }
        )
    )


if __name__ == "__main__":
    main()
