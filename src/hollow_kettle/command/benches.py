"""Run the benchmarks of bench/; each prints both sides of its ratio."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

from .cluster import Cluster
from .home import ROOT, KettleError, data_folder


def run(arguments: list[str]) -> None:
    """Run one benchmark or all, as text or as JSON lines."""
    as_json = "--json" in arguments
    names = [word for word in arguments if word != "--json"]
    known = {path.stem.removeprefix("bench_"): path for path in _files()}
    if unknown := set(names) - set(known):
        raise KettleError(
            f"No benchmark {', '.join(sorted(unknown))}; there are: {', '.join(known)}"
        )
    cluster = Cluster(data_folder(), name="test-cluster")
    cluster.start()
    try:
        environment = cluster.environment(role="kettle_owner", database="postgres")
        for name in names or known:
            _measure(name, known[name], environment, as_json=as_json)
    finally:
        cluster.stop()


def _measure(
    name: str, file: Path, environment: dict[str, str], *, as_json: bool
) -> None:
    done = subprocess.run(
        [sys.executable, str(file)],
        capture_output=True,
        text=True,
        cwd=ROOT,
        check=False,
        env={**os.environ, **environment},
    )
    if done.returncode:
        raise KettleError(f"benchmark {name} failed:\n{done.stderr}")
    if as_json:
        print(done.stdout.strip())
        return
    result = json.loads(done.stdout)
    print(f"{name}: {result['what']}")
    for side in result["sides"]:
        print(f"  {side['name']:<44} {side['value']:>10.3f} {side['unit']}")
    print(f"  ratio {result['ratio']:.2f}   (target: {result['target']})")


def _files() -> list[Path]:
    return sorted((ROOT / "bench").glob("bench_*.py"))
