"""Start the web server and the worker, and keep them running."""

from __future__ import annotations

import os
import shutil
import ssl
import subprocess
import time
from dataclasses import dataclass
from http.client import HTTPConnection, HTTPException, HTTPSConnection
from pathlib import Path
from typing import TYPE_CHECKING

from hollow_kettle.database.home import EXAMPLES, PACKAGES, KettleError
from hollow_kettle.database.migrating import digest_of, manage

from .keeper import Keeper, Part, end_on_signals
from .web_user import Runner, web_runner

if TYPE_CHECKING:
    import socket
    from collections.abc import Mapping

    from hollow_kettle.database.migrating import Server

    from .certificate import Certificate

#: How long the web server may take until it answers. [s]
START_S = 180.0
#: After so many tries of a part that ended at once, starting is given up.
STARTS = 3


@dataclass(frozen=True)
class Door:
    """Where the web server is met."""

    address: str
    listener: socket.socket
    certificate: Certificate | None = None

    @property
    def port(self) -> int:
        """Its TCP port."""
        return int(self.listener.getsockname()[1])

    @property
    def url(self) -> str:
        """What people type."""
        scheme = "http" if self.certificate is None else "https"
        host = f"[{self.address}]" if ":" in self.address else self.address
        return f"{scheme}://{host}:{self.port}/"


def serve_until_stopped(
    environment: Mapping[str, str],
    server: Server,
    door: Door | None,
    *,
    greeting: str,
    has_worker: bool = True,
) -> None:
    """Keep web server, worker and database running until Ctrl-C; KettleError."""
    end_on_signals()
    _collect_static(environment)
    static = Path(environment["KETTLE_STATIC"])
    runner = web_runner(static.parent, static)
    keeper = Keeper(server, [])
    if door is not None:
        keeper.parts.append(_web(environment, runner, door, static))
    if has_worker:
        direct = server.environment(
            role="worker", database=environment["KETTLE_DB_NAME"]
        )
        keeper.parts.append(_worker({**environment, **direct}, runner))
    try:
        keeper.look_after()
        if door is not None:
            _wait_until_up(door, keeper)
        print(greeting, flush=True)
        if has_worker:
            _warm_planner(environment, runner)
        keeper.keep()
    except KeyboardInterrupt:
        print("\nkettle: stopping.")
    finally:
        keeper.stop()


def _web(
    environment: Mapping[str, str], runner: Runner, door: Door, static: Path
) -> Part:
    secure: tuple[str, ...] = ()
    if door.certificate is not None:
        own = door.certificate.shared_with(static.parent / "web", runner.owner)
        secure = ("--certfile", str(own.file), "--keyfile", str(own.key))
    number, figures = door.listener.fileno(), static.parent / "web" / "figures"

    def start() -> subprocess.Popen[bytes]:
        # What its processes measure together, from this start on.
        shutil.rmtree(figures, ignore_errors=True)
        figures.mkdir(mode=0o700)
        if runner.owner is not None:
            os.chown(figures, *runner.owner)
        return runner.start(
            {**environment, "PROMETHEUS_MULTIPROC_DIR": str(figures)},
            *("-m", "gunicorn", "hollow_kettle.wsgi", "--bind", f"fd://{number}"),
            *("--config", "python:hollow_kettle.settings.gunicorn", *secure),
            pass_fds=(number,),
        )

    return Part("the web server", start)


def _worker(environment: Mapping[str, str], runner: Runner) -> Part:
    def start() -> subprocess.Popen[bytes]:
        return runner.start(
            environment,
            *("-m", "django", "procrastinate", "worker"),
            *("--delete-jobs", "successful"),
            # A search takes minutes; housekeeping goes on beside it.
            *("--concurrency", "4"),
        )

    return Part("the worker", start)


def _wait_until_up(door: Door, keeper: Keeper) -> None:
    """Wait for an answer of the web server; its port is open from before it runs."""
    host = {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(door.address, door.address)  # noqa: S104 - compared
    until = time.monotonic() + START_S
    while time.monotonic() < until:
        keeper.look_after()
        if any(part.back_off.failures > STARTS for part in keeper.parts):
            raise KettleError("The server did not start; what it said is above.")
        if _answers(host, door):
            return
        time.sleep(0.2)
    raise KettleError(f"The server did not answer within {START_S:.0f} s.")


def _answers(host: str, door: Door) -> bool:
    calling: HTTPConnection
    if door.certificate is None:
        calling = HTTPConnection(host, door.port, timeout=30)
    else:  # our own, met on our own machine
        trusting = ssl._create_unverified_context()  # noqa: S323
        calling = HTTPSConnection(host, door.port, timeout=30, context=trusting)
    try:
        calling.request("GET", "/healthz")
        calling.getresponse()
    except (OSError, HTTPException):
        return False
    finally:
        calling.close()
    return True


def _collect_static(environment: Mapping[str, str]) -> None:
    folder = Path(environment["KETTLE_STATIC"])
    want = digest_of(
        path for path in PACKAGES.glob("hollow_kettle/*/static/**/*") if path.is_file()
    )
    stamp = folder / ".inputs"
    if not stamp.exists() or stamp.read_text() != want:
        manage(environment, "collectstatic", "--noinput", "--clear", "--verbosity", "0")
        stamp.write_text(want)


def _warm_planner(environment: Mapping[str, str], runner: Runner) -> None:
    """Have the search compiled in the background, once for each version of it."""
    stamp = Path(environment["KETTLE_STATIC"]) / ".compiled"
    want = digest_of(PACKAGES.glob("powercore/rotation/**/*.py"))
    if stamp.exists() and stamp.read_text() == want:
        return
    example = str(runner.root / EXAMPLES.relative_to(PACKAGES) / "ridge-walk.json")
    runner.start(
        environment,
        *("-m", "powercore", "improve", example),
        stdout=subprocess.DEVNULL,
        preexec_fn=lambda: os.nice(15),
    )
    stamp.write_text(want)
