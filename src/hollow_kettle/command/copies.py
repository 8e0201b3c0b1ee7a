"""Back up a database to a file, and put it back without losing what was there."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from psycopg import sql

from hollow_kettle.clock import real_now

from . import serving
from .cluster import Cluster
from .home import KettleError

SCRATCH = "kettle_restoring"


def backup(cluster: Cluster, database: str, file: str) -> Path:
    """Write a database to a file that `restore` and pg_restore read."""
    target = Path(file).expanduser().resolve()
    if target.exists():
        raise KettleError(f"{target} is there already; choose another name.")
    partial = target.with_name(target.name + ".part")
    _pg(cluster, "pg_dump", "-Fc", "--no-owner", "-f", str(partial), database)
    partial.rename(target)
    print(f"The club's data is in {target} ({target.stat().st_size:,} bytes).")
    return target


def restore(cluster: Cluster, database: str, file: str) -> None:
    """
    Replace a database by a backup.

    What is there is backed up first. The backup goes into a scratch database,
    is migrated and checked there, and only then takes the database's name.
    """
    source = Path(file).expanduser().resolve()
    if not source.is_file():
        raise KettleError(f"There is no file {source}.")
    stamp = f"{real_now():%Y%m%d-%H%M%S}"
    backup(cluster, database, str(cluster.folder / f"before-restore-{stamp}.kettle"))
    with cluster.connect_admin() as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {SCRATCH} WITH (FORCE)")
    cluster.ensure_database(SCRATCH)
    try:
        _pg(
            cluster,
            *("pg_restore", "--no-owner", "--role=kettle_owner", "--exit-on-error"),
            *("-d", SCRATCH, str(source)),
        )
        (cluster.home / f"{SCRATCH}.migrated").unlink(missing_ok=True)
        web = serving.prepare(cluster, database=SCRATCH, settings="local")
        serving.manage(web, "check", "--database", "default")
    except KettleError as error:
        with cluster.connect_admin() as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {SCRATCH} WITH (FORCE)")
        raise KettleError(
            f"{source} was not restored; your data is as it was. {error}"
        ) from error
    with cluster.connect_admin() as connection:
        connection.execute(f"DROP DATABASE {database} WITH (FORCE)")
        connection.execute(
            sql.SQL("ALTER DATABASE {} RENAME TO {}").format(
                sql.Identifier(SCRATCH), sql.Identifier(database)
            )
        )
    (cluster.home / f"{SCRATCH}.migrated").rename(cluster.home / f"{database}.migrated")
    print(f"The club's data is now what {source} holds.")


def _pg(cluster: Cluster, program: str, *arguments: str) -> None:
    done = subprocess.run(
        [cluster.program(program), *arguments],
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
    )
    if done.returncode:
        raise KettleError(f"{program} said: {done.stderr.strip()}")
