"""The fold of a long log, against just sorting it: it must stay near linear."""

import json
import random
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path
from uuid import UUID

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

from timing import seconds  # noqa: E402 - after the path

from powercore.belief.fold import Entry, fold  # noqa: E402 - after the path

START = datetime(2026, 6, 27, 18, tzinfo=UTC)


def main() -> None:
    """Time 1,000 and 100,000 moves and swaps of 60 batteries at 20 stations."""
    short, long = _log(1_000), _log(100_000)
    places = {UUID(int=n) for n in range(1, 21)}
    per_short = min(seconds(lambda: fold(short, places)) for _ in range(5)) / 1_000
    per_long = min(seconds(lambda: fold(long, places)) for _ in range(3)) / 100_000
    print(
        json.dumps(
            {
                "what": "fold of the log, time per entry",
                "sides": [
                    {"name": "100,000 entries", "value": per_long * 1e6, "unit": "µs"},
                    {"name": "1,000 entries", "value": per_short * 1e6, "unit": "µs"},
                ],
                "ratio": per_long / per_short,
                "target": "2 or less: the time grows with the log, not faster",
            }
        )
    )


def _log(count: int) -> list[Entry]:
    dice = random.Random(7)
    return [
        Entry(
            uid=UUID(int=dice.getrandbits(128)),
            kind=dice.choice(("swap", "move")),
            at=START + timedelta(seconds=20 * number),
            battery=UUID(int=1000 + dice.randrange(60)),
            place=UUID(int=1 + dice.randrange(30)),
        )
        for number in range(count)
    ]


if __name__ == "__main__":
    main()
