"""Long work of the plan, run by the worker."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

import msgspec
from django.db import DatabaseError, InterfaceError, connection
from procrastinate import JobContext
from procrastinate.contrib.django import app

from hollow_kettle.clock import real_now
from powercore.event.plans import Pin as CorePin
from powercore.event.problem import Leg as CoreLeg
from powercore.event.problem import Problem
from powercore.event.scenario import encode
from powercore.futures.stress import stress

from .bridge.problems import EventProblem
from .bridge.rotations import core_legs
from .bridge.scenario import scenario_from
from .models import Rotation, Search, Trial
from .rotation import making
from .rotation import services as rotations

#: How often a search's worker says that it is at it, and looks for a stop. [s]
BEAT_S = 5.0
BROKE_OFF = "The search was interrupted; what it saved is valid."


class _Line(msgspec.Struct):
    """What the child process says after each pass, and at the end a bound."""

    passes: int | None = None
    since: int = 0
    legs: tuple[CoreLeg, ...] | None = None
    steps: tuple[CorePin, ...] = ()
    least_min: float | None = None
    risk_min: float | None = None
    risk_start_min: float | None = None


@app.task(queue="search", pass_context=False)
def search(search_id: int) -> None:
    """Look for a better rotation in a child process, and keep what it finds."""
    claimed = Search.objects.filter(pk=search_id, state=Search.State.WAITING).update(
        state=Search.State.RUNNING, heard_at=real_now()
    )
    if not claimed:
        return
    found = Search.objects.select_related("rotation__snapshot", "best").get(
        pk=search_id
    )
    try:
        with tempfile.TemporaryDirectory() as folder:
            state, words = _follow(found, Path(folder))
    except Exception:
        _end(found, Search.State.FAILED, BROKE_OFF)
        raise
    _end(found, state, words)
    found.refresh_from_db()
    if found.best is not None:
        # So that the page can say what the better plan is worth when things go wrong.
        for rotation in (found.rotation, found.best):
            rotations.try_futures(rotation)


@app.task(queue="trial", pass_context=False)
def work_out_further(rotation_id: int) -> None:
    """Go on from a plan that was made at once for somebody who waited."""
    found = Rotation.objects.select_related("event", "snapshot").filter(
        pk=rotation_id, further=Rotation.Further.ASKED
    )
    row = found.first()
    if row is not None:
        making.work_out_further(row)


@app.task(queue="trial", pass_context=False)
def trial(trial_id: int) -> None:
    """Run a rotation through many futures and mishaps, and keep what comes of it."""
    found = Trial.objects.select_related("rotation__snapshot").filter(pk=trial_id)
    row = found.first()
    if row is None:
        return
    try:
        problem = Problem(scenario_from(row.rotation.snapshot))
        legs = core_legs(row.rotation)
        result = stress(problem, legs, EventProblem(problem, ()).suns)
    except Exception:
        found.update(has_failed=True)
        raise
    found.update(content=msgspec.to_builtins(result))


@app.task(queue="trial", pass_context=False)
def cures(trial_id: int) -> None:
    """Work out in a child process what would help a rotation, and keep it."""
    asked = Trial.objects.filter(pk=trial_id, cures_state=Trial.CuresState.ASKED)
    row = asked.select_related("rotation__snapshot").first()
    if row is None:
        return
    try:
        with tempfile.TemporaryDirectory() as folder:
            command = _command(Path(folder), "cures", row.rotation, row.rotation)
            done = subprocess.run(
                command,
                cwd=folder,
                stdout=subprocess.PIPE,
                env=_environment(),
                check=True,
            )
        found = msgspec.json.decode(done.stdout)
    except Exception:
        asked.update(cures_state=Trial.CuresState.FAILED)
        raise
    asked.update(cures_state=Trial.CuresState.DONE, cures=found)


@app.periodic(cron="* * * * *")
@app.task(pass_context=False)
def take_up_searches(timestamp: int) -> None:
    """Take up searches whose worker was killed."""
    rotations.take_up_silent()


@app.periodic(cron="* * * * *")
@app.task(pass_context=True)
async def take_up_trials(context: JobContext, timestamp: int) -> None:
    """Begin trials and cures anew whose worker was killed."""
    jobs = context.app.job_manager
    for job in await jobs.get_stalled_jobs(queue="trial"):
        await jobs.retry_job(job)


def _command(folder: Path, what: str, rotation: Rotation, start: Rotation) -> list[str]:
    """A child's command on a rotation's event and another's legs; it yields to all."""
    scenario = scenario_from(rotation.snapshot)
    (folder / "scenario.json").write_bytes(encode(scenario))
    (folder / "legs.json").write_bytes(msgspec.json.encode(core_legs(start)))
    # It ends with the worker, however that ends.
    alone = ["setpriv", "--pdeathsig", "KILL", "nice", "-n", "10"]
    command = [*alone, sys.executable, "-m", "powercore", what]
    return [*command, "scenario.json", "legs.json"]


def _environment() -> dict[str, str]:
    return {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}


def _follow(found: Search, folder: Path) -> tuple[str, str]:
    """Run the child and keep up with it; how it ended."""
    start = found.best or found.rotation
    command = [
        *_command(folder, "improve", start, start),
        "--lines",
        f"--keep-until={rotations.kept_until_min(found.rotation)}",
        "--futures" if found.by_futures else f"--margin={1 + found.margin_pct / 100}",
        *(["--may-lower"] if found.may_lower else []),
    ]
    with subprocess.Popen(
        command, cwd=folder, stdout=subprocess.PIPE, env=_environment(), text=True
    ) as child:
        beat = _Beat(found, child)
        beat.start()
        try:
            assert child.stdout is not None  # noqa: S101 - it is piped
            ended = _keep_up(found, child.stdout)
        finally:
            child.terminate()
            beat.end()
    if ended is not None:
        return ended
    if beat.has_stopped:
        return Search.State.STOPPED, ""
    if child.returncode not in (0, -signal.SIGTERM):
        return Search.State.FAILED, BROKE_OFF
    return Search.State.DONE, ""


class _Beat(threading.Thread):
    """
    Says that a search is worked on, and ends its child when a stop is asked for.

    A pass may take minutes on a small machine; until it ends the child says nothing.
    """

    def __init__(self, found: Search, child: subprocess.Popen[str]) -> None:
        super().__init__(daemon=True)
        self.rows, self.child = Search.objects.filter(pk=found.pk), child
        self.has_stopped = False
        self._over = threading.Event()

    def run(self) -> None:
        """Look every few seconds until the child has ended."""
        try:
            while not self._over.wait(BEAT_S):
                with suppress(DatabaseError, InterfaceError):
                    self.rows.update(heard_at=real_now())
                    if self.rows.filter(is_stop_asked=True).exists():
                        self.has_stopped = True
                        self.child.terminate()
        finally:
            connection.close()

    def end(self) -> None:
        """Let it end with its child."""
        self._over.set()
        self.join()


def _keep_up(found: Search, lines: Iterable[str]) -> tuple[str, str] | None:
    """Keep what is found and note each pass; how it was ended, None by itself."""
    for text in lines:
        line = msgspec.json.decode(text, type=_Line)
        if line.legs is not None and not rotations.keep_better(
            found, line.legs, line.steps
        ):
            return Search.State.STOPPED, "Its draft was published."
        told: dict[str, float | None] = {"least_min": line.least_min}
        if line.passes is not None:
            told = {
                "passes": line.passes,
                "since": line.since,
                "risk_min": line.risk_min,
            }
            if found.risk_start_min is None:  # else it was taken up again
                told["risk_start_min"] = line.risk_start_min
        Search.objects.filter(pk=found.pk).update(heard_at=real_now(), **told)
        found.refresh_from_db(fields=["is_stop_asked"])
        if found.is_stop_asked:
            return Search.State.STOPPED, ""
    return None


def _end(found: Search, state: str, words: str) -> None:
    Search.objects.filter(pk=found.pk).update(
        state=state, words=words, ended_at=real_now()
    )
