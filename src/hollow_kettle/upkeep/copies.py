"""Backups that the worker makes by itself, tries by restoring, and keeps a while."""

from __future__ import annotations

import re
import socket
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, connection

from hollow_kettle.clock import local, real_now
from hollow_kettle.database import copies, sealing
from hollow_kettle.database.cluster import throwaway
from hollow_kettle.database.home import KettleError
from hollow_kettle.people.models import Club

from .health import backup_age_s
from .models import Backup

#: At this hour of the club it is made, if the last is old enough; else when late.
HOUR, OLD_H, LATE_H = 3, 20.0, 26.0
_NAME = re.compile(r"kettle-(\d{8}-\d{6})\.kettle(\.age)?")
#: The first of a month is kept for so many months.
MONTHS = 12


def is_due() -> bool:
    """Whether a backup is to be made now."""
    if settings.IS_DEMO or not settings.KETTLE_BACKUPS:
        return False
    age_s = backup_age_s()
    if age_s is None or age_s > LATE_H * 3600:
        return True
    hour = local(real_now(), Club.the().zone).hour
    return hour == HOUR and age_s > OLD_H * 3600


def make() -> Backup:
    """
    Make a backup, try it, encrypt it where that is wished, and note how it went.

    One that could not be restored stays as a file, since it is better than none, but
    does not count as good.
    """
    row = Backup(machine=_machine())
    folder = Path(settings.KETTLE_BACKUPS)
    file = folder / f"kettle-{row.made_at:%Y%m%d-%H%M%S}.kettle"
    try:
        if settings.KETTLE_BACKUP_FOR:
            sealing.recipient(settings.KETTLE_BACKUP_FOR)  # before anything is written
        copies.dump(_address(), file)
        row.trouble = _tried(file)
        row.tested_at = None if row.trouble else real_now()
        if settings.KETTLE_BACKUP_FOR:
            file = sealing.seal(file, settings.KETTLE_BACKUP_FOR)
            row.is_encrypted = True
        row.file, row.size = file.name, file.stat().st_size
        row.is_good = not row.trouble
    except KettleError as error:
        row.trouble = str(error)
    except OSError as error:
        row.trouble = f"{folder}: {error.strerror}."
    row.trouble = row.trouble[:300]
    try:
        row.save()
    except DatabaseError:  # what is not noted would never be removed
        file.unlink(missing_ok=True)
        raise
    return row


def _address() -> dict[str, object]:
    """Where the club's database is, in the parts of a connection string."""
    said = connection.settings_dict
    parts = {"dbname": "NAME"} | {
        part: part.upper() for part in ("host", "port", "user", "password")
    }
    return said["OPTIONS"] | {part: said[name] for part, name in parts.items()}


def _machine() -> str:
    """Whose folder the files lie in."""
    return socket.gethostname()[:120]


def _tried(file: Path) -> str:
    """Restore it into a server started for that alone; why it can't be, or nothing."""
    home = file.parent / "trial"
    home.mkdir(exist_ok=True)
    try:
        with throwaway(home, "trial") as cluster:
            copies.rebuild(cluster, file)
    except KettleError as error:
        return f"It could not be restored for a test. {error}"
    return ""


def adopt() -> int:
    """
    Note files of ours that no row tells of, as after a restore; return how many.

    They count as untried, and are removed in their time like all others.
    """
    if settings.IS_DEMO or not settings.KETTLE_BACKUPS:
        return 0
    names, count = set(Backup.objects.values_list("file", flat=True)), 0
    for file in Path(settings.KETTLE_BACKUPS).glob("kettle-*.kettle*"):
        match = _NAME.fullmatch(file.name)
        if match is None or file.name in names:
            continue
        made_at = datetime.strptime(f"{match.group(1)}+0000", "%Y%m%d-%H%M%S%z")
        Backup.objects.create(
            made_at=made_at,
            machine=_machine(),
            file=file.name,
            size=file.stat().st_size,
            is_encrypted=match.group(2) is not None,
            trouble="It was made before a restore, and not tried since.",
        )
        count += 1
    return count


def forget_old() -> int:
    """
    Remove files past their time; return how many.

    All of the last days stay (`KETTLE_BACKUP_DAYS`), of each month its first for a
    year, and the last good one always.
    """
    now = real_now()
    here = Backup.objects.filter(machine=_machine(), removed_at=None, is_good=True)
    rows = list(here.order_by("made_at"))
    kept = {row.pk for row in rows[-1:]}
    months: set[tuple[int, int]] = set()
    for row in rows:
        month = (row.made_at.year, row.made_at.month)
        is_first = month not in months
        months.add(month)
        age = now - row.made_at
        if age <= timedelta(days=settings.KETTLE_BACKUP_DAYS) or (
            is_first and age <= timedelta(days=31 * MONTHS)
        ):
            kept.add(row.pk)
    gone = [row for row in rows if row.pk not in kept]
    past = now - timedelta(days=settings.KETTLE_BACKUP_DAYS)
    gone += Backup.objects.filter(
        machine=_machine(),
        removed_at=None,
        is_good=False,
        made_at__lt=past,
    )
    for row in gone:
        if row.file:
            (Path(settings.KETTLE_BACKUPS) / row.file).unlink(missing_ok=True)
        row.removed_at = now
        row.save(update_fields=["removed_at"])
    return len(gone)
