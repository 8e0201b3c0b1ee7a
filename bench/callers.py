"""Phones that log and pages that poll, as threads; nothing here needs Django."""

import json
import random
import re
import threading
import time
import uuid
from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime
from http.client import HTTPConnection, HTTPException

TOKEN = "k" * 32
TAGS = [f"K{number:02}" for number in range(1, 15)]


def entry(dice: random.Random) -> dict:
    """A reading of some battery, as a phone sends it."""
    return {
        "key": str(uuid.UUID(int=dice.getrandbits(128), version=4)),
        "what": "reading",
        "typed_at": datetime.now(UTC).isoformat(),  # noqa: TID251 - a phone's own
        "fields": {"tag": dice.choice(TAGS), "gauge_pct": str(dice.randint(20, 95))},
        "late": True,
    }


def post(path: str, entries: list[dict]) -> tuple[str, str, str]:
    """Method, path and body of a phone's sending."""
    sent_at = datetime.now(UTC).isoformat()  # noqa: TID251 - a phone's own
    body = {"v": 1, "device": "bench", "sent_at": sent_at, "entries": entries}
    return "POST", path, json.dumps(body)


def headers(session: str, **more: str) -> dict[str, str]:
    """What a signed-in browser says."""
    return {
        "Cookie": f"sessionid={session}; csrftoken={TOKEN}",
        "X-CSRFToken": TOKEN,
        "Content-Type": "application/json",
        **more,
    }


class Caller(threading.Thread):
    """
    A phone that logs, or a page that asks whether anything is new, until it ends.

    It asks the first of `ports`, the next where that does not answer. `pause_s`: it
    asks so often, at the least and at the most. `tries`: so often an entry is sent
    until it is acknowledged. An answer is waited for `patience_s`.
    """

    def __init__(
        self,
        number: float,
        ports: Sequence[int],
        event: str,
        said: dict[str, str],
        *,
        logs: bool,
        pause_s: tuple[float, float],
        tries: int = 1,
        patience_s: float = 60,
    ) -> None:
        super().__init__(daemon=True)
        self.dice, self.ports, self.headers = random.Random(number), ports, said
        self.event, self.logs, self.pause_s, self.tries = event, logs, pause_s, tries
        self.patience_s = patience_s
        self.ends = threading.Event()
        self.seen = "0"
        self.taken_s: list[float] = []
        self.acknowledged: list[str] = []
        self.answers: Counter = Counter()

    def run(self) -> None:
        """Ask until the end; the first time at any moment of the pause."""
        pause_s = self.dice.uniform(0, self.pause_s[1])
        while not self.ends.wait(pause_s):
            if self.logs:
                self._log()
            else:
                self._poll()
            pause_s = self.dice.uniform(*self.pause_s)

    def _log(self) -> None:
        one = entry(self.dice)
        for _ in range(self.tries):
            if self.is_kept(one):
                return
            time.sleep(0.2)
        self.answers["given up"] += 1

    def is_kept(self, one: dict) -> bool:
        """Send an entry; whether it was acknowledged."""
        text = self._ask(*post(f"/field/{self.event}/entries/", [one]))
        if not text or not json.loads(text)["answers"][0]["kept"]:
            return False
        self.acknowledged.append(one["key"])
        return True

    def _poll(self) -> None:
        text = self._ask("GET", f"/field/{self.event}/live/?v={self.seen}", None)
        if found := re.search(rb'\?v=([^"&]+)"', text):
            self.seen = found.group(1).decode()

    def _ask(self, method: str, path: str, body: str | None) -> bytes:
        for port in self.ports:
            link = HTTPConnection("127.0.0.1", port, timeout=self.patience_s)
            start = time.monotonic()
            try:
                link.request(method, path, body, self.headers)
                answer = link.getresponse()
                text = answer.read()
            except (OSError, HTTPException) as error:
                self.answers[type(error).__name__] += 1
                continue
            finally:
                link.close()
            self.answers[str(answer.status)] += 1
            if answer.status in (200, 204):
                self.taken_s.append(time.monotonic() - start)
                return text
        return b""


def load(callers: Sequence[Caller], seconds: float) -> None:
    """Let callers ask for so long."""
    for caller in callers:
        caller.start()
    time.sleep(seconds)
    end(callers)


def end(callers: Sequence[Caller]) -> None:
    """Let callers end, and wait for that."""
    for caller in callers:
        caller.ends.set()
    for caller in callers:
        caller.join()


def times(callers: Sequence[Caller]) -> dict[str, float]:
    """Median, 95 % and 99 % of what answers took. [s]"""
    taken = sorted(one for caller in callers for one in caller.taken_s) or [0.0]
    return {
        part: taken[min(int(float(part) / 100 * len(taken)), len(taken) - 1)]
        for part in ("50", "95", "99")
    }


def odd_answers(callers: Sequence[Caller]) -> dict[str, int]:
    """Answers that were none, and how often."""
    answers: Counter = sum((caller.answers for caller in callers), Counter())
    return {code: many for code, many in answers.items() if code not in ("200", "204")}
