"""Values of the page that says how the kettle is."""

from __future__ import annotations

import platform
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.conf import settings
from procrastinate.contrib.django.models import ProcrastinateEvent, ProcrastinateJob

from hollow_kettle import VERSION
from hollow_kettle.clock import local, real_now
from hollow_kettle.people.models import Club

from . import figures, health
from .models import Backup, Trouble

#: What each check looks at, to people.
NAMES = {
    "database": "Database",
    "migrations": "Tables",
    "worker": "Worker",
    "queue": "Work that waits",
    "room": "Disk",
    "backup": "Backups",
    "troubles": "Troubles",
}
#: What the worker's tasks are to people.
TASKS = {
    "search": "looking for a better plan",
    "trial": "trying a plan in many futures",
    "cures": "looking for what would help a plan",
    "work_out_further": "working a plan out further",
    "causes": "working out why power ran short",
    "follow_event": "following an event's log",
    "carry_beliefs_forward": "carrying charges forward",
    "back_up": "the night's backup",
    "back_up_now": "a backup that was asked for",
}
#: What happened to a page, for kinds of exception that say it.
KINDS = {
    "OperationalError": "the database did not answer",
    "InterfaceError": "the database did not answer",
    "MemoryError": "the machine ran out of memory",
    "TimeoutError": "something took too long",
}


@dataclass(frozen=True)
class Line:
    """One row of a list: when, what, and what helps to find it."""

    at: Any
    what: str
    aside: str


def values() -> dict[str, Any]:
    """Return all values of the page."""
    zone = Club.the().zone
    found = health.checks()
    worst = next((s for s in ("bad", "mind") if any(c.state == s for c in found)), "")
    return {
        "checks": [(NAMES[check.name], check) for check in found],
        "said": {
            "bad": "Something is wrong.",
            "mind": "It runs. Something is worth a look.",
            "": "All is well.",
        }[worst],
        "version": VERSION,
        "machine": platform.node(),
        "backups": _backups(zone),
        "may_back_up": bool(settings.KETTLE_BACKUPS) and not settings.IS_DEMO,
        "backup_folder": settings.KETTLE_BACKUPS,
        "backup_days": settings.KETTLE_BACKUP_DAYS,
        "pages": figures.slow_pages(8),
        "troubles": _troubles(zone),
        "failed": _failed(zone),
    }


def _backups(zone: str) -> list[dict[str, Any]]:
    return [
        {
            "at": local(row.made_at, zone),
            "file": row.file or "none",
            "size": health.in_bytes(row.size) if row.size else "–",
            "is_encrypted": row.is_encrypted,
            "is_good": row.is_good,
            "tested_at": row.tested_at and local(row.tested_at, zone),
            "trouble": row.trouble,
        }
        for row in Backup.objects.filter(removed_at=None)[:8]
    ]


def _troubles(zone: str) -> list[Line]:
    lines = []
    for row in Trouble.objects.all()[:8]:
        what = KINDS.get(row.kind, f"a fault of ours ({row.kind})")
        since = local(row.first_at, zone)
        times = "" if row.times == 1 else f"{row.times} times since {since:%d %b}, "
        lines.append(
            Line(
                at=local(row.last_at, zone),
                what=f"Page {row.route or 'none'}: {what}.",
                aside=f"{times}at {row.place}, request {row.request or 'not numbered'}",
            )
        )
    return lines


def _failed(zone: str) -> list[Line]:
    """Jobs that failed within a month, last first."""
    since = real_now() - timedelta(days=30)
    events = ProcrastinateEvent.objects.filter(type="failed", at__gt=since)
    rows = events.select_related("job").order_by("-at")[:8]
    return [
        Line(
            at=local(row.at, zone),
            what=f"The worker failed at {_task(row.job)}.",
            aside=f"job {row.job_id}; it is in the worker's log by this number",
        )
        for row in rows
        if row.at is not None
    ]


def _task(job: ProcrastinateJob) -> str:
    name = job.task_name.rpartition(".")[2]
    return TASKS.get(name, name.replace("_", " "))
