"""What ./kettle test runs, in order; all of it even when one part fails."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from hollow_kettle.database.home import EXAMPLES, PACKAGES, ROOT

if TYPE_CHECKING:
    from collections.abc import Mapping


def run_all(arguments: list[str], environment: Mapping[str, str]) -> int:
    """Run the checks of form, then the tests; return an exit code."""
    scripts = Path(sys.executable).parent
    places = ["src", "tests", "bench", "scripts"]
    pytest = [word for word in arguments if word != "--full"]
    if "--full" not in arguments:
        pytest = ["-m", "not full", *pytest]
    # Each file whole on one process: what a module sets up is made once.
    pytest = ["-n", "auto", "--maxprocesses", "4", "--dist", "loadfile", *pytest]
    steps: list[tuple[str, list[str | Path]]] = [
        ("formatting", [scripts / "ruff", "format", "--check", "-q", *places]),
        ("lint", [scripts / "ruff", "check", "-q", *places]),
        ("templates", [sys.executable, "scripts/templates.py", "--check"]),
        ("constants", [sys.executable, "scripts/constants.py", "--check"]),
        ("dead code", [sys.executable, "scripts/dead_code.py"]),
        ("types", [scripts / "mypy", "--no-error-summary"]),
        ("layers", [scripts / "lint-imports", "--no-logo"]),
        ("tests", [sys.executable, "-m", "pytest", *pytest]),
    ]
    failed = []
    compiling = _compiling(environment)
    for name, command in steps:
        if name == "tests":
            compiling.wait()
        print(f"--- {name}", flush=True)
        done = subprocess.run(
            [str(word) for word in command],
            cwd=ROOT,
            env=dict(environment),
            check=False,
        )
        if done.returncode:
            failed.append(name)
    if failed:
        print(f"kettle: not right: {', '.join(failed)}", file=sys.stderr)
    return 1 if failed else 0


def _compiling(environment: Mapping[str, str]) -> subprocess.Popen[bytes]:
    """Have the search compiled beside the checks of form, once for all tests."""
    example = str(EXAMPLES / "ridge-walk.json")
    return subprocess.Popen(
        [sys.executable, "-m", "powercore", "improve", example],
        cwd=ROOT,
        env={**environment, "PYTHONPATH": str(PACKAGES)},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
