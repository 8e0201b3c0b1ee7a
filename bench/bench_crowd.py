"""A big club at its worst: phones that log, pages that poll, a search at work."""

import json
import random
import re
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from contextlib import contextmanager
from http.client import HTTPConnection, HTTPException
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

from bench_posts import (  # noqa: E402 - as above
    TOKEN,
    _environment,
    _post,
    _server,
    _wait,
    club_under_way,
    entry,
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


class Caller(threading.Thread):
    """A phone that logs, or a page that asks whether anything is new."""

    def __init__(self, number: int, port: int, event: str, session: str, *, logs: bool):
        super().__init__(daemon=True)
        self.dice, self.logs, self.port, self.event = (
            random.Random(number), logs, port, event,
        )  # fmt: skip
        self.headers = {
            "Cookie": f"sessionid={session}; csrftoken={TOKEN}",
            "X-CSRFToken": TOKEN, "Content-Type": "application/json",
        }  # fmt: skip
        self.ends = threading.Event()
        self.seen = "0"
        self.taken_s: list[float] = []
        self.acknowledged: list[str] = []
        self.answers: Counter = Counter()

    def run(self) -> None:
        """Ask until the end; the first time at any moment of the pause."""
        low, high = LOGS_S if self.logs else POLLS_S
        pause_s = self.dice.uniform(0, high)
        while not self.ends.wait(pause_s):
            if self.logs:
                self._log()
            else:
                self._poll()
            pause_s = self.dice.uniform(low, high)

    def _log(self) -> None:
        one = entry(self.dice)
        method, path, body = _post(f"/field/{self.event}/entries/", [one])
        text = self._ask(method, path, body)
        if text and json.loads(text)["answers"][0]["kept"]:
            self.acknowledged.append(one["key"])

    def _poll(self) -> None:
        text = self._ask("GET", f"/field/{self.event}/live/?v={self.seen}", None)
        if found := re.search(rb'\?v=([^"&]+)"', text):
            self.seen = found.group(1).decode()

    def _ask(self, method: str, path: str, body: str | None) -> bytes:
        link, start = (
            HTTPConnection("127.0.0.1", self.port, timeout=60),
            time.monotonic(),
        )
        try:
            link.request(method, path, body, self.headers)
            answer = link.getresponse()
            text = answer.read()
        except (OSError, HTTPException) as error:
            self.answers[type(error).__name__] += 1
            return b""
        finally:
            link.close()
        self.answers[answer.status] += 1
        self.taken_s.append(time.monotonic() - start)
        return text if answer.status == 200 else b""


@contextmanager
def running_club():
    """The invented club on a server and a worker as they are run."""
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
            yield event, port, session, (server, worker)
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


def load(callers: list[Caller], seconds: float) -> None:
    """Let callers ask for so long."""
    for caller in callers:
        caller.start()
    time.sleep(seconds)
    for caller in callers:
        caller.ends.set()
    for caller in callers:
        caller.join()


def times(callers: list[Caller]) -> dict[str, float]:
    """Median, 95 % and 99 % of what answers took. [s]"""
    taken = sorted(one for caller in callers for one in caller.taken_s) or [0.0]
    return {
        part: taken[min(int(float(part) / 100 * len(taken)), len(taken) - 1)]
        for part in ("50", "95", "99")
    }


def wrong_of(callers: list[Caller]) -> tuple[Counter, int]:
    """Answers that were none, and acknowledged entries that are not there once."""
    answers: Counter = sum((caller.answers for caller in callers), Counter())
    kept = Counter(map(str, FieldEntry.objects.values_list("uid", flat=True)))
    sent = [key for caller in callers for key in caller.acknowledged]
    odd = {str(code): many for code, many in answers.items() if code not in (200, 204)}
    return Counter(odd), sum(kept[key] != 1 for key in sent)


def main() -> None:
    """A few phones alone, then the crowd while the worker looks for a better plan."""
    options = dict(word.split("=", 1) for word in sys.argv[1:])
    seconds = float(options.get("seconds", 90))
    with running_club() as (event, port, session, _):

        def made(first: int, many: int, *, logs: bool) -> list[Caller]:
            """Each has a number of its own: its keys are made from that."""
            numbers = range(first, first + many)
            return [Caller(n, port, str(event.pk), session, logs=logs) for n in numbers]

        load(made(0, FEW, logs=True), seconds / 4)  # each worker is warm then
        alone = made(100, FEW, logs=True), made(200, FEW, logs=False)
        load([*alone[0], *alone[1]], seconds / 2)
        rotation = Rotation.objects.filter(
            event=event, state=Rotation.State.PUBLISHED
        ).latest("pk")
        search = look_for_better(rotation, by=Actor.objects.get(name="Marin"))
        crowd = made(1000, PHONES, logs=True), made(2000, PAGES, logs=False)
        load([*crowd[0], *crowd[1]], seconds)
        search.refresh_from_db()
        odd, wrong = wrong_of([*crowd[0], *crowd[1]])
        count = sum(len(one.acknowledged) for one in crowd[0])
    quick, slow, polls = times([*alone[0]]), times(crowd[0]), times(crowd[1])
    print(
        json.dumps(
            {
                "what": f"{PHONES} phones that log each {LOGS_S[0]} to {LOGS_S[1]} s, "
                f"{PAGES} pages that poll, a search {search.state}: {count} entries "
                f"acknowledged, {wrong} of them lost or doubled; answers that were "
                f"none: {dict(odd) or 'none'}",
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
