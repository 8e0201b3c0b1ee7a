"""
What is in a backup's file, read without trusting it.

A file made by pg_dump holds SQL that a restore would run. Here nothing of it is run:
`pg_restore` writes it out as text, of which only the rows of our own tables are taken,
and those go in through COPY statements of our own, by a role that may do nothing else.
"""

from __future__ import annotations

import io
import json
import re
import secrets
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

import psycopg
from psycopg import sql

from . import migrating
from .cluster import Cluster, as_server_user
from .home import KettleError

#: Rows that do not come back: who was signed in, and what files lay on what machine.
LEFT_OUT = frozenset({"django_session", "people_signedin", "upkeep_backup"})
LOADER = "kettle_loader"

_COPY = re.compile(r"COPY public\.([a-z0-9_]+) \(([a-z0-9_, \"]+)\) FROM stdin;")
#: What stands around the rows in a file of ours, and means nothing here.
_AROUND = re.compile(
    r"--.*|\\(?:un)?restrict \w+|SET client_encoding = 'UTF8';|"
    r"SET (?!client_encoding)[a-z_]+ = [a-z0-9']+;|"
    r"SELECT pg_catalog\.set_config\('search_path', '', false\);|"
    r"SELECT pg_catalog\.setval\('public\.[a-z0-9_]+', \d+, (?:true|false)\);"
)
_ENTRY = re.compile(r"\d+; \d+ \d+ (.+)")
_ROWS = ("TABLE DATA ", "SEQUENCE SET ")
#: Rights and remarks: never applied, and ours are set anew.
_HARMLESS = ("ACL ", "DEFAULT ACL ", "COMMENT ")


@dataclass(slots=True)
class Table:
    """Rows of one table in a file."""

    columns: list[str]
    rows: int = 0


@dataclass(slots=True)
class Found:
    """What a file holds."""

    tables: dict[str, Table] = field(default_factory=dict)
    #: The migrations of each app that its club had.
    version: dict[str, list[str]] = field(default_factory=dict)
    #: What a file with tables, as older backups are, says of them.
    other: list[str] = field(default_factory=list)


def read(cluster: Cluster, source: Path) -> Found:
    """
    Look through a file without loading anything.

    Raises
    ------
    KettleError
        If it is no backup, or holds anything but rows of the public schema; what it
        is, is named.
    """
    found = Found()
    for line in _output(cluster, source, "--list").splitlines():
        match = _ENTRY.fullmatch(line)
        if match is None:
            continue
        entry = match.group(1)
        if entry.startswith(_HARMLESS):
            continue
        if not entry.startswith(_ROWS):
            found.other.append(_without_owner(entry))
        elif entry.split()[2] != "public":
            raise KettleError(f"It holds {entry}, which is not ours.")
    applied: dict[str, set[str]] = {}
    for table, columns, rows in _tables(cluster, source):
        if table in found.tables:
            raise KettleError(f"It holds the rows of {table} twice.")
        found.tables[table] = kept = Table(columns)
        for row in rows:
            kept.rows += 1
            if table == "django_migrations":
                cells = dict(zip(columns, row.rstrip("\n").split("\t"), strict=True))
                applied.setdefault(cells["app"], set()).add(cells["name"])
    if not applied:
        raise KettleError("It does not say of which version it is.")
    found.version = {app: sorted(names) for app, names in applied.items()}
    return found


def load(cluster: Cluster, source: Path, found: Found, *, into: str) -> None:
    """
    Make the tables of the file's version, and copy its rows into them.

    Raises
    ------
    KettleError
        If the file holds a table, column or anything else that is not ours at that
        version, lacks one, or a row that can't be; the database is then of no use.
    """
    owner = migrating.environment_of(
        cluster, database=into, settings="local", role="kettle_owner"
    )
    migrating.manage(owner, "bring_forward", "--to", json.dumps(found.version))
    with cluster.connect_admin(into) as connection:
        ours = _ours(connection)
        compare(found, ours)
        if found.other:
            _refuse_strangers(cluster, found, into)
        names = sql.SQL(", ").join(map(sql.Identifier, sorted(ours)))
        connection.execute(sql.SQL("TRUNCATE {}").format(names))
        for table in ours:
            _triggers(connection, table, "DISABLE")
    with _loader(cluster, into) as password:
        try:
            with cluster.connect(LOADER, password, into) as connection:
                for table, columns, rows in _tables(cluster, source):
                    _copy(connection, table, columns, rows)
        except psycopg.Error as error:
            words = str(error).splitlines()[0]
            raise KettleError(f"Its rows don't fit together: {words}") from error
    with cluster.connect_admin(into) as connection:
        for table, its in found.tables.items():
            if table not in LEFT_OUT and count_of(connection, table) != its.rows:
                raise KettleError(f"Not all rows of {table} came in.")
        for table in ours:
            _triggers(connection, table, "ENABLE")
            _next_numbers(connection, table)


def count_of(connection: psycopg.Connection, table: str) -> int:
    """How many rows a table has."""
    counting = sql.SQL("SELECT count(*) FROM {}").format(sql.Identifier(table))
    row = connection.execute(counting).fetchone()
    return int(row[0]) if row else 0


def compare(found: Found, ours: dict[str, set[str]]) -> None:
    """
    Hold what a file has against our own tables and their columns.

    Raises
    ------
    KettleError
        Naming the first table or column that is not ours, or is missing.
    """
    for table, its in found.tables.items():
        if table not in ours:
            raise KettleError(f"It holds a table {table}, which is not ours.")
        if set(its.columns) != ours[table]:
            odd = ", ".join(sorted(set(its.columns) ^ ours[table]))
            raise KettleError(f"Its table {table} has other columns: {odd}.")
    missing = sorted(set(ours) - set(found.tables))
    if missing:
        raise KettleError(f"It lacks {', '.join(missing[:5])}.")


def _refuse_strangers(cluster: Cluster, found: Found, database: str) -> None:
    """Refuse what an older backup says of its tables, where ours say otherwise."""
    done = subprocess.run(
        [
            *(cluster.program("pg_dump"), "-Fc", "--schema-only", "--no-owner"),
            *("-h", "127.0.0.1", "-p", str(cluster.port), "-U", "kettle_admin"),
            database,
        ],
        env={"PGPASSWORD": cluster.secrets["admin"]},
        capture_output=True,
        check=False,
    )
    listed = subprocess.run(
        [cluster.program("pg_restore"), "--list"],
        input=done.stdout,
        capture_output=True,
        check=False,
    )
    entries = map(_ENTRY.fullmatch, listed.stdout.decode().splitlines())
    own = {_without_owner(entry.group(1)) for entry in entries if entry}
    odd = [entry for entry in found.other if entry not in own]
    if odd:
        raise KettleError(f"It holds {odd[0]}, which is not ours.")


def _without_owner(entry: str) -> str:
    return entry.rsplit(" ", 1)[0]


def _ours(connection: psycopg.Connection) -> dict[str, set[str]]:
    """Our tables and their columns."""
    rows = connection.execute(
        "SELECT c.relname, array_agg(a.attname::text) FROM pg_class c "
        "JOIN pg_namespace n ON n.oid = c.relnamespace AND n.nspname = 'public' "
        "JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 "
        "AND NOT a.attisdropped AND a.attgenerated = '' "
        "WHERE c.relkind = 'r' GROUP BY c.relname"
    ).fetchall()
    return {name: set(columns) for name, columns in rows}


def _triggers(connection: psycopg.Connection, table: str, verb: str) -> None:
    connection.execute(
        sql.SQL("ALTER TABLE {} {} TRIGGER USER").format(
            sql.Identifier(table), sql.SQL(verb)
        )
    )


def _next_numbers(connection: psycopg.Connection, table: str) -> None:
    """Let numbers that a table counts up go on from its last."""
    columns = connection.execute(
        "SELECT column_name FROM information_schema.columns "
        "WHERE table_schema = 'public' AND table_name = %s",
        [table],
    ).fetchall()
    for (column,) in columns:
        named = "public." + table
        row = connection.execute(
            "SELECT pg_get_serial_sequence(%s, %s)", [named, column]
        ).fetchone()
        if row and row[0]:
            connection.execute(
                sql.SQL(
                    "SELECT setval(%s, COALESCE(max({0}), 1), max({0}) IS NOT NULL) "
                    "FROM {1}"
                ).format(sql.Identifier(column), sql.Identifier(table)),
                [row[0]],
            )


@contextmanager
def _loader(cluster: Cluster, database: str) -> Iterator[str]:
    """A role that may add rows to the tables of one database and nothing else."""
    password, role = secrets.token_urlsafe(32), sql.Identifier(LOADER)
    _drop_loader(cluster, database)
    try:
        with cluster.connect_admin(database) as connection:
            made = sql.SQL("CREATE ROLE {} LOGIN NOINHERIT PASSWORD {}")
            connection.execute(made.format(role, sql.Literal(password)))
            for right in (
                "GRANT USAGE ON SCHEMA public TO {}",
                "GRANT INSERT ON ALL TABLES IN SCHEMA public TO {}",
            ):
                connection.execute(sql.SQL(right).format(role))
        yield password
    finally:
        _drop_loader(cluster, database)


def _drop_loader(cluster: Cluster, database: str) -> None:
    with cluster.connect_admin(database) as connection:
        known = connection.execute(
            "SELECT 1 FROM pg_roles WHERE rolname = %s", [LOADER]
        ).fetchone()
        if known:
            for undo in ("DROP OWNED BY {}", "DROP ROLE {}"):
                connection.execute(sql.SQL(undo).format(sql.Identifier(LOADER)))


def _copy(
    connection: psycopg.Connection, table: str, columns: list[str], rows: Iterator[str]
) -> None:
    if table in LEFT_OUT:
        for _ in rows:
            pass
        return
    statement = sql.SQL("COPY {} ({}) FROM STDIN").format(
        sql.Identifier(table), sql.SQL(", ").join(map(sql.Identifier, columns))
    )
    with connection.cursor() as cursor, cursor.copy(statement) as copying:
        for row in rows:
            copying.write(row)


def _tables(
    cluster: Cluster, source: Path
) -> Iterator[tuple[str, list[str], Iterator[str]]]:
    """Each table of a file with its columns and rows; every row is to be taken."""
    with (
        source.open("rb") as file,
        subprocess.Popen(
            as_server_user(cluster.program("pg_restore"), "--data-only", "-f", "-"),
            stdin=file,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            cwd="/",
        ) as child,
    ):
        assert child.stdout is not None  # noqa: S101 - it is piped
        lines = io.TextIOWrapper(child.stdout, encoding="utf-8", newline="\n")
        try:
            for line in lines:
                words = line.rstrip("\n")
                begins = _COPY.fullmatch(words)
                if begins is not None:
                    columns = [
                        name.strip().strip('"') for name in begins.group(2).split(",")
                    ]
                    yield begins.group(1), columns, _rows(lines)
                elif words and _AROUND.fullmatch(words) is None:
                    raise KettleError(f"It holds more than rows: {words[:60]}")
        except UnicodeDecodeError as error:
            raise KettleError("It is not in UTF-8.") from error
    if child.returncode:
        raise KettleError("It can't be read to its end.")


def _rows(lines: IO[str]) -> Iterator[str]:
    for line in lines:
        if line == "\\.\n":
            return
        yield line


def _output(cluster: Cluster, source: Path, *arguments: str) -> str:
    with source.open("rb") as file:
        done = subprocess.run(
            as_server_user(cluster.program("pg_restore"), *arguments),
            stdin=file,
            capture_output=True,
            check=False,
            cwd="/",
        )
    if done.returncode:
        raise KettleError(f"pg_restore said: {done.stderr.decode().strip()[:300]}")
    return done.stdout.decode("utf-8", errors="replace")
