"""Beliefs of 60 batteries from 5,000 readings, against one battery's turn again."""

import json
import random
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

from timing import seconds  # noqa: E402 - after the path

from powercore.belief.estimate import Belief, draw_prior  # noqa: E402
from powercore.belief.steps import (  # noqa: E402
    CounterReading,
    GaugeReading,
    Use,
    VoltsReading,
)
from powercore.physics.battery import Pack  # noqa: E402

BATTERIES, TURNS, READINGS = 60, 6, 14


def main() -> None:
    """Time all turns of all batteries, and the last turn of one from its beginning."""
    pack = Pack(chemistry="lifepo4", series=4, nameplate_ah=20, tested_ah=20)
    turns = [_turn(number) for number in range(BATTERIES * TURNS)]

    def everything() -> None:
        for battery in range(BATTERIES):
            belief = Belief(pack)
            for turn in turns[battery::BATTERIES]:
                belief.begin(draw_prior(0.15))
                for step in turn:
                    belief.apply(step)
            belief.estimate()
            belief.joint()

    kept = Belief(pack)
    begun = kept.begin(draw_prior(0.15))

    def again() -> None:
        belief = Belief(pack)
        belief.resume(begun)
        for step in turns[0]:
            belief.apply(step)
        belief.estimate()
        belief.joint()

    whole = min(seconds(everything) for _ in range(2))
    one = min(seconds(again) for _ in range(20))
    count = BATTERIES * TURNS * READINGS
    print(
        json.dumps(
            {
                "what": f"beliefs of {BATTERIES} batteries from {count:,} readings",
                "sides": [
                    {"name": "all of them", "value": whole, "unit": "s"},
                    {"name": "one turn again", "value": one * 1000, "unit": "ms"},
                ],
                "ratio": whole / one,
                "target": "about 1 s for all, about 5 ms for one",
            }
        )
    )


def _turn(number: int) -> list:
    dice = random.Random(number)
    steps: list = []
    for reading in range(READINGS):
        steps.append(Use(planned_ah=0.8, hours=0.5))
        left = 0.95 - 0.04 * (reading + 1)
        way = dice.randrange(3)
        if way == 0:
            steps.append(GaugeReading(soc=round(left + dice.gauss(0, 0.02), 2)))
        elif way == 1:
            steps.append(CounterReading(ah=0.8 * (reading + 1), hours=0.5 * reading))
        else:
            steps.append(VoltsReading(volts=13.1 + dice.gauss(0, 0.03), amps=1.6))
    return steps


if __name__ == "__main__":
    main()
