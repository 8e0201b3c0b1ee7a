"""Whether all is well, check by check, in words."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import Literal

from django.conf import settings
from django.db import DatabaseError, InterfaceError, connection
from django.db.migrations.executor import MigrationExecutor
from django.db.models import Max, Min
from procrastinate.contrib.django.models import (
    ProcrastinateEvent,
    ProcrastinateJob,
    ProcrastinateWorker,
)

from hollow_kettle.clock import real_now

from . import room
from .models import Backup, Trouble

State = Literal["well", "mind", "bad"]

#: A worker says every ten seconds that it lives. [s]
WORKER_S = 60.0
#: A job that waits for longer than this has no worker free. [s]
WAIT_S = 300.0
BACKUP_MIND_H, BACKUP_BAD_H = 30.0, 80.0
MIND_ROOM = 2 * 1024**3


@dataclass(frozen=True)
class Check:
    """One thing that was looked at."""

    name: str
    state: State
    words: str


def checks() -> list[Check]:
    """Return all checks; where the database does not answer, that is the only one."""
    try:
        found = [_database(), _migrations()]
        if all(check.state == "well" for check in found):
            found += [_worker(), _queue(), _room(), _backup(), _troubles()]
    except (DatabaseError, InterfaceError):
        return [Check("database", "bad", "The database does not answer.")]
    return found


def is_ready(found: list[Check]) -> bool:
    """Whether pages can be answered; the rest is worth a look and no more."""
    return all(
        check.state != "bad"
        for check in found
        if check.name in ("database", "migrations")
    )


def database_bytes() -> int:
    """Return the size of the database."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_database_size(current_database())")
        return int(cursor.fetchone()[0])


def worker_age_s() -> float | None:
    """Return how long ago any worker was heard; None: never. [s]"""
    found = ProcrastinateWorker.objects.aggregate(at=Max("last_heartbeat"))["at"]
    return None if found is None else (real_now() - found).total_seconds()


def backup_age_s() -> float | None:
    """Return the age of the last good backup that is still there; None: none. [s]"""
    kept = Backup.objects.filter(is_good=True, removed_at=None)
    found = kept.aggregate(at=Max("made_at"))["at"]
    return None if found is None else (real_now() - found).total_seconds()


def _database() -> Check:
    return Check("database", "well", f"{in_bytes(database_bytes())}.")


_is_migrated: list[bool] = []


def _migrations() -> Check:
    if not _is_migrated:  # once they are, they stay so for as long as we run
        executor = MigrationExecutor(connection)
        plan = executor.migration_plan(executor.loader.graph.leaf_nodes())
        if plan:
            words = f"{len(plan)} changes to the tables are missing; start it again."
            return Check("migrations", "bad", words)
        _is_migrated.append(True)
    return Check("migrations", "well", "The tables are of this version.")


def _worker() -> Check:
    age = worker_age_s()
    if age is not None and age < WORKER_S:
        number = ProcrastinateWorker.objects.filter(
            last_heartbeat__gt=real_now() - timedelta(seconds=WORKER_S)
        ).count()
        words = "A worker is at hand." if number == 1 else f"{number} workers at hand."
        return Check("worker", "well", words)
    since = "was never heard" if age is None else f"was last heard {ago(age)}"
    return Check(
        "worker",
        "bad",
        f"No worker: one {since}. Better plans, mishaps, causes and backups wait.",
    )


def _queue() -> Check:
    waiting = ProcrastinateJob.objects.filter(status="todo")
    due = waiting.filter(scheduled_at=None) | waiting.filter(
        scheduled_at__lte=real_now()
    )
    oldest = (
        ProcrastinateEvent.objects.filter(job__in=due, type="deferred")
    ).aggregate(at=Min("at"))["at"]
    running = ProcrastinateJob.objects.filter(status="doing").count()
    words = f"{due.count()} waiting, {running} at work."
    failed = ProcrastinateEvent.objects.filter(
        type="failed", at__gt=real_now() - timedelta(days=1)
    ).count()
    if failed:
        return Check("queue", "mind", f"{words} {failed} failed within a day.")
    if oldest is not None and (real_now() - oldest).total_seconds() > WAIT_S:
        age = ago((real_now() - oldest).total_seconds())
        return Check("queue", "mind", f"{words} The oldest was asked for {age}.")
    return Check("queue", "well", words)


def _room() -> Check:
    free = room.free_bytes()
    if free is None:
        return Check("room", "well", "The database is on another machine.")
    words = f"{in_bytes(free)} free."
    if room.is_full():
        return Check("room", "bad", f"{words} Nothing is saved until there is more.")
    state: State = "mind" if free < MIND_ROOM else "well"
    return Check("room", state, words)


def _backup() -> Check:
    if settings.IS_DEMO:
        return Check("backup", "well", "The demo club is not backed up.")
    age = backup_age_s()
    last = Backup.objects.first()
    if age is None:
        why = f" The last try: {last.trouble}" if last and last.trouble else ""
        return Check("backup", "mind", f"There is no backup yet.{why}")
    state: State = "well"
    if age > BACKUP_MIND_H * 3600:
        state = "bad" if age > BACKUP_BAD_H * 3600 else "mind"
    words = f"The last good one was made {ago(age)}."
    if last and last.trouble:
        return Check("backup", "mind" if state == "well" else state,
                     f"{words} The last try: {last.trouble}")  # fmt: skip
    return Check("backup", state, words)


def _troubles() -> Check:
    number = Trouble.objects.filter(last_at__gt=real_now() - timedelta(days=1)).count()
    if number:
        words = "Something" if number == 1 else f"{number} things"
        return Check("troubles", "mind", f"{words} went wrong within a day.")
    return Check("troubles", "well", "Nothing went wrong within a day.")


_UNITS: tuple[tuple[float, str, Callable[[float], str]], ...] = (
    (172800, "days", lambda s: f"{s / 86400:.0f}"),
    (5400, "h", lambda s: f"{s / 3600:.0f}"),
    (90, "min", lambda s: f"{s / 60:.0f}"),
)


def ago(age_s: float) -> str:
    """Say how long ago something was, to one unit."""
    for least, unit, words in _UNITS:
        if age_s >= least:
            return f"{words(age_s)} {unit} ago"
    return f"{max(age_s, 0):.0f} s ago"


def in_bytes(size: int) -> str:
    """Say a size in kB, MB or GB."""
    for most, unit in ((1e6, "kB"), (1e9, "MB")):
        if size < most:
            return f"{size / most * 1000:.0f} {unit}"
    return f"{size / 1e9:.1f} GB"
