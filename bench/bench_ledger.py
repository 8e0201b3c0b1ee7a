"""The ledger of twenty stations after a change, against the plain replay of it."""

import json
import sys
import time
from dataclasses import replace
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

import numpy as np  # noqa: E402 - after the path
from club import big_event  # noqa: E402
from timing import seconds  # noqa: E402 - after the path

from powercore.event.problem import Problem  # noqa: E402
from powercore.event.sky import every_sky  # noqa: E402
from powercore.futures.budget import FUTURES, ledgers  # noqa: E402
from powercore.futures.draws import likely  # noqa: E402
from powercore.futures.replay import replay  # noqa: E402
from powercore.futures.simulate import simulate  # noqa: E402
from powercore.rotation.construct import STYLES, construct  # noqa: E402

#: Futures that the plain replay is timed on; it takes each one by itself.
SAMPLE = 6


def main() -> None:
    """Change one station's load, work its event out anew, both ways."""
    scenario = big_event()
    legs = construct(Problem(scenario), STYLES[:1])
    suns = every_sky(scenario)
    first = scenario.stations[0]
    busier = replace(first, loads=(replace(first.loads[0], count=2),))
    changed = replace(scenario, stations=(busier, *scenario.stations[1:]))

    fast = min(seconds(lambda: ledgers(Problem(changed), legs, suns)) for _ in range(3))
    problem = Problem(changed)
    futures = likely(problem, suns, count=FUTURES)
    futures = replace(futures, traced=np.ones(futures.count, dtype=bool))
    many = simulate(problem, legs, futures)
    picked = np.linspace(0, futures.count - 1, SAMPLE).astype(int)
    began = time.perf_counter()
    plain = [replay(problem, legs, futures, int(index)) for index in picked]
    each = (time.perf_counter() - began) / SAMPLE
    slow = each * futures.count
    worst = max(
        float(np.abs(many.soc[index] - one.soc[0]).max())
        for index, one in zip(picked, plain, strict=True)
    )
    assert worst < 1e-9, worst
    print(
        json.dumps(
            {
                "what": f"ledger of 20 stations changed, {futures.count} futures",
                "sides": [
                    {"name": "plain replay of all", "value": slow, "unit": "s"},
                    {"name": "one future of it", "value": each, "unit": "s"},
                    {"name": "ledger under three skies", "value": fast, "unit": "s"},
                    {"name": "largest difference", "value": worst, "unit": ""},
                ],
                "ratio": slow / fast,
                "target": "20 or more, same numbers to 1e-9",
            }
        )
    )


if __name__ == "__main__":
    main()
