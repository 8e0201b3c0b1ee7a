"""Run the benchmarks of bench/; each prints both sides of its ratio."""

from __future__ import annotations

import json
import subprocess
import sys

from .home import ROOT, KettleError


def run(arguments: list[str]) -> None:
    """Run one benchmark or all, as text or as JSON lines."""
    as_json = "--json" in arguments
    names = [word for word in arguments if word != "--json"]
    known = {path.stem.removeprefix("bench_"): path for path in _files()}
    if unknown := set(names) - set(known):
        raise KettleError(
            f"No benchmark {', '.join(sorted(unknown))}; there are: {', '.join(known)}"
        )
    for name in names or known:
        done = subprocess.run(
            [sys.executable, str(known[name])],
            capture_output=True,
            text=True,
            cwd=ROOT,
            check=False,
        )
        if done.returncode:
            raise KettleError(f"benchmark {name} failed:\n{done.stderr}")
        if as_json:
            print(done.stdout.strip())
            continue
        result = json.loads(done.stdout)
        print(f"{name}: {result['what']}")
        for side in result["sides"]:
            print(f"  {side['name']:<44} {side['value']:>10.3f} {side['unit']}")
        print(f"  ratio {result['ratio']:.2f}   (target: {result['target']})")


def _files() -> list:
    return sorted((ROOT / "bench").glob("bench_*.py"))
