"""Run the benchmarks of bench/; each prints both sides of its ratio."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

from hollow_kettle.database.cluster import throwaway
from hollow_kettle.database.home import IS_SOURCE, ROOT, KettleError, data_folder


def run(arguments: list[str]) -> None:
    """Run one benchmark or all, as text or as JSON lines."""
    if not IS_SOURCE:
        raise KettleError("Benchmarks come with the source, and are run there.")
    as_json = "--json" in arguments
    options = [word for word in arguments if "=" in word]
    names = [word for word in arguments if word != "--json" and "=" not in word]
    known = {path.stem.removeprefix("bench_"): path for path in _files()}
    if unknown := set(names) - set(known):
        raise KettleError(
            f"No benchmark {', '.join(sorted(unknown))}; there are: {', '.join(known)}"
        )
    with throwaway(data_folder(), "bench") as cluster:
        environment = cluster.environment(role="kettle_owner", database="postgres")
        for name in names or known:
            _measure([str(known[name]), *options], environment, as_json=as_json)


def _measure(command: list[str], environment: dict[str, str], *, as_json: bool) -> None:
    """Run one benchmark; it prints a result a line, as JSON."""
    name = Path(command[0]).stem.removeprefix("bench_")
    with subprocess.Popen(
        [sys.executable, *command],
        stdout=subprocess.PIPE,
        text=True,
        cwd=ROOT,
        env={**os.environ, **environment},
    ) as child:
        assert child.stdout is not None  # noqa: S101 - it is piped
        for line in child.stdout:
            if as_json:
                print(line.strip(), flush=True)
            else:
                _show(name, json.loads(line))
    if child.returncode:
        raise KettleError(f"benchmark {name} failed; what it said is above.")


def _show(name: str, result: dict[str, Any]) -> None:
    print(f"{name}: {result['what']}")
    for side in result["sides"]:
        print(f"  {side['name']:<44} {side['value']:>10.3f} {side['unit']}")
    print(f"  ratio {result['ratio']:.2f}   (target: {result['target']})", flush=True)


def _files() -> list[Path]:
    return sorted((ROOT / "bench").glob("bench_*.py"))
