"""
Who runs the web server and the worker when root starts them: never root.

Debian's user for web servers may read the program and nothing of the database's
or root's files. Where the program lies in a folder closed to it (root's home), it
runs from a copy in the data folder, made of hard links where they are possible.
"""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import sys
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from hollow_kettle.database.home import PACKAGES, KettleError

WEB_USER = "www-data"


@dataclass(frozen=True)
class Runner:
    """How to start a process of the application: program, folder and user."""

    python: str
    root: Path
    user: dict[str, Any]
    environment: dict[str, str]

    @property
    def owner(self) -> tuple[int, int] | None:
        """Whose files it reads, user and group; None: whoever started it."""
        return (self.user["user"], self.user["group"]) if self.user else None

    def start(
        self, environment: Mapping[str, str], *arguments: str, **options: Any
    ) -> subprocess.Popen[bytes]:
        """
        Start it in a session of its own, so that Ctrl-C reaches only ours.

        It ends when whoever started it does, however that ends.
        """
        return subprocess.Popen(
            ["setpriv", "--pdeathsig", "TERM", self.python, *arguments],
            env={**environment, **self.environment},
            cwd=self.root,
            start_new_session=True,
            **self.user,
            **options,
        )


def web_runner(folder: Path, static: Path) -> Runner:
    """
    Return how to run what the network reaches; `folder` holds this club's data.

    Raises
    ------
    KettleError
        If root asks and there is no user for it, or that user can't read what it needs.
    """
    if os.geteuid() != 0:
        for own in (folder / "web", folder / "backups"):
            own.mkdir(exist_ok=True, mode=0o700)
        return Runner(sys.executable, PACKAGES, {}, {})
    try:
        entry = pwd.getpwnam(WEB_USER)
    except KeyError:
        raise KettleError(
            f"Root never runs the web server, and there is no user {WEB_USER} to run "
            "it; start ./kettle as an ordinary user."
        ) from None
    user = {"user": entry.pw_uid, "group": entry.pw_gid, "extra_groups": []}
    home = folder / "web"
    for own in (home, folder / "backups"):
        own.mkdir(exist_ok=True, mode=0o700)
        os.chown(own, entry.pw_uid, entry.pw_gid)
    inner = dict.fromkeys(("HOME", "XDG_CACHE_HOME", "NUMBA_CACHE_DIR"), str(home))
    venv = Path(sys.prefix)

    def of(packages: Path, venv: Path) -> Runner:
        environment = inner | {"PYTHONPATH": str(packages)}
        return Runner(str(venv / "bin" / "python"), packages, user, environment)

    runner = of(PACKAGES, venv)
    python = Path(sys.executable).resolve()
    if _can(Runner(str(python), Path("/"), user, inner), "import os"):
        needs = f"import os, django, hollow_kettle; os.listdir({str(static)!r})"
        if _can(runner, needs):
            return runner
        runner = of(*_copies(folder, venv))
        if _can(runner, needs):
            return runner
    raise KettleError(
        f"Root never runs the web server, and the user {WEB_USER} can't read "
        f"{python} or {folder}. Start ./kettle as an ordinary user, or keep both "
        "where everybody may read."
    )


def _can(runner: Runner, program: str) -> bool:
    try:
        probe = runner.start(os.environ, "-c", program, stderr=subprocess.DEVNULL)
    except OSError:  # not even Python or the folder are within reach
        return False
    return probe.wait() == 0


def _copies(folder: Path, venv: Path) -> tuple[Path, Path]:
    """Copies of the program and its packages that everybody may read."""
    to = folder / "program"
    shutil.rmtree(to, ignore_errors=True)
    inside = PACKAGES.is_relative_to(venv)
    for path in (venv,) if inside else (PACKAGES, venv):
        try:
            shutil.copytree(path, to / path.name, symlinks=True, copy_function=os.link)
        except (OSError, shutil.Error):  # another file system: no links across
            shutil.rmtree(to / path.name, ignore_errors=True)
            shutil.copytree(path, to / path.name, symlinks=True)
    copied = venv.name / PACKAGES.relative_to(venv) if inside else PACKAGES.name
    return to / copied, to / venv.name
