"""Back up a database to a file, and put it back without losing what was there."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Mapping
from pathlib import Path

from psycopg import sql

from hollow_kettle.clock import real_now

from . import archive, migrating, sealing
from .cluster import Cluster, server_programs
from .home import KettleError

#: Where PostgreSQL's programs read each part of an address.
_PROGRAMS_READ = {"dbname": "PGDATABASE"} | {
    part: f"PG{part.upper()}"
    for part in ("host", "port", "user", "password", "sslmode", "sslrootcert")
}
SCRATCH = "kettle_restoring"
OLD = "kettle_before_restore"
#: What must be there as often after migrating forward as it was in the file.
LASTING = ("people_actor", "log_fieldentry", "shelf_asset", "plan_event")


def dump(address: Mapping[str, object], target: Path) -> None:
    """
    Write the rows of a database that is in use to a new file only its owner may read.

    They are as they stood at one moment, whatever is written meanwhile. Tables are not
    in it: they are made by our own migrations when it comes back. `address` is where
    it is, in the parts of a connection string (host, dbname and so on).

    Raises
    ------
    KettleError
        If it is there already, or can't be written.
    """
    if target.exists():
        raise KettleError(f"{target} is there already; choose another name.")
    partial = target.with_name(target.name + ".part")
    program = str(server_programs() / "pg_dump")
    done = subprocess.run(
        [program, "-Fc", "--data-only", "--no-owner", "-f", str(partial)],
        env={
            **os.environ,
            **{
                name: str(address[part])
                for part, name in _PROGRAMS_READ.items()
                if address.get(part)
            },
        },
        capture_output=True,
        text=True,
        check=False,
        umask=0o077,
    )
    if done.returncode:
        partial.unlink(missing_ok=True)
        raise KettleError(f"pg_dump said: {done.stderr.strip()[:300]}")
    partial.chmod(0o600)
    partial.rename(target)


def backup(server: migrating.Server, database: str, file: str) -> Path:
    """Write a club's rows to a file that `restore` reads; raises KettleError."""
    target = Path(file).expanduser().resolve()
    if isinstance(server, Cluster):
        address = {
            "host": "127.0.0.1",
            "port": str(server.port),
            "user": "kettle_admin",
            "password": server.secrets["admin"],
            "dbname": database,
        }
    else:
        address = server.owner
    dump(address, target)
    print(f"The club's data is in {target} ({target.stat().st_size:,} bytes).")
    return target


def rebuild(cluster: Cluster, source: Path) -> None:
    """
    Build a club's database from a backup in the scratch database of a cluster.

    Our own migrations make the tables of the backup's version; an unprivileged role
    copies the rows of our tables into it, and anything else in the file is refused by
    name. Then this version's checks are run, and it is migrated forward and counted.

    Raises
    ------
    KettleError
        If it can't be; the scratch database is then removed.
    """
    _drop(cluster, SCRATCH)
    try:
        found = archive.read(cluster, source)
        cluster.ensure_database(SCRATCH)
        archive.load(cluster, source, found, into=SCRATCH)
        before = _counts(cluster)
        owner = migrating.environment_of(
            cluster, database=SCRATCH, settings="local", role="kettle_owner"
        )
        migrating.manage(owner, "bring_forward")
        if _counts(cluster) != before:
            raise KettleError("Rows were lost on the way to this version.")
    except KettleError:
        _drop(cluster, SCRATCH)
        raise


def restore(cluster: Cluster, database: str, file: str, key: str = "") -> None:
    """
    Replace a database by a backup, of which nothing is trusted but its rows.

    What is there is backed up first. The backup's database takes the name of the
    club's only when it is whole and checked. `key` is the file of the key to one that
    is encrypted.
    """
    source = Path(file).expanduser().resolve()
    if not source.is_file():
        raise KettleError(f"There is no file {source}.")
    stamp = f"{real_now():%Y%m%d-%H%M%S-%f}"
    backup(cluster, database, str(cluster.folder / f"before-restore-{stamp}.kettle"))
    try:
        with sealing.opened(source, key) as plain:
            rebuild(cluster, plain)
    except KettleError as error:
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
