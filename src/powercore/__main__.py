"""
The core without server or database.

python -m powercore budget SCENARIO.json             the energy ledger
python -m powercore plan SCENARIO.json               a rotation, as JSON
python -m powercore verify SCENARIO.json LEGS.json   check a rotation, also by hand
python -m powercore rules [--json|--markdown]        every rule of the findings
"""

from __future__ import annotations

import sys
from pathlib import Path

import msgspec

from powercore.budget import ledger
from powercore.checks import RULES
from powercore.errors import PowercoreError
from powercore.rotation.construct import construct
from powercore.rotation.problem import Leg, Problem
from powercore.rotation.verify import verify
from powercore.scenario import decode


def main(arguments: list[str]) -> int:
    """Run one command; return an exit code."""
    if arguments[:1] == ["rules"]:
        return _rules(arguments[1:])
    if len(arguments) < 2 or arguments[0] not in ("budget", "plan", "verify"):
        print(__doc__, file=sys.stderr)
        return 2
    command, scenario_file, *rest = arguments
    try:
        problem = Problem(decode(Path(scenario_file).read_bytes()))
        if command == "plan":
            print(msgspec.json.encode(construct(problem)).decode())
            return 0
        if command == "budget":
            print(msgspec.json.encode(ledger(problem, construct(problem))).decode())
            return 0
        legs = msgspec.json.decode(Path(rest[0]).read_bytes(), type=tuple[Leg, ...])
    except (PowercoreError, msgspec.DecodeError, OSError, IndexError) as error:
        print(f"powercore: {error}", file=sys.stderr)
        return 2
    report = verify(problem, legs)
    for broken in report.broken:
        print(f"{broken.rule}: {broken.words}")
    outcome = report.outcome
    print(
        f"{'valid' if report.is_valid else 'not valid'}; "
        f"off the air {outcome.total_min('off_air'):.0f} min, "
        f"into reserve {outcome.total_min('reserve'):.0f} min, "
        f"not served {outcome.unserved_wh:.0f} Wh, {outcome.walks} walks"
    )
    return 0 if report.is_valid else 1


def _rules(arguments: list[str]) -> int:
    shown = ("severity", "id", "cause", "name", "why", "remedy", "source")
    listed = [
        {key: str(getattr(rule, key)) for key in shown} for rule in RULES.values()
    ]
    if "--json" in arguments:
        print(msgspec.json.format(msgspec.json.encode(listed)).decode())
    elif "--markdown" in arguments:
        print("| severity | rule | what it looks for | why | remedy | source |")
        print("| --- | --- | --- | --- | --- | --- |")
        for rule in listed:
            cells = (rule[key] for key in shown if key != "cause")
            print("| " + " | ".join(cells) + " |")
    else:
        for rule in listed:
            print(f"{rule['severity']:8} {rule['id']:24} {rule['name']}")
        print(f"{len(listed)} rules")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
