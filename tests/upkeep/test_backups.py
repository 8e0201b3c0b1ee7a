"""Backups by themselves: while the club writes, tried, encrypted, kept for a while."""

import os
import socket
import tempfile
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest
from django.db import connection
from django.urls import reverse
from procrastinate.contrib.django.models import ProcrastinateJob

from hollow_kettle.database import archive, sealing
from hollow_kettle.database.cluster import Cluster
from hollow_kettle.database.home import KettleError, data_folder
from hollow_kettle.people.models import Club
from hollow_kettle.people.services import make_person
from hollow_kettle.upkeep import copies
from hollow_kettle.upkeep.models import Backup
from hollow_kettle.upkeep.tasks import back_up


@pytest.fixture
def folder(settings):
    """Where backups go; the database server's user may pass, as in a data folder."""
    with tempfile.TemporaryDirectory() as name:
        Path(name).chmod(0o755)
        settings.KETTLE_BACKUPS = name
        yield Path(name)


@pytest.fixture
def club(transactional_db):
    """A club with one person, for other connections to see."""
    make_person("marin", password="spruce-and-copper", name="0")
    return Club.objects.create(pk=1, name="0", zone="Asia/Tokyo")


def connected():
    """Another connection to the test's database."""
    said = connection.settings_dict
    return psycopg.connect(
        host=said["HOST"], port=said["PORT"], user=said["USER"],
        password=said["PASSWORD"], dbname=said["NAME"],
    )  # fmt: skip


def write_on(stopped):
    """Write pairs of rows, each pair in one transaction, until stopped."""
    number = 0
    with connected() as other:
        while not stopped.is_set():
            number += 1
            other.execute("UPDATE people_club SET name = %s", [str(number)])
            other.execute("UPDATE people_actor SET name = %s", [str(number)])
            other.commit()


def test_a_backup_is_made_while_the_club_writes_tried_and_encrypted(
    club, folder, settings, monkeypatch
):
    """As the application's own role; only the key opens it, and it holds one moment."""
    public = sealing.make_key(str(folder / "key.txt"))
    settings.KETTLE_BACKUP_FOR = public
    cluster = Cluster(data_folder(), name=os.environ["KETTLE_TEST_CLUSTER"])
    role = {"USER": "kettle_app", "PASSWORD": cluster.secrets["kettle_app"]}
    for name, value in role.items():
        monkeypatch.setitem(connection.settings_dict, name, value)
    stopped = threading.Event()
    writer = threading.Thread(target=write_on, args=[stopped])
    writer.start()
    try:
        made = copies.make()
    finally:
        stopped.set()
        writer.join()

    assert (made.is_good, made.trouble, made.is_encrypted) == (True, "", True)
    assert made.tested_at is not None
    file = folder / made.file
    assert [path.name for path in folder.glob("kettle-*")] == [made.file]
    assert file.stat().st_mode & 0o077 == 0
    assert b"people_actor" not in file.read_bytes()
    assert not any((folder / "trial").glob("*-cluster-*"))
    with sealing.opened(file, str(folder / "key.txt")) as plain:
        found = archive.read(cluster, plain)
        names = {
            table: row.split("\t")[columns.index("name")].strip()
            for table, columns, rows in archive._tables(cluster, plain)
            for row in rows
            if table in ("people_club", "people_actor")
        }
    assert found.tables["people_actor"].rows == 1
    assert names["people_club"] == names["people_actor"]

    sealing.make_key(str(folder / "other.txt"))
    for key, words in (
        ("", "name its key"),
        (str(folder / "other.txt"), "does not open it"),
        (str(file), "holds no key"),
        (str(folder / "none"), "can't be read"),
    ):
        with pytest.raises(KettleError, match=words), sealing.opened(file, key):
            pass
    with pytest.raises(KettleError, match="can't be written: File exists"):
        sealing.make_key(str(folder / "key.txt"))


def test_what_keeps_a_backup_from_being_made_is_noted(club, folder, settings):
    """A key that is none, a folder that is not there."""
    settings.KETTLE_BACKUP_FOR = "age1nonsense"
    assert "begins with age1" in copies.make().trouble
    settings.KETTLE_BACKUP_FOR, settings.KETTLE_BACKUPS = "", str(folder / "none")
    failed = copies.make()
    assert (failed.is_good, failed.file) == (False, "")
    assert "pg_dump said" in failed.trouble
    assert not list(folder.iterdir())


def at(monkeypatch, moment):
    """Let it be a moment."""
    for module in ("upkeep.copies", "upkeep.health", "upkeep.models"):
        monkeypatch.setattr(f"hollow_kettle.{module}.real_now", lambda: moment)


def test_it_is_due_at_night_by_the_club_or_when_it_is_late(club, folder, monkeypatch):
    """At three in Tokyo (18:00 UTC) once it is old; at any hour once it is late."""
    assert copies.is_due()  # there is none
    last = datetime(2026, 3, 1, 18, 20, tzinfo=UTC)
    Backup.objects.create(is_good=True, made_at=last, machine="here", file="a")
    due = []
    for hour in range(1, 30):
        at(monkeypatch, last + timedelta(hours=hour))
        if copies.is_due():
            due.append(hour)
    assert due == [24, 27, 28, 29]


def test_old_files_go_and_each_month_s_first_and_the_last_good_one_stay(
    club, folder, monkeypatch, settings
):
    """A year and a half of nights; 14 days, 12 months, and never nothing."""
    settings.KETTLE_BACKUP_DAYS = 14
    now = datetime(2027, 6, 20, 3, 41, tzinfo=UTC)
    for age in range(540):
        made, name = now - timedelta(days=age), f"kettle-{age}.kettle"
        Backup.objects.create(
            is_good=age != 3, made_at=made, machine=socket.gethostname(), file=name
        )
        (folder / name).write_text("rows")
    at(monkeypatch, now)
    copies.forget_old()

    left = sorted(
        now - timedelta(days=int(path.stem.removeprefix("kettle-")))
        for path in folder.iterdir()
    )
    recent = [moment for moment in left if now - moment <= timedelta(days=14)]
    assert len(recent) == 15
    assert [(m.year, m.month, m.day) for m in left if m not in recent] == [
        *((2026, month, 1) for month in range(7, 13)),
        *((2027, month, 1) for month in range(1, 7)),
    ]
    at(monkeypatch, now + timedelta(days=2000))
    copies.forget_old()
    assert [path.name for path in folder.iterdir()] == ["kettle-0.kettle"]


def test_files_that_no_row_tells_of_are_noted_and_go_in_their_time(
    club, folder, monkeypatch
):
    """As after a restore, which brings no rows of files that lie elsewhere."""
    assert "upkeep_backup" in archive.LEFT_OUT
    for name in ("20270301-030011.kettle", "20270302-030011.kettle.age", "x.kettle"):
        (folder / f"kettle-{name}").write_text("rows")
    assert (copies.adopt(), copies.adopt()) == (2, 0)
    rows = Backup.objects.order_by("made_at")
    assert [(row.made_at.day, row.is_encrypted, row.is_good) for row in rows] == [
        (1, False, False),
        (2, True, False),
    ]
    assert copies.is_due()
    at(monkeypatch, datetime(2027, 4, 1, tzinfo=UTC))
    copies.forget_old()
    assert [path.name for path in folder.iterdir()] == ["kettle-x.kettle"]


def test_the_worker_backs_up_by_itself_and_the_coordinator_may_ask(
    boss, folder, monkeypatch, settings
):
    """Asking twice makes one job; a demo club has nothing to back up."""
    made = []
    monkeypatch.setattr(copies, "make", lambda: made.append("one"))
    back_up(0)
    assert made == ["one"]
    Backup.objects.create(is_good=True, machine="here", file="a")
    back_up(0)
    assert made == ["one"]

    for _ in range(2):
        page = boss.post(reverse("upkeep:back_up"), follow=True).content.decode()
        assert "makes a backup now" in page
    jobs = ProcrastinateJob.objects.filter(queueing_lock="backup-now")
    assert jobs.count() == 1
    settings.IS_DEMO = True
    page = boss.post(reverse("upkeep:back_up"), follow=True).content.decode()
    assert "The demo club is not backed up" in page
    assert "Back up now" not in page
    assert not copies.is_due()
