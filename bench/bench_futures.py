"""A thousand futures of a day's club event, against the plain replay of them."""

import json
import sys
import time
from dataclasses import replace
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

import numpy as np  # noqa: E402 - after the path
from rotations import grow  # noqa: E402
from timing import seconds  # noqa: E402 - after the path

from powercore.event.problem import Problem  # noqa: E402
from powercore.futures.budget import no_sun  # noqa: E402
from powercore.futures.draws import likely  # noqa: E402
from powercore.futures.replay import replay  # noqa: E402
from powercore.futures.simulate import simulate  # noqa: E402
from powercore.rotation.construct import STYLES, construct  # noqa: E402

#: Futures that the plain replay is timed on; it takes each one by itself.
COUNT, SAMPLE = 1_000, 20


def main() -> None:
    """Simulate them together, replay some one by one, compare the numbers."""
    problem = Problem(grow("club", "tight", 1))
    legs = construct(problem, STYLES[:1])
    futures = likely(problem, no_sun(problem), count=COUNT - 1)
    untraced = replace(futures, traced=np.zeros(futures.count, dtype=bool))
    fast = min(seconds(lambda: simulate(problem, legs, untraced)) for _ in range(3))
    picked = np.linspace(0, COUNT - 1, SAMPLE).astype(int)
    began = time.perf_counter()
    plain = [replay(problem, legs, futures, int(index)) for index in picked]
    slow = (time.perf_counter() - began) / SAMPLE * COUNT
    many = simulate(problem, legs, untraced)
    worst = max(
        float(np.abs(many.off_air_min[index] - one.off_air_min[0]).max())
        for index, one in zip(picked, plain, strict=True)
    )
    assert worst < 1e-6, worst
    print(
        json.dumps(
            {
                "what": f"{COUNT:,} futures of a 24 h club event in 5 min steps",
                "sides": [
                    {"name": "plain replay of all", "value": slow, "unit": "s"},
                    {"name": "together", "value": fast, "unit": "s"},
                    {"name": "largest difference", "value": worst, "unit": "min"},
                ],
                "ratio": slow / fast,
                "target": "50 or more, same minutes off the air",
            }
        )
    )


if __name__ == "__main__":
    main()
