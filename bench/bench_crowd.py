"""A big club at its worst: phones that log, pages that poll, a search at work."""

import json
import subprocess
import sys
import tempfile
from collections import Counter
from contextlib import contextmanager
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

from bench_posts import (  # noqa: E402 - as above
    _environment,
    _server,
    _wait,
    club_under_way,
)
from callers import (  # noqa: E402 - as above
    Caller,
    headers,
    load,
    odd_answers,
    times,
)
from django.conf import settings  # noqa: E402
from django.db import connections  # noqa: E402
from django.test.utils import setup_databases, teardown_databases  # noqa: E402

from hollow_kettle.database.ports import free_port  # noqa: E402
from hollow_kettle.log.models import FieldEntry  # noqa: E402
from hollow_kettle.people.models import Actor  # noqa: E402
from hollow_kettle.plan.models import Rotation  # noqa: E402
from hollow_kettle.plan.rotation.services import look_for_better  # noqa: E402

#: A phone logs so often, a page asks so often, as the pages here do. [s]
LOGS_S, POLLS_S = (10, 30), (14, 16)
PHONES, PAGES, FEW = 100, 20, 5


@contextmanager
def running_club():
    """The invented club's event, what its callers are told, and what serves it."""
    settings.DATABASES["default"]["TEST"]["NAME"] = "kettle_bench"
    made = setup_databases(verbosity=0, interactive=False)
    port = free_port(range(8990, 9090))
    try:
        event, _, session = club_under_way()
        static = tempfile.TemporaryDirectory()
        server = _server(port, static.name, is_quiet=True)
        worker = _worker(static.name)
        try:
            _wait(port)
            yield event, ((port,), str(event.pk), headers(session)), (server, worker)
        finally:
            for part in (worker, server):
                part.terminate()
            for part in (worker, server):
                part.wait()
            static.cleanup()
    finally:
        connections.close_all()
        teardown_databases(made, verbosity=0)


def _worker(static: str) -> subprocess.Popen:
    return subprocess.Popen(
        [sys.executable, "-m", "django", "procrastinate", "worker", "--concurrency=2"],
        env=_environment(static), cwd=ROOT,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip


def phones(club: tuple, numbers: range) -> list[Caller]:
    """Phones that log; each has a number of its own: its keys are made from that."""
    return [Caller(number, *club, logs=True, pause_s=LOGS_S) for number in numbers]


def pages(club: tuple, numbers: range) -> list[Caller]:
    """Boards that poll."""
    return [Caller(number, *club, logs=False, pause_s=POLLS_S) for number in numbers]


def wrong_of(callers: list[Caller]) -> int:
    """Acknowledged entries that are not there once."""
    kept = Counter(map(str, FieldEntry.objects.values_list("uid", flat=True)))
    return sum(kept[key] != 1 for caller in callers for key in caller.acknowledged)


def main() -> None:
    """A few phones alone, then the crowd while the worker looks for a better plan."""
    options = dict(word.split("=", 1) for word in sys.argv[1:])
    seconds = float(options.get("seconds", 90))
    with running_club() as (event, club, _):
        load(phones(club, range(FEW)), seconds / 4)  # each process is warm then
        few = phones(club, range(100, 100 + FEW))
        load([*few, *pages(club, range(200, 200 + FEW))], seconds / 2)
        rotation = Rotation.objects.filter(
            event=event, state=Rotation.State.PUBLISHED
        ).latest("pk")
        search = look_for_better(rotation, by=Actor.objects.get(name="Marin"))
        crowd = phones(club, range(1000, 1000 + PHONES))
        boards = pages(club, range(2000, 2000 + PAGES))
        load([*crowd, *boards], seconds)
        search.refresh_from_db()
        wrong = wrong_of(crowd)
        count = sum(len(one.acknowledged) for one in crowd)
    quick, slow, polls = times(few), times(crowd), times(boards)
    print(
        json.dumps(
            {
                "what": f"{PHONES} phones that log each {LOGS_S[0]} to {LOGS_S[1]} s, "
                f"{PAGES} pages that poll, a search {search.state}: {count} entries "
                f"acknowledged, {wrong} of them lost or doubled; answers that were "
                f"none: {odd_answers([*crowd, *boards]) or 'none'}",
                "sides": [
                    {"name": f"{name}, {part} %", "value": found[part] * 1000,
                     "unit": "ms"}
                    for name, found in (
                        ("an entry in the crowd", slow), ("a poll in the crowd", polls),
                        (f"an entry beside {FEW} phones", quick),
                    )
                    for part in found
                ],
                "ratio": slow["95"] / quick["95"],
                "target": "none lost, none doubled, each answered",
            }
        )
    )  # fmt: skip


if __name__ == "__main__":
    main()
