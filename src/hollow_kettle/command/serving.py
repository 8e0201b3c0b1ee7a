"""Start the web server and the worker, and stop them together."""

from __future__ import annotations

import hashlib
import os
import signal
import socket
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from .cluster import Cluster
from .home import ROOT, KettleError
from .web_user import Runner, web_runner

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .certificate import Certificate

MANAGE = (sys.executable, "-m", "django")


def prepare(
    cluster: Cluster, *, database: str, settings: str, demo: bool = False
) -> dict[str, str]:
    """Migrate a database as its owner; return the web server's environment."""
    stamp = cluster.home / f"{database}.migrated"
    if cluster.ensure_database(database):
        stamp.unlink(missing_ok=True)
    owner = environment_of(
        cluster, database=database, settings=settings, role="kettle_owner", demo=demo
    )
    _migrate(owner, stamp=stamp)
    return owner | cluster.environment(role="kettle_app", database=database)


def environment_of(
    cluster: Cluster, *, database: str, settings: str, role: str, demo: bool = False
) -> dict[str, str]:
    """What a process of ours needs to work on a database with a role."""
    return {
        **os.environ,
        "DJANGO_SETTINGS_MODULE": f"hollow_kettle.settings.{settings}",
        "KETTLE_SECRET_KEY": cluster.secrets["secret_key"],
        "KETTLE_STATIC": str(cluster.folder / "static"),
        "KETTLE_DEMO": "1" if demo else "0",
        **cluster.environment(role=role, database=database),
    }


def manage(environment: Mapping[str, str], *arguments: str) -> None:
    """Run a Django management command; its failure ends ours."""
    done = subprocess.run([*MANAGE, *arguments], env=dict(environment), check=False)
    if done.returncode:
        raise KettleError(f"{arguments[0]} failed; what it said is above.")


def serve_until_stopped(
    environment: Mapping[str, str],
    *,
    address: str,
    port: int,
    greeting: str,
    certificate: Certificate | None = None,
) -> None:
    """Run gunicorn and the worker until Ctrl-C or until one of them ends."""
    _collect_static(environment)
    static = Path(environment["KETTLE_STATIC"])
    runner = web_runner(static.parent, static)
    secure: tuple[str, ...] = ()
    if certificate is not None:
        own = certificate.shared_with(static.parent / "web", runner.owner)
        secure = ("--certfile", str(own.file), "--keyfile", str(own.key))
    children = [
        runner.start(
            environment,
            *("-m", "gunicorn", "hollow_kettle.wsgi", "--bind", f"{address}:{port}"),
            *("--worker-class", "gthread", "--workers", "2", "--threads", "8"),
            *("--log-level", "warning", "--worker-tmp-dir", "/dev/shm"),  # noqa: S108
            *("--no-control-socket", *secure),
        ),
        runner.start(
            environment,
            *("-m", "django", "procrastinate", "worker"),
            *("--delete-jobs", "successful"),
            # A search takes minutes; housekeeping goes on beside it.
            *("--concurrency", "4"),
        ),
    ]
    # Both end it alike, also where a shell started it with Ctrl-C ignored.
    for ending in (signal.SIGTERM, signal.SIGINT):
        signal.signal(ending, signal.default_int_handler)
    try:
        _wait_for_port(address, port, children)
        print(greeting, flush=True)
        _warm_planner(environment, runner)
        while all(child.poll() is None for child in children):
            time.sleep(0.5)
        print("kettle: a part of the application ended; stopping the rest.")
    except KeyboardInterrupt:
        print("\nkettle: stopping.")
    finally:
        # Each with what it started itself, a search in the background say.
        for child in children:
            _signal(child, signal.SIGTERM)
        for child in children:
            with suppress(subprocess.TimeoutExpired):
                child.wait(timeout=10)
            _signal(child, signal.SIGKILL)


def _signal(child: subprocess.Popen[bytes], number: int) -> None:
    """Send a signal to a child's whole session, if anything of it is left."""
    with suppress(ProcessLookupError):
        os.killpg(child.pid, number)


def free_port(first: int) -> int:
    """Return the first free loopback port from a number on."""
    for port in range(first, first + 100):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    raise KettleError(f"No free port from {first} to {first + 99}.")


def _wait_for_port(
    address: str, port: int, children: list[subprocess.Popen[bytes]]
) -> None:
    host = "127.0.0.1" if address == "0.0.0.0" else address  # noqa: S104 - compared
    for _ in range(300):
        if any(child.poll() is not None for child in children):
            raise KettleError("The server did not start; what it said is above.")
        with socket.socket() as probe:
            if probe.connect_ex((host, port)) == 0:
                return
        time.sleep(0.1)
    raise KettleError("The server did not answer within 30 s.")


def _migrate(environment: Mapping[str, str], *, stamp: Path) -> None:
    """Migrate, and skip it when no migration has changed since."""
    want = _digest(
        [
            *ROOT.glob("src/hollow_kettle/*/migrations/*.py"),
            *ROOT.glob("src/hollow_kettle/*/apps.py"),
            ROOT / "requirements" / "run.txt",
        ]
    )
    if not stamp.exists() or stamp.read_text() != want:
        manage(environment, "migrate", "--verbosity", "0")
        stamp.write_text(want)


def _collect_static(environment: Mapping[str, str]) -> None:
    folder = Path(environment["KETTLE_STATIC"])
    want = _digest(
        path for path in ROOT.glob("src/hollow_kettle/*/static/**/*") if path.is_file()
    )
    stamp = folder / ".inputs"
    if not stamp.exists() or stamp.read_text() != want:
        manage(environment, "collectstatic", "--noinput", "--clear", "--verbosity", "0")
        stamp.write_text(want)


def _warm_planner(environment: Mapping[str, str], runner: Runner) -> None:
    """Have the search compiled in the background, once for each version of it."""
    stamp = Path(environment["KETTLE_STATIC"]) / ".compiled"
    want = _digest(ROOT.glob("src/powercore/rotation/**/*.py"))
    if stamp.exists() and stamp.read_text() == want:
        return
    example = str(runner.root / "examples" / "ridge-walk.json")
    runner.start(
        environment,
        *("-m", "powercore", "improve", example),
        stdout=subprocess.DEVNULL,
        preexec_fn=lambda: os.nice(15),
    )
    stamp.write_text(want)


def _digest(paths) -> str:
    digest = hashlib.sha256()
    for path in sorted(paths):
        digest.update(str(path.relative_to(ROOT)).encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()
