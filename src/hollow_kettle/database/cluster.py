"""
A PostgreSQL cluster of the application's own.

It lives in the installation's data folder, listens on loopback only, on a port
of its own, asks for passwords (scram), and runs under an unprivileged user even
when the command is run by root. No other cluster on the machine is read or
changed. It ends with the last command that uses it, however that ends.
"""

from __future__ import annotations

import fcntl
import os
import pwd
import random
import shlex
import shutil
import subprocess
from contextlib import contextmanager
from pathlib import Path
from typing import IO, TYPE_CHECKING

import psycopg
from psycopg import sql

from .home import KettleError, exclusive, installation_secrets
from .ports import DATABASE_PORTS, free_port

if TYPE_CHECKING:
    from collections.abc import Iterator

SERVER_USER = "postgres"


class Cluster:
    """Start, use and stop the cluster in one data folder."""

    def __init__(
        self, folder: Path, *, name: str = "cluster", is_throwaway: bool = False
    ) -> None:
        self.folder = folder
        self.is_throwaway = is_throwaway
        self.home = folder / name
        self.data = self.home / "data"
        self.secrets = installation_secrets(folder)
        self.bin = server_programs()
        self._use: IO[str] | None = None

    @property
    def port(self) -> int:
        """The TCP port the cluster listens on."""
        return int((self.home / "port").read_text())

    def environment(self, *, role: str, database: str) -> dict[str, str]:
        """Return what the settings need to connect with a role to a database."""
        role = "kettle_app" if role == "worker" else role
        return {
            "KETTLE_DB_NAME": database,
            "KETTLE_DB_USER": role,
            "KETTLE_DB_PASSWORD": self.secrets[role],
            "KETTLE_DB_HOST": "127.0.0.1",
            "KETTLE_DB_PORT": str(self.port),
        }

    def start(self) -> None:
        """Start the cluster if it does not run, and note that it is in use."""
        self.home.mkdir(parents=True, exist_ok=True)
        self._use = (self.home / "in-use.lock").open("a")
        with exclusive(self.home, "start"):
            fcntl.flock(self._use, fcntl.LOCK_SH)
            if not (self.data / "PG_VERSION").exists():
                self._create()
            if not self._is_running():
                # Not the first that is free: that may be one whose server just died.
                first = self._last_port() or random.choice(DATABASE_PORTS)  # noqa: S311
                self._launch(free_port(DATABASE_PORTS, first))
            self._ensure_roles()

    @property
    def is_alive(self) -> bool:
        """Whether its main process is there; quick enough to ask all the time."""
        try:
            os.kill(int((self.data / "postmaster.pid").read_text().split()[0]), 0)
        except PermissionError:
            return True
        except (OSError, ValueError, IndexError):
            return False
        return True

    def start_again(self) -> None:
        """
        Start it after its main process died; who connects to it finds it where it was.

        Raises
        ------
        KettleError
            While it can't be: its port is taken, say, or its disk is full.
        """
        with exclusive(self.home, "start"):
            if not self._is_running():
                self._launch(self.port)

    def stop(self) -> None:
        """Stop the cluster, unless another kettle command still uses it."""
        if self._use is None:
            return
        with exclusive(self.home, "start"):
            try:
                fcntl.flock(self._use, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                # Others use it; or its guard is just stopping it, which is waited for.
                fcntl.flock(self._use, fcntl.LOCK_SH)
            else:
                self._control("stop", "-m", "fast", "-w", check=False)
            finally:
                self._use.close()
                self._use = None

    def discard(self) -> None:
        """Stop a throwaway cluster and remove it, unless somebody still uses it."""
        self._use = self._use or (self.home / "in-use.lock").open("a")
        self.stop()
        if not self._is_running():
            shutil.rmtree(self.home, ignore_errors=True)

    def ensure_database(self, name: str) -> bool:
        """Create a database owned by `kettle_owner`; False when it was there."""
        with self.connect_admin() as connection:
            is_new = not _exists(connection, "pg_database", "datname", name)
            if is_new:
                connection.execute(
                    sql.SQL("CREATE DATABASE {} OWNER kettle_owner").format(
                        sql.Identifier(name)
                    )
                )
        return is_new

    def connect(self, role: str, password: str, database: str) -> psycopg.Connection:
        """Connect as a role, in one transaction that the caller ends."""
        return psycopg.connect(
            host="127.0.0.1",
            port=self.port,
            user=role,
            password=password,
            dbname=database,
        )

    def connect_admin(self, database: str = "postgres") -> psycopg.Connection:
        """Connect as the cluster's administrator, in autocommit."""
        return psycopg.connect(
            host="127.0.0.1",
            port=self.port,
            user="kettle_admin",
            password=self.secrets["admin"],
            dbname=database,
            autocommit=True,
        )

    def program(self, name: str) -> str:
        """Return the path of a PostgreSQL program of this cluster's version."""
        return str(self.bin / name)

    def _create(self) -> None:
        password_file = self.home / "first-password"
        password_file.write_text(self.secrets["admin"])
        if os.geteuid() == 0:
            server = pwd.getpwnam(SERVER_USER)
            for path in (self.home, password_file):
                os.chown(path, server.pw_uid, server.pw_gid)
        password_file.chmod(0o600)
        shutil.rmtree(self.data, ignore_errors=True)  # left by an interrupted start
        try:
            self._run(
                self.program("initdb"),
                *("-D", str(self.data), "-U", "kettle_admin", "-A", "scram-sha-256"),
                *(f"--pwfile={password_file}", "-E", "UTF8", "--locale=C.UTF-8"),
            )
        except KettleError:
            shutil.rmtree(self.data, ignore_errors=True)
            raise
        finally:
            password_file.unlink(missing_ok=True)

    def _launch(self, port: int) -> None:
        (self.home / "port").write_text(str(port))
        said = {
            "listen_addresses": "127.0.0.1",
            # A socket's path may not be long; a data folder's may.
            "unix_socket_directories": "",
            "timezone": "UTC",
            "log_timezone": "UTC",
            "max_connections": "60",
            # What was asked and its values hold names and entries: neither is logged.
            "log_error_verbosity": "terse",
            "log_min_error_statement": "panic",
        }
        if self.is_throwaway:  # what the tests write need not survive a crash
            said |= {"fsync": "off", "synchronous_commit": "off"}
        else:
            said |= self._log_of_a_week()
        words = [f"-c{name}={value}" for name, value in said.items()]
        options = shlex.join(["-p", str(port), *words])  # a shell reads them
        log = str(self.home / "server.log")
        self._control("start", "-w", "-t", "60", "-l", log, "-o", options)
        self._guard()

    def _log_of_a_week(self) -> dict[str, str]:
        """A file for each day in the folder `log`, which next week's takes over."""
        is_json = os.environ.get("KETTLE_LOG") == "json"
        return {
            "logging_collector": "on",
            "log_directory": str(self.home / "log"),
            "log_destination": "jsonlog" if is_json else "stderr",
            "log_filename": "server-%a.log",
            "log_truncate_on_rotation": "on",
            "log_rotation_age": "1d",
            "log_rotation_size": "0",
        }

    def _guard(self) -> None:
        """Have it stopped when nobody holds it in use any more, killed or not."""
        halt = as_server_user(
            *(self.program("pg_ctl"), "-D", str(self.data)),
            *("stop", "-m", "fast", "-w"),
        )
        only, use = str(self.home / "guard.lock"), str(self.home / "in-use.lock")
        subprocess.run(
            ["setsid", "--fork", "flock", "-w", "15", only, "flock", use, *halt],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            cwd="/",
            check=False,
        )

    def _last_port(self) -> int | None:
        try:
            return self.port
        except (OSError, ValueError):
            return None

    def _is_running(self) -> bool:
        return self._control("status", check=False) == 0

    def _control(self, *arguments: str, check: bool = True) -> int:
        return self._run(
            self.program("pg_ctl"), "-D", str(self.data), *arguments, check=check
        )

    def _run(self, *command: str, check: bool = True) -> int:
        command = as_server_user(*command)
        log = self.home / "control.log"
        # A server started here must not hold this command's output open.
        with log.open("a") as out:
            done = subprocess.run(command, stdout=out, stderr=out, cwd="/", check=False)
        if check and done.returncode:
            lines = log.read_text(errors="replace").splitlines()[-8:]
            raise KettleError(
                "PostgreSQL did not do as asked:\n  "
                + "\n  ".join(lines)
                + f"\nThe server's own log is {self.home / 'server.log'}, and what it "
                f"said once it ran is in {self.home / 'log'}"
            )
        return done.returncode

    def _ensure_roles(self) -> None:
        with self.connect_admin() as connection:
            for role, rights in (("kettle_app", ""), ("kettle_owner", "CREATEDB")):
                verb = (
                    "ALTER"
                    if _exists(connection, "pg_roles", "rolname", role)
                    else "CREATE"
                )
                connection.execute(
                    sql.SQL(f"{verb} ROLE {{}} LOGIN {rights} PASSWORD {{}}").format(
                        sql.Identifier(role), sql.Literal(self.secrets[role])
                    )
                )
            connection.execute("GRANT kettle_app TO kettle_owner")


def as_server_user(*command: str) -> tuple[str, ...]:
    """A command that root runs as the unprivileged user of the server."""
    if os.geteuid() == 0:
        return ("runuser", "-u", SERVER_USER, "--", *command)
    return command


def _exists(
    connection: psycopg.Connection, table: str, column: str, value: str
) -> bool:
    query = sql.SQL("SELECT 1 FROM {} WHERE {} = %s").format(
        sql.Identifier(table), sql.Identifier(column)
    )
    return connection.execute(query, [value]).fetchone() is not None


def server_programs() -> Path:
    """Where the newest PostgreSQL of this machine has its programs; KettleError."""
    found = sorted(
        Path("/usr/lib/postgresql").glob("*/bin/initdb"),
        key=lambda path: int(path.parts[-3]),
    )
    if not found:
        raise KettleError(
            "PostgreSQL's server is missing; install it: apt-get install postgresql"
        )
    return found[-1].parent


@contextmanager
def throwaway(
    folder: Path, purpose: str, *, is_durable: bool = False
) -> Iterator[Cluster]:
    """
    Start a cluster for one run, and remove it afterwards.

    What a killed run left behind is removed first; no run meets another's data.
    `is_durable`: what it acknowledged survives a crash, as in a club's own.
    """
    cluster = Cluster(
        folder, name=f"{purpose}-cluster-{os.getpid()}", is_throwaway=not is_durable
    )
    with exclusive(folder, "throwaway"):
        for home in folder.glob("*-cluster-*/in-use.lock"):
            Cluster(folder, name=home.parent.name).discard()
        cluster.home.mkdir()
        try:
            cluster.start()
        except BaseException:
            cluster.discard()
            raise
    try:
        yield cluster
    finally:
        cluster.discard()
