"""Back up a database to a file, and put it back without losing what was there."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from psycopg import sql

from hollow_kettle.clock import real_now

from . import archive, migrating
from .cluster import Cluster
from .home import KettleError

SCRATCH = "kettle_restoring"
OLD = "kettle_before_restore"
#: What must be there as often after migrating forward as it was in the file.
LASTING = ("people_actor", "log_fieldentry", "shelf_asset", "plan_event")


def backup(cluster: Cluster, database: str, file: str) -> Path:
    """
    Write a database's rows to a file that `restore` reads; only its owner may read it.

    Tables are not in it: they are made by our own migrations when it comes back.
    """
    target = Path(file).expanduser().resolve()
    if target.exists():
        raise KettleError(f"{target} is there already; choose another name.")
    partial = target.with_name(target.name + ".part")
    done = subprocess.run(
        [
            *(cluster.program("pg_dump"), "-Fc", "--data-only", "--no-owner"),
            *("-f", str(partial), database),
        ],
        env={
            **os.environ,
            "PGHOST": "127.0.0.1",
            "PGPORT": str(cluster.port),
            "PGUSER": "kettle_admin",
            "PGPASSWORD": cluster.secrets["admin"],
        },
        capture_output=True,
        text=True,
        check=False,
        umask=0o077,
    )
    if done.returncode:
        raise KettleError(f"pg_dump said: {done.stderr.strip()}")
    partial.chmod(0o600)
    partial.rename(target)
    print(f"The club's data is in {target} ({target.stat().st_size:,} bytes).")
    return target


def restore(cluster: Cluster, database: str, file: str) -> None:
    """
    Replace a database by a backup, of which nothing is trusted but its rows.

    What is there is backed up first. Our own migrations make the tables of the
    backup's version in a scratch database; an unprivileged role copies the rows of
    our tables into it, and anything else in the file is refused by name. Then it is
    migrated forward, counted and checked, and only then takes the database's name.
    """
    source = Path(file).expanduser().resolve()
    if not source.is_file():
        raise KettleError(f"There is no file {source}.")
    stamp = f"{real_now():%Y%m%d-%H%M%S-%f}"
    backup(cluster, database, str(cluster.folder / f"before-restore-{stamp}.kettle"))
    _drop(cluster, SCRATCH)
    try:
        found = archive.read(cluster, source)
        cluster.ensure_database(SCRATCH)
        (cluster.home / f"{SCRATCH}.migrated").unlink(missing_ok=True)
        archive.load(cluster, source, found, into=SCRATCH)
        before = _counts(cluster)
        web = migrating.prepare(cluster, database=SCRATCH, settings="local")
        migrating.manage(web, "check", "--database", "default")
        if _counts(cluster) != before:
            raise KettleError("Rows were lost on the way to this version.")
    except KettleError as error:
        _drop(cluster, SCRATCH)
        raise KettleError(
            f"{source} was not restored; your data is as it was. {error}"
        ) from error
    _drop(cluster, OLD)
    with cluster.connect_admin() as connection:
        for name, to in ((database, OLD), (SCRATCH, database)):
            connection.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                "WHERE datname = %s AND pid <> pg_backend_pid()",
                [name],
            )
            connection.execute(
                sql.SQL("ALTER DATABASE {} RENAME TO {}").format(
                    sql.Identifier(name), sql.Identifier(to)
                )
            )
    _drop(cluster, OLD)
    (cluster.home / f"{SCRATCH}.migrated").rename(cluster.home / f"{database}.migrated")
    print(
        f"The club's data is now what {source} holds. Everybody has to sign in again."
    )


def _drop(cluster: Cluster, database: str) -> None:
    with cluster.connect_admin() as connection:
        connection.execute(
            sql.SQL("DROP DATABASE IF EXISTS {} WITH (FORCE)").format(
                sql.Identifier(database)
            )
        )


def _counts(cluster: Cluster) -> list[int]:
    with cluster.connect_admin(SCRATCH) as connection:
        return [archive.count_of(connection, table) for table in LASTING]
