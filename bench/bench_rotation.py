"""First complete rotation of a club's event, against the verifier's replay of it."""

import json
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))

from timing import seconds  # noqa: E402 - after the path

from powercore.event.problem import Problem  # noqa: E402
from powercore.event.scenario import decode  # noqa: E402
from powercore.rotation.construct import construct  # noqa: E402 - after the path
from powercore.rotation.verify import verify  # noqa: E402


def main() -> None:
    """Time both on examples/field-day.json: 6 stations, 16 batteries, 24 h."""
    scenario = decode((ROOT / "examples" / "field-day.json").read_bytes())
    legs = construct(Problem(scenario))
    assert verify(Problem(scenario), legs).is_valid
    made = min(seconds(lambda: construct(Problem(scenario))) for _ in range(5))
    checked = min(seconds(lambda: verify(Problem(scenario), legs)) for _ in range(5))
    print(
        json.dumps(
            {
                "what": "first rotation: 6 stations, 16 batteries, 4 bays, a day",
                "sides": [
                    {"name": "construct, all starts", "value": made, "unit": "s"},
                    {"name": "verify, one replay", "value": checked, "unit": "s"},
                ],
                "ratio": made / checked,
                "target": "construct well under 1 s; the ratio is for comparison",
            }
        )
    )


if __name__ == "__main__":
    main()
