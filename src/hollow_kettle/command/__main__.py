"""Dispatch `./kettle JOB`."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from contextlib import contextmanager
from typing import TYPE_CHECKING

from . import benches, certificate, copies, quality, serving, standin
from .cluster import Cluster, throwaway
from .home import KettleError, data_folder

if TYPE_CHECKING:
    from collections.abc import Iterator

HELP = """\
Hollow Kettle: power for a radio club's stations.

  ./kettle demo                  start with the demo club, on this machine only
  ./kettle test [--full] [ARGS]  all checks; ARGS go to pytest
  ./kettle run [--lan ADDRESS]   start with your own club's data
  ./kettle certificate NAME...   a certificate for that, so that phones trust it
  ./kettle serve                 a club's server behind https (KETTLE_HOSTS=name,...)
  ./kettle coordinator NAME      make the first account; asks for a password
  ./kettle unlock USER           let a locked-out person try again
  ./kettle backup FILE           write the club's database to a file
  ./kettle restore FILE --replace   put it back (keeps a copy of what was there)
  ./kettle reset-demo            make the demo club anew; never touches your club
  ./kettle bench [NAME] [--json] measure; prints both sides of each ratio
  ./kettle stand-in URL TOKEN [KIND]  a simulated meter that sends to a running one
  ./kettle shell                 a Python shell on the club's data

Data lives in $KETTLE_DATA (by default your state folder; /var/lib/hollow-kettle
for root). Add --demo to coordinator, unlock or shell to mean the demo club.
"""

CLUB, DEMO = "kettle_club", "kettle_demo"


@contextmanager
def _cluster() -> Iterator[Cluster]:
    cluster = Cluster(data_folder())
    try:
        cluster.start()
        yield cluster
    finally:
        cluster.stop()


def demo(arguments: list[str]) -> None:
    """Start the demo club and print its address and sign-ins."""
    _none(arguments)
    with _cluster() as cluster:
        web = serving.prepare(cluster, database=DEMO, settings="local", demo=True)
        serving.manage(web, "load_demo")
        port = serving.free_port(8400)
        greeting = (
            f"\nHollow Kettle's demo club is at  http://127.0.0.1:{port}/\n"
            "Sign in with one of these names; the password is the same for all:\n"
            "  marin (coordinator)   sorrel (station lead at Drumlin)   wren (logger)\n"
            "  heron (runner)        lark (observer)\n"
            "  password: kettle-on-the-boil\n"
            "Ctrl-C stops everything.\n"
        )
        serving.serve_until_stopped(
            web, address="127.0.0.1", port=port, greeting=greeting
        )


def run(arguments: list[str]) -> None:
    """Start with the club's own data."""
    address = "127.0.0.1"
    if arguments[:1] == ["--lan"] and len(arguments) == 2:
        address = arguments[1]
        os.environ["KETTLE_LAN"] = address
    else:
        _none(arguments)
    with _cluster() as cluster:
        own = certificate.Certificate.of(certificate.folder_of(cluster.folder))
        if own is not None and address in own.names:
            os.environ["KETTLE_TLS"] = " ".join(own.names)
        else:
            own = None
        web = serving.prepare(cluster, database=CLUB, settings="local")
        port = serving.free_port(8300)
        scheme = "http" if own is None else "https"
        greeting = (
            f"\nYour club is at  {scheme}://{address}:{port}/\n"
            "No account yet?  ./kettle coordinator NAME\nCtrl-C stops everything.\n"
        )
        serving.serve_until_stopped(
            web, address=address, port=port, greeting=greeting, certificate=own
        )


def serve(arguments: list[str]) -> None:
    """Serve the club behind an https proxy; refuses unsafe settings."""
    _none(arguments)
    if not os.environ.get("KETTLE_HOSTS"):
        raise KettleError(
            "serve needs the names people will type: "
            "KETTLE_HOSTS=kettle.example.org ./kettle serve"
        )
    address = os.environ.get("KETTLE_ADDRESS", "127.0.0.1")
    with _cluster() as cluster:
        web = serving.prepare(cluster, database=CLUB, settings="serve")
        serving.manage(web, "check", "--deploy", "--fail-level", "WARNING")
        serving.manage(web, "refuse_demo_sign_ins")
        port = int(os.environ.get("KETTLE_PORT", "8300"))
        greeting = f"Serving on {address}:{port}; put your https proxy in front."
        serving.serve_until_stopped(web, address=address, port=port, greeting=greeting)


def reset_demo(arguments: list[str]) -> None:
    """Make the demo club anew."""
    _none(arguments)
    with _cluster() as cluster:
        with cluster.connect_admin() as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {DEMO} WITH (FORCE)")
        web = serving.prepare(cluster, database=DEMO, settings="local", demo=True)
        serving.manage(web, "load_demo")
        print("The demo club is as new.")


def _managed(command: str) -> Callable[[list[str]], None]:
    def job(arguments: list[str]) -> None:
        is_demo = "--demo" in arguments
        rest = [word for word in arguments if word != "--demo"]
        with _cluster() as cluster:
            web = serving.prepare(
                cluster,
                database=DEMO if is_demo else CLUB,
                settings="local",
                demo=is_demo,
            )
            serving.manage(web, command, *rest)

    return job


def backup(arguments: list[str]) -> None:
    """Write the club's database to a file."""
    if len(arguments) != 1:
        raise KettleError("Say where to: ./kettle backup FILE")
    with _cluster() as cluster:
        serving.prepare(cluster, database=CLUB, settings="local")
        copies.backup(cluster, CLUB, arguments[0])


def restore(arguments: list[str]) -> None:
    """Replace the club's database by a backup."""
    if len(arguments) != 2 or "--replace" not in arguments:
        raise KettleError(
            "Restoring replaces the club's data. Say so: "
            "./kettle restore FILE --replace"
        )
    (file,) = (word for word in arguments if word != "--replace")
    with _cluster() as cluster:
        serving.prepare(cluster, database=CLUB, settings="local")
        copies.restore(cluster, CLUB, file)


def test(arguments: list[str]) -> None:
    """Run every check."""
    with throwaway(data_folder(), "test") as cluster:
        environment = cluster.environment(role="kettle_owner", database="postgres")
        environment["KETTLE_TEST_CLUSTER"] = cluster.home.name
        code = quality.run_all(arguments, {**os.environ, **environment})
    sys.exit(code)


def help_(arguments: list[str]) -> None:
    """Print what there is."""
    print(HELP, end="")
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
    "reset-demo": reset_demo,
    "coordinator": _managed("make_coordinator"),
    "unlock": _managed("unlock"),
    "shell": _managed("shell"),
    "bench": benches.run,
    "stand-in": standin.run,
    "certificate": certificate.run,
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
    try:
        JOBS[job](arguments)
    except KettleError as error:
        sys.exit(f"kettle: {error}")
    except KeyboardInterrupt:
        sys.exit(130)


if __name__ == "__main__":
    main()
