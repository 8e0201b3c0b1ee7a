"""
The core without server or database.

python -m powercore budget SCENARIO.json [--json]    the energy ledger under each sky
python -m powercore solar SCENARIO.json [--json]     harvest of every array by day
python -m powercore check SCENARIO.json [--json]     what looks wrong in the plan
python -m powercore plan SCENARIO.json               a rotation, as JSON
python -m powercore improve SCENARIO.json [LEGS.json] [--lines] [--keep-until=MIN]
    [--margin=1.2 | --futures] [--may-lower]         a better one, that stands so
                                                     many times the use, or is best
                                                     in 200 futures, and may go to
                                                     low power; --lines tells of
                                                     each pass, a line each
python -m powercore cures SCENARIO.json [LEGS.json]  what would help it, as JSON
python -m powercore verify SCENARIO.json LEGS.json   check a rotation, also by hand
python -m powercore schema                           the JSON Schema of a scenario
python -m powercore rules [--json|--markdown]        every rule of the findings
"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

import msgspec
import psutil

from powercore.errors import PowercoreError
from powercore.event.plans import SKIES, Pin
from powercore.event.problem import Leg, Problem
from powercore.event.scenario import Scenario, arrays_of, decode, schema
from powercore.futures.advice import advice
from powercore.futures.budget import Ledger, Suns, ledgers, no_sun
from powercore.gear.checks import RULES
from powercore.rotation.construct import construct
from powercore.rotation.verify import verify

if TYPE_CHECKING:
    from powercore.rotation.search.judge import Found

#: How long a bound is worked at once a search has ended. [s]
BOUND_S = 30.0


def main(arguments: list[str]) -> int:
    """Run one command; return an exit code."""
    command, *rest = arguments or [""]
    if command == "rules":
        return _rules(rest)
    if command == "schema":
        _print_json(schema())
        return 0
    files = [word for word in rest if not word.startswith("--")]
    run = COMMANDS.get(command)
    if run is None or not files:
        print(__doc__, file=sys.stderr)
        return 2
    try:
        scenario = decode(Path(files[0]).read_bytes())
        return run(scenario, files[1:], rest)
    except (PowercoreError, msgspec.DecodeError, OSError, IndexError) as error:
        print(f"powercore: {error}", file=sys.stderr)
        return 2


def _print_json(value: Any) -> None:
    print(msgspec.json.format(msgspec.json.encode(value)).decode())


def _suns(scenario: Scenario) -> Suns:
    """What panels give under each sky; without a place only the one without sun."""
    if scenario.site is None:
        return no_sun(Problem(scenario))
    from powercore.event.sky import every_sky

    return every_sky(scenario)


def _budget(scenario: Scenario, _: list[str], options: list[str]) -> int:
    problem = Problem(scenario)
    found = ledgers(problem, construct(problem), _suns(scenario))
    if "--json" in options:
        _print_json({sky: _as_json(one) for sky, one in found.items()})
        return 0
    for sky, one in found.items():
        print(f"sky: {sky}; need {one.need_wh:.0f} Wh, stock {one.stock_wh:.0f} Wh")
        print(
            f"{'':18}{'need':>7}{'kit':>7}{'carried':>9}{'sun':>6}{'there':>7}"
            f"{'missing':>9}{'on air h (bad - typical of open)':>36}"
        )
        for line in one.stations:
            name = problem.stations[line.station].name[:17]
            hours = (
                f"{line.on_air_bad_h:.1f} - {line.on_air_h:.1f} of {line.open_h:.1f}"
            )
            print(
                f"{name:18}{line.need_wh:7.0f}{line.kit_wh:7.0f}{line.carried_wh:9.0f}"
                f"{line.sun_wh:6.0f}{line.supplied_wh:7.0f}{line.uncovered_wh:9.0f}"
                f"{hours:>36}"
            )
    return 0


def _as_json(one: Ledger) -> dict[str, Any]:
    return {
        "need_wh": one.need_wh,
        "stock_wh": one.stock_wh,
        "stations": list(one.stations),
    }


def _solar(scenario: Scenario, _: list[str], options: list[str]) -> int:
    from powercore.event.sky import SkyView

    view = SkyView.of(scenario)
    if view is None:
        print("powercore: the scenario has no site under the sky", file=sys.stderr)
        return 1
    rows: list[dict[str, Any]] = [
        {
            "at": owner,
            "array": array.name,
            "watts": array.watts,
            "sky": sky,
            "days": view.by_day(
                view.harvest(array, sky, scenario.charging_v(station)).power_w
            ),
        }
        for owner, array, station in arrays_of(scenario)
        for sky in SKIES[1:]
    ]
    if "--json" in options:
        _print_json(rows)
        return 0
    for row in rows:
        days = ", ".join(f"{day.day} {day.wh:.0f} Wh" for day in row["days"])
        print(f"{row['at']}, {row['array']} {row['watts']:.0f} W, {row['sky']}: {days}")
    if not rows:
        print("no panels")
    return 0


def _check(scenario: Scenario, _: list[str], options: list[str]) -> int:
    found = advice(Problem(scenario))
    if "--json" in options:
        _print_json(found)
    else:
        for one in found:
            print(f"{one.severity:8} {one.words}: {one.remedy}")
        print(f"{len(found)} to look at")
    return 1 if any(one.severity == "stop" for one in found) else 0


def _plan(scenario: Scenario, _: list[str], __: list[str]) -> int:
    print(msgspec.json.encode(construct(Problem(scenario))).decode())
    return 0


class _Plan(msgspec.Struct):
    """A rotation that has stations on low power by its own choice."""

    legs: tuple[Leg, ...]
    steps: tuple[Pin, ...]


def _legs(problem: Problem, files: list[str]) -> tuple[Leg, ...]:
    """The rotation of a file; a first one where none is named."""
    return _read(files[0])[0] if files else construct(problem)


def _read(file: str) -> tuple[tuple[Leg, ...], tuple[Pin, ...]]:
    """A rotation and its own steps, if the file has any."""
    content = Path(file).read_bytes()
    if content.lstrip().startswith(b"{"):
        plan = msgspec.json.decode(content, type=_Plan)
        return plan.legs, plan.steps
    return msgspec.json.decode(content, type=tuple[Leg, ...]), ()


def _cures(scenario: Scenario, files: list[str], _: list[str]) -> int:
    from powercore.futures.cures import cures

    problem = Problem(scenario)
    with _own_stdout() as own:
        found = cures(problem, _legs(problem, files), _suns(scenario))
        print(msgspec.json.encode(found).decode(), file=own)
    return 0


def _improve(scenario: Scenario, files: list[str], options: list[str]) -> int:
    from powercore.rotation.search.improve import Aim, Progress, improve

    problem = Problem(scenario)
    legs = _legs(problem, files)
    in_lines, may_lower = "--lines" in options, "--may-lower" in options
    shown, since = (legs, scenario.steps), time.monotonic()

    def tell(progress: Progress) -> bool:
        nonlocal shown, since
        best = progress.best
        if in_lines:
            line: dict[str, Any] = {
                "passes": progress.passes,
                "since": progress.since,
                "risk_min": best.risk_min,
                "risk_start_min": progress.risk_start_min,
            }
            if (best.legs, best.steps) != shown:
                shown = line["legs"], line["steps"] = best.legs, best.steps
            print(msgspec.json.encode(line).decode(), file=own, flush=True)
            spare_laptop(time.monotonic() - since)
            since = time.monotonic()
        return True

    until = int(_option(options, "--keep-until=", "0"))
    margin = float(_option(options, "--margin=", "1"))
    risk = None
    if "--futures" in options:
        from powercore.futures import stress

        risk = partial(stress.risk, suns=_suns(scenario))
    aim = Aim(keep_until_min=until, margin=margin, may_lower=may_lower, risk=risk)
    with _own_stdout() as own:
        found = improve(problem, legs, aim, tell=tell)
        if not in_lines:
            plan = _Plan(found.legs, found.steps) if found.steps else found.legs
            print(msgspec.json.encode(plan).decode(), file=own)
        elif (least := _least(problem, found, may_lower=may_lower)) is not None:
            print(msgspec.json.encode({"least_min": least}).decode(), file=own)
    return 0


def spare_laptop(worked_s: float) -> None:
    """Rest as long as was worked while the machine runs on its own battery."""
    battery = psutil.sensors_battery()
    if battery is not None and battery.power_plugged is False:
        time.sleep(worked_s)


def _least(problem: Problem, found: Found, *, may_lower: bool) -> float | None:
    """
    What the first tier can't be under; None where nothing of it is off the air.

    Where it may go to low power, even with every station on it all the while.
    """
    from powercore.rotation.proof.least import least_off_air_min

    tiers = {key: one.tier for key, one in problem.stations.items()}
    first = min(tiers.values(), default=1)
    off_min = found.report.outcome.total_min("off_air", first, tiers=tiers)
    if off_min < 1:
        return None
    until = time.monotonic() + BOUND_S
    bounded = problem.all_low if may_lower else problem
    return least_off_air_min(
        bounded, found.legs, first, go_on=lambda: time.monotonic() < until
    )


def _option(options: list[str], name: str, default: str) -> str:
    """The value of an option such as --margin=1.2."""
    return next((o.removeprefix(name) for o in options if o.startswith(name)), default)


@contextmanager
def _own_stdout() -> Iterator[TextIO]:
    """Standard output for us alone: the solver greets there from its own code."""
    sys.stdout.flush()
    kept = os.dup(1)
    os.dup2(2, 1)
    try:
        with os.fdopen(os.dup(kept), "w") as own:
            yield own
    finally:
        os.dup2(kept, 1)
        os.close(kept)


def _verify(scenario: Scenario, files: list[str], _: list[str]) -> int:
    legs, steps = _read(files[0])
    report = verify(Problem(scenario).with_steps(steps or scenario.steps), legs)
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


COMMANDS: dict[str, Callable[[Scenario, list[str], list[str]], int]] = {
    "budget": _budget,
    "solar": _solar,
    "check": _check,
    "plan": _plan,
    "improve": _improve,
    "cures": _cures,
    "verify": _verify,
}


def _rules(arguments: list[str]) -> int:
    shown = ("severity", "id", "cause", "name", "why", "remedy", "source")
    listed = [
        {key: str(getattr(rule, key)) for key in shown} for rule in RULES.values()
    ]
    if "--json" in arguments:
        _print_json(listed)
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
