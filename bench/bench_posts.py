"""Entries from many at once, against plain pages, on a server as it is run."""

import json
import os
import random
import subprocess
import sys
import tempfile
import threading
import time
from http.client import HTTPConnection
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]
os.environ["DJANGO_SETTINGS_MODULE"] = "hollow_kettle.settings.test"

import django  # noqa: E402 - after the settings are named

django.setup()

from callers import entry, headers, post  # noqa: E402
from django.conf import settings  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import setup_databases, teardown_databases  # noqa: E402

from hollow_kettle.database.ports import free_port  # noqa: E402
from hollow_kettle.demo import club  # noqa: E402
from hollow_kettle.log.models import FieldEntry, Waiting  # noqa: E402
from hollow_kettle.people.models import Actor  # noqa: E402
from hollow_kettle.plan.models import Event  # noqa: E402

SECONDS = 10
CLIENTS, PHONES, BATCH, PAUSE_S = 30, 50, 20, 5


class Crowd:
    """Clients that ask without pause for some seconds, each over one connection."""

    def __init__(self, port: int, session: str) -> None:
        self.port = port
        self.headers = headers(session)
        self.taken_s: list[float] = []
        self.troubles: list[str] = []

    def run(self, count: int, one, pause_s: float = 0) -> tuple[float, float, float]:
        """Return answers a second, and the median and 95 % of their time."""
        self.pause_s = pause_s
        self.taken_s, self.troubles = [], []
        until = time.monotonic() + SECONDS
        threads = [
            threading.Thread(target=self._one, args=(count, number, until, one))
            for number in range(count)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert not self.troubles, self.troubles[:3]
        found = sorted(self.taken_s)
        return (
            len(found) / SECONDS,
            found[len(found) // 2],
            found[int(0.95 * len(found))],
        )

    def _one(self, count: int, number: int, until: float, one) -> None:
        link = HTTPConnection("127.0.0.1", self.port, timeout=60)
        dice = random.Random(f"{count} {number}")
        while time.monotonic() < until:
            time.sleep(dice.uniform(0, 2 * self.pause_s))
            method, path, body = one(dice)
            if self.pause_s:  # a phone comes anew each time
                link.close()
            start = time.monotonic()
            link.request(method, path, body, self.headers)
            answer = link.getresponse()
            text = answer.read()
            self.taken_s.append(time.monotonic() - start)
            if answer.status != 200:
                self.troubles.append(f"{answer.status} {text[:200]!r}")
        link.close()


def club_under_way() -> tuple[Event, Client, str]:
    """The invented club's event, a client of its logger, and that one's session."""
    club.load()
    club.set_clock()
    client = Client(SERVER_NAME="127.0.0.1")
    client.force_login(Actor.objects.get(name="Wren").user)
    event = Event.objects.get(state=Event.State.RUNNING)
    return event, client, client.cookies["sessionid"].value


def main() -> None:
    """Plain pages, single entries, then batches with repeats and in any order."""
    settings.DATABASES["default"]["TEST"]["NAME"] = "kettle_bench"
    made = setup_databases(verbosity=0, interactive=False)
    port = free_port(range(8790, 8890))
    try:
        event, client, session = club_under_way()
        crowd = Crowd(port, session)
        static = tempfile.TemporaryDirectory()
        server = _server(port, static.name)
        try:
            _wait(port)
            page = crowd.run(CLIENTS, lambda dice: ("GET", "/shelf/equipment/", None))
            before = FieldEntry.objects.count()
            path = f"/field/{event.pk}/entries/"
            single = crowd.run(CLIENTS, lambda dice: post(path, [entry(dice)]))
            lost = len(crowd.taken_s) - (FieldEntry.objects.count() - before)
            behind_s = _catch_up(client, event)
            sent: dict[str, dict] = {}
            batch = crowd.run(
                PHONES, lambda dice: post(path, _batch(dice, sent)), PAUSE_S
            )
            kept = set(map(str, FieldEntry.objects.values_list("uid", flat=True)))
            missing = [key for key in sent if key not in kept]
            doubled = FieldEntry.objects.count() - len(kept)
        finally:
            server.terminate()
            server.wait()
            static.cleanup()
    finally:
        teardown_databases(made, verbosity=0)
    _print(page, single, batch, lost + len(missing), doubled, behind_s)


def _batch(dice: random.Random, sent: dict[str, dict]) -> list[dict]:
    """Twenty entries, one in twenty sent before, in any order."""
    entries = [entry(dice) for _ in range(BATCH)]
    old = list(sent.values())[-200:]
    if old:
        entries[0] = dice.choice(old)
    sent.update((one["key"], one) for one in entries)
    dice.shuffle(entries)
    return entries


def _catch_up(client: Client, event: Event) -> float:
    """How long until all that came is counted. [s]"""
    start = time.monotonic()
    while Waiting.objects.filter(event_key=event.pk).exists():
        assert client.get(f"/field/{event.pk}/live/").status_code == 200
    return time.monotonic() - start


def _server(port: int, static: str, *, is_quiet: bool = False) -> subprocess.Popen:
    collect(static)
    return serve(port, static, is_quiet=is_quiet)


def collect(static: str) -> None:
    """Put scripts, styles and fonts where a server takes them from."""
    subprocess.run(
        [sys.executable, "-m", "django", "collectstatic", "--noinput", "-v", "0"],
        env=_environment(static),
        cwd=ROOT,
        check=True,
    )


def serve(port: int, static: str, *, is_quiet: bool = False) -> subprocess.Popen:
    """Start the web server as it is run; what it serves is there."""
    return subprocess.Popen(
        [
            *(sys.executable, "-m", "gunicorn", "hollow_kettle.wsgi"),
            *("--bind", f"127.0.0.1:{port}"),
            *("--config", "python:hollow_kettle.settings.gunicorn"),
        ],
        env=_environment(static),
        cwd=ROOT,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL if is_quiet else None,
    )


def _environment(static: str) -> dict[str, str]:
    return {
        **os.environ,
        "DJANGO_SETTINGS_MODULE": "hollow_kettle.settings.local",
        "KETTLE_SECRET_KEY": settings.SECRET_KEY,
        "KETTLE_DB_NAME": "kettle_bench",
        "KETTLE_STATIC": static,
        "PYTHONPATH": "src",
    }


def _wait(port: int) -> None:
    for _ in range(600):  # it is loaded before it listens
        try:
            HTTPConnection("127.0.0.1", port, timeout=1).connect()
        except OSError:
            time.sleep(0.1)
        else:
            return
    raise SystemExit("The server did not start.")


def _print(page, single, batch, lost: int, doubled: int, behind_s: float) -> None:
    def side(name, found, many=1):
        rate, median, p95 = found
        return [
            {"name": f"{name}, a second", "value": rate * many, "unit": ""},
            {"name": f"{name}, median", "value": median * 1000, "unit": "ms"},
            {"name": f"{name}, 95 %", "value": p95 * 1000, "unit": "ms"},
        ]

    print(
        json.dumps(
            {
                "what": f"{CLIENTS} clients without pause, {PHONES} phones with "
                f"{BATCH} entries each {PAUSE_S} s: lost {lost}, doubled {doubled}, "
                f"counted {behind_s:.1f} s after the last single entry",
                "sides": [
                    *side("single entries", single),
                    *side("plain signed-in pages", page),
                    *side("entries in batches", batch, BATCH),
                ],
                "ratio": single[0] / page[0],
                "target": "150 single entries a second; none lost, none doubled",
            }
        )
    )


if __name__ == "__main__":
    main()
