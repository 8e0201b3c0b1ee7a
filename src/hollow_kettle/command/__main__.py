"""Dispatch `./kettle JOB`."""

from __future__ import annotations

import logging.config
import os
import sys
from collections.abc import Callable
from contextlib import contextmanager
from typing import TYPE_CHECKING

import hollow_kettle
from hollow_kettle import logs
from hollow_kettle.database import copies, ports, sealing
from hollow_kettle.database.cluster import Cluster, throwaway
from hollow_kettle.database.elsewhere import APP, Elsewhere
from hollow_kettle.database.home import COMMAND, IS_SOURCE, KettleError, data_folder
from hollow_kettle.database.migrating import manage, prepare

from . import benches, certificate, quality, serving, standin
from .holder import Taken, only_one

if TYPE_CHECKING:
    from collections.abc import Iterator

HELP = """\
Hollow Kettle: power for a radio club's stations.

  ./kettle demo                  start with the demo club, on this machine only
  ./kettle test [--full] [ARGS]  all checks; ARGS go to pytest
  ./kettle run [--lan ADDRESS]   start with your own club's data
  ./kettle certificate NAME...   a certificate for that, so that phones trust it
  ./kettle serve [web|worker]    a club's server behind https (KETTLE_HOSTS=name,...)
  ./kettle coordinator NAME      make the first account; asks for a password
  ./kettle unlock USER [--drop-code]  let a locked-out person try again; without code
  ./kettle backup FILE           write the club's database to a file
  ./kettle restore FILE --replace [--key=FILE]  put it back; keeps what was there
  ./kettle backup-key FILE       a key that nightly backups can be encrypted for
  ./kettle reset-demo            make the demo club anew; never touches your club
  ./kettle bench [NAME] [--json] measure; prints both sides of each ratio
  ./kettle stand-in URL TOKEN [KIND]  a simulated meter that sends to a running one
  ./kettle shell                 a Python shell on the club's data
  ./kettle version               set up what is missing, and say the version

Data lives in $KETTLE_DATA (by default your state folder; /var/lib/hollow-kettle
for root). Add --demo to coordinator, unlock or shell to mean the demo club.
"""

CLUB, DEMO = "kettle_club", "kettle_demo"


@contextmanager
def _cluster() -> Iterator[Cluster]:
    """Have our own database run."""
    cluster = Cluster(data_folder())
    try:
        cluster.start()
        yield cluster
    finally:
        cluster.stop()


@contextmanager
def _server() -> Iterator[Cluster | Elsewhere]:
    """Have the club's database at hand: the one that was named, or our own."""
    if not os.environ.get(APP):
        with _cluster() as cluster:
            yield cluster
    else:
        elsewhere = Elsewhere(data_folder())
        elsewhere.start()
        yield elsewhere


def demo(arguments: list[str]) -> None:
    """Start the demo club and print its address and sign-ins."""
    _none(arguments)
    with only_one(data_folder(), DEMO, "demo") as holder, _cluster() as cluster:
        web = prepare(cluster, database=DEMO, settings="local", demo=True)
        manage(web, "load_demo")
        door = serving.Door("127.0.0.1", ports.listen("127.0.0.1", ports.DEMO_PORTS))
        holder.say(door.url)
        greeting = (
            f"\nHollow Kettle's demo club is at  {door.url}\n"
            "Sign in with one of these names; the password is the same for all:\n"
            "  marin (coordinator)   sorrel (station lead at Drumlin)   wren (logger)\n"
            "  heron (runner)        lark (observer)\n"
            "  password: kettle-on-the-boil\n"
            "Ctrl-C stops everything.\n"
        )
        serving.serve_until_stopped(web, cluster, door, greeting=greeting)


def run(arguments: list[str]) -> None:
    """Start with the club's own data."""
    address = "127.0.0.1"
    if arguments[:1] == ["--lan"] and len(arguments) == 2:
        address = arguments[1]
        os.environ["KETTLE_LAN"] = address
    else:
        _none(arguments)
    with only_one(data_folder(), CLUB, "run") as holder, _server() as server:
        own = certificate.Certificate.of(certificate.folder_of(server.folder))
        if own is not None and address in own.names:
            os.environ["KETTLE_TLS"] = " ".join(own.names)
        else:
            own = None
        web = prepare(server, database=CLUB, settings="local")
        door = serving.Door(address, ports.listen(address, ports.CLUB_PORTS), own)
        holder.say(door.url)
        greeting = (
            f"\nYour club is at  {door.url}\n"
            f"No account yet?  {COMMAND} coordinator NAME\nCtrl-C stops everything.\n"
        )
        serving.serve_until_stopped(web, server, door, greeting=greeting)


def serve(arguments: list[str]) -> None:
    """Serve the club behind an https proxy, or one part; refuses unsafe settings."""
    part = arguments[0] if arguments[:1] in (["web"], ["worker"]) else ""
    _none(arguments[bool(part) :])
    if not os.environ.get("KETTLE_HOSTS"):
        raise KettleError(
            "serve needs the names people will type: "
            "KETTLE_HOSTS=kettle.example.org ./kettle serve"
        )
    address, port = os.environ.get("KETTLE_ADDRESS", "127.0.0.1"), _port()
    os.environ.setdefault("KETTLE_LOG", "json")
    logging.config.dictConfig(logs.config())
    name = f"{CLUB}.{part}" if part else CLUB
    with only_one(data_folder(), name, "serve") as holder, _server() as server:
        web = prepare(server, database=CLUB, settings="serve")
        manage(web, "check", "--deploy", "--fail-level", "WARNING")
        manage(web, "refuse_demo_sign_ins")
        door = None
        greeting = "The worker is at work; pages are served elsewhere."
        if part != "worker":
            door = serving.Door(address, ports.listen(address, range(port, port + 1)))
            holder.say(door.url)
            greeting = f"Serving on {address}:{port}; put your https proxy in front."
        serving.serve_until_stopped(
            web, server, door, greeting=greeting, has_worker=part != "web"
        )


def _port() -> int:
    """Return the port that was asked for; raises KettleError."""
    asked = os.environ.get("KETTLE_PORT", "8300")
    if not asked.isdecimal() or not 1 <= int(asked) <= 65535:
        raise KettleError(f"KETTLE_PORT is a number from 1 to 65535, not “{asked}”.")
    return int(asked)


def reset_demo(arguments: list[str]) -> None:
    """Make the demo club anew."""
    _none(arguments)
    with _cluster() as cluster:
        with cluster.connect_admin() as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {DEMO} WITH (FORCE)")
        web = prepare(cluster, database=DEMO, settings="local", demo=True)
        manage(web, "load_demo")
        print("The demo club is as new.")


def _managed(command: str) -> Callable[[list[str]], None]:
    def job(arguments: list[str]) -> None:
        is_demo = "--demo" in arguments
        rest = [word for word in arguments if word != "--demo"]
        with _cluster() if is_demo else _server() as server:
            web = prepare(
                server,
                database=DEMO if is_demo else CLUB,
                settings="local",
                demo=is_demo,
            )
            manage(web, command, *rest)

    return job


def backup(arguments: list[str]) -> None:
    """Write the club's database to a file."""
    if len(arguments) != 1:
        raise KettleError("Say where to: ./kettle backup FILE")
    with _server() as server:
        prepare(server, database=CLUB, settings="local")
        copies.backup(server, CLUB, arguments[0])


def restore(arguments: list[str]) -> None:
    """Replace the club's database by a backup."""
    keys = [word for word in arguments if word.startswith("--key=")]
    rest = [word for word in arguments if word not in keys]
    if len(rest) != 2 or "--replace" not in rest or len(keys) > 1:
        raise KettleError(
            "Restoring replaces the club's data. Say so: "
            "./kettle restore FILE --replace [--key=FILE]"
        )
    (file,) = (word for word in rest if word != "--replace")
    key = keys[0].removeprefix("--key=") if keys else ""
    if os.environ.get(APP):
        raise KettleError(
            f"Restoring replaces a whole database, and {APP} names one that is not "
            "ours to replace. Restore without it, into the database kept here."
        )
    with _cluster() as cluster:
        prepare(cluster, database=CLUB, settings="local")
        copies.restore(cluster, CLUB, file, key)


def backup_key(arguments: list[str]) -> None:
    """Make a key that backups can be encrypted for."""
    if len(arguments) != 1:
        raise KettleError("Say where to: ./kettle backup-key FILE")
    public = sealing.make_key(arguments[0])
    print(
        f"The key is in {arguments[0]}. Keep it away from this machine, and twice:\n"
        "without it no backup that is encrypted for it can be read.\n"
        f"Backups are encrypted from the next start with  KETTLE_BACKUP_FOR={public}"
    )


def test(arguments: list[str]) -> None:
    """Run every check."""
    if not IS_SOURCE:
        raise KettleError("The tests come with the source, and are run there.")
    with throwaway(data_folder(), "test") as cluster:
        environment = cluster.environment(role="kettle_owner", database="postgres")
        environment["KETTLE_TEST_CLUSTER"] = cluster.home.name
        code = quality.run_all(arguments, {**os.environ, **environment})
    sys.exit(code)


def version(arguments: list[str]) -> None:
    """Print the version; what ./kettle needs is then in place."""
    _none(arguments)
    print(f"Hollow Kettle {hollow_kettle.VERSION}")


def help_(arguments: list[str]) -> None:
    """Print what there is."""
    print(HELP.replace("./kettle", COMMAND), end="")
    sys.exit(0 if arguments == [] else 2)


def _none(arguments: list[str]) -> None:
    if arguments:
        raise KettleError(f"Not understood: {' '.join(arguments)}. See ./kettle help")


JOBS: dict[str, Callable[[list[str]], None]] = {
    "demo": demo,
    "test": test,
    "run": run,
    "serve": serve,
    "backup": backup,
    "restore": restore,
    "backup-key": backup_key,
    "reset-demo": reset_demo,
    "coordinator": _managed("make_coordinator"),
    "unlock": _managed("unlock"),
    "shell": _managed("shell"),
    "bench": benches.run,
    "stand-in": standin.run,
    "certificate": certificate.run,
    "version": version,
    "help": help_,
}


def main() -> None:
    """Run one job; a known trouble is one plain sentence, not a traceback."""
    job, *arguments = sys.argv[1:] or ["help"]
    if job in {"-h", "--help"}:
        job = "help"
    if job not in JOBS:
        print(f"kettle: there is no '{job}'.\n", file=sys.stderr)
        help_([job])
    logging.config.dictConfig(logs.config())
    try:
        JOBS[job](arguments)
    except KettleError as error:
        sys.exit(f"kettle: {error}".replace("./kettle", COMMAND))
    except Taken as first:
        print(f"kettle: {first}".replace("./kettle", COMMAND))
    except KeyboardInterrupt:
        sys.exit(130)


if __name__ == "__main__":
    main()
