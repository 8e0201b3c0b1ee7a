"""
Throw bad input at every form, importer and door for machines, and count what breaks.

    PYTHONPATH=src:. .venv/bin/python scripts/hostile.py [COUNT] [SEED]

Each input goes to the invented club, and is taken back afterwards. An answer of 500 or
an exception is an error; a refused input that left a row behind is a partial save. It
prints all of either kind, and fails where there is one.
"""

import json
import random
import sys
import time
import uuid
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from scripts.throwaway import throwaway_database

NASTY = (
    "", " ", "0", "-1", "-0", "1e309", "NaN", "inf", "−5", "1,234", "1,2,3", "0x10",
    "99999999999999999999999", "0.0000000000001", "½", "１２", "12 V", "30 ft", "null",
    "true", "None", "[]", "{}", "on", "'; DROP TABLE log_fieldentry; --", "\\", "%s",
    "%00", "\0", "a\0b", "<script>alert(1)</script>", "{{ 7*7 }}", "../../etc/passwd",
    "\u202e\u2066evil", "\ufeff", "👻" * 20, "é" * 300, "x" * 20_000, "\n\r\t", ",;|",
    "2026-02-30 12:00", "2026-06-27 25:61", "0000-00-00 00:00", "9999-12-31 23:59",
    "1969-12-31", "2026-06-28 02:30", "24:00", "-1 day", "K01", "K01,K02", "=1+2",
    "drumlin off the air", "00000000-0000-0000-0000-000000000000", "1", "2", "1000000",
)  # fmt: skip
FILES = (
    b"", b"\0", b"tag\nK01", b"tag,chemistry,series,nameplate_ah\n=1+2,lifepo4,4,20\n",
    b"tag;chemistry\n" + b"x;" * 5000, b"\xff\xfe\x00t", b"PK\x03\x04broken", b"{",
    b'{"format": "x"}', b"[" * 50_000, "tag,nameplate_ah\nK\u202e1,1e309\n".encode(),
    b"\x89PNG\r\n\x1a\nbroken", b"GIF89a", b"%PDF-1.4", b"minutes,amps,volts\n1,2\n",
    b"<ADIF_VER:5>3.1.0<EOH><CALL:99999>Q", b"tag\r" * 3000, b'"unclosed,"\n' * 50,
)  # fmt: skip
#: Rows that a refusal leaves on purpose: tries counted, uploads kept for a preview.
ON_PURPOSE = (
    "axes_accessattempt", "axes_accessfailurelog", "django_session", "people_passtry",
    "exchange_upload",
)  # fmt: skip
IS_FILE = {"file", "photo", "document", "picture"}


class Trial:
    """The club, everything that takes input, and what came of it."""

    def __init__(self, seed: int) -> None:
        self.dice = random.Random(seed)
        self.answers: Counter = Counter()
        self.errors: Counter = Counter()
        self.partial: Counter = Counter()
        self.last = ""
        self._set_up()

    def _set_up(self) -> None:
        from django.core.files.uploadedfile import SimpleUploadedFile
        from django.db import connection
        from django.test import Client
        from tests.walker import walk

        from hollow_kettle.api.services import make_token
        from hollow_kettle.demo import club
        from hollow_kettle.instruments.services import make_device
        from hollow_kettle.people.models import Actor
        from hollow_kettle.plan.models import Event

        club.load()
        club.set_clock()
        marin = Actor.objects.get(user__username="marin")
        self.event = Event.objects.get(state=Event.State.RUNNING)
        self.client = Client(raise_request_exception=True)
        self.client.force_login(marin.user)
        self.upload = SimpleUploadedFile
        seen: dict[tuple, object] = {}
        for page in walk(self.client, each=2):
            for form in page.forms:
                names = set(form.fields) - {"csrfmiddlewaretoken"}
                is_sent = (
                    form.method in ("get", "post") and "sign-out" not in form.action
                )
                if names and is_sent:
                    seen.setdefault(form.key, form)
        self.forms = list(seen.values())
        _, token = make_token(name="trial", role="coordinator", by=marin)
        station = self.event.stations.first()
        _, meter = make_device(
            self.event, by=marin, name="trial", kind="shunt", subject=station.pk
        )
        self.tokens = {"api": token, "meter": meter}
        self.tables = [
            name for name in connection.introspection.table_names()
            if name not in ON_PURPOSE
        ]  # fmt: skip
        self.rows = self._rows()  # everything is taken back, so they stay so
        print(f"{len(self.forms)} forms, {len(self.tables)} tables", flush=True)

    def once(self) -> None:
        """One input, and back."""
        from django.db import transaction
        from django.db.transaction import TransactionManagementError

        doors = (self._form, self._phone, self._meter, self._script)
        ask = self.dice.choices(doors, (70, 10, 8, 12))[0]
        dice, again = self.dice.getstate(), False
        with transaction.atomic():
            try:
                self._judge(*ask())
            except TransactionManagementError:
                again = True  # the database refused it, and with it our way back
            except Exception as error:
                name = f"{self.last}: {type(error).__name__}: {error}"
                self._found(self.errors, name[:400])
            transaction.set_rollback(True)
        if again:  # as it is for people, where nothing is taken back
            self.dice.setstate(dice)
            self._judge(*ask())

    def _judge(self, what: str, answer) -> None:
        self.answers[answer.status_code] += 1
        if answer.status_code >= 500:
            self._found(self.errors, f"{what}: {answer.status_code}")
        # Each row of a sheet stands alone: the good ones are kept at once.
        elif answer.status_code < 400 or "/sheet/" in what:
            pass
        elif (rows := self._rows()) != self.rows:
            found = zip(self.tables, self.rows, rows, strict=True)
            changed = [table for table, old, new in found if old != new]
            self._found(self.partial, f"{what}: {changed}")

    def _found(self, where: Counter, what: str) -> None:
        where[what] += 1
        print(f"  {what}", flush=True)

    def _rows(self) -> tuple:
        from django.db import connection

        counting = " UNION ALL ".join(
            f"SELECT {at}, count(*) FROM {name}"  # noqa: S608 - our own tables
            for at, name in enumerate(self.tables)
        )
        with connection.cursor() as cursor:
            cursor.execute(counting)
            return tuple(many for _, many in sorted(cursor.fetchall()))

    def _nasty(self) -> str:
        word = self.dice.choice(NASTY)
        return word + self.dice.choice(NASTY) if self.dice.random() < 0.1 else word

    def _form(self):
        form = self.dice.choice(self.forms)
        names = [one for one in form.fields if one != "csrfmiddlewaretoken"]
        spoilt = self.dice.sample(names, self.dice.randint(1, min(3, len(names))))
        sent: dict = dict(form.fields)
        for name in spoilt:
            sent[name] = self._nasty()
            if self.dice.random() < 0.1:
                sent.pop(name)
        for name in names:
            if name in IS_FILE:
                content = self.dice.choice(FILES)
                kind = self.dice.choice(("a.csv", "a.xlsx", "a.json", "a.png", "a"))
                sent[name] = self.upload(kind, content)
        said = {name: str(sent.get(name))[:40] for name in spoilt}
        what = self.last = f"{form.method} {form.action} {said}"
        if form.method == "get":
            return what, self.client.get(form.action, sent)
        return what, self.client.post(form.action, sent)

    def _value(self, depth: int = 0) -> object:
        some = self.dice.random()
        if some < 0.6 or depth > 2:
            return self._nasty()
        if some < 0.75:
            return self.dice.choice(
                (None, True, -1, 0, 1e308, 2**70, 12.9, float("inf"), [], {})
            )
        if some < 0.85:
            return [self._value(depth + 1) for _ in range(3)]
        return {self._nasty()[:40]: self._value(depth + 1) for _ in range(2)}

    def _json(self, path: str, body: object, token: str = ""):
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        text = json.dumps(body)
        if self.dice.random() < 0.05:
            text = text[: self.dice.randint(0, len(text))]
        self.last = f"POST {path} {text[:200]}"
        answer = self.client.generic(
            "POST", path, text, content_type="application/json", headers=headers
        )
        return self.last, answer

    def _phone(self):
        entry = {
            "key": str(uuid.UUID(int=self.dice.getrandbits(128))),
            "what": self.dice.choice(("reading", "swap", "move", "fault", "note", "?")),
            "typed_at": "2026-06-28T02:50:00Z",
            "fields": {"tag": "K05", "volts": "12.9", "station": "Drumlin"},
            "late": True,
        }
        for _ in range(self.dice.randint(1, 3)):
            entry[self.dice.choice([*entry, "author", "x"])] = self._value()
        if isinstance(entry["fields"], dict):
            some = ("tag", "volts", "amps", "amp_hours", "note", "taken", "station")
            entry["fields"][self.dice.choice(some)] = self._value()
        body = {"v": 1, "device": self._value(), "sent_at": self._value(),
                "entries": [entry]}  # fmt: skip
        if self.dice.random() < 0.1:
            body = self._value()
        return self._json(f"/field/{self.event.pk}/entries/", body)

    def _meter(self):
        sample = {"seq": self.dice.randint(1, 10**6), "at": "2026-06-28T02:50:00Z",
                  "volts": 12.9, "amps": 2.1}  # fmt: skip
        for _ in range(self.dice.randint(1, 3)):
            sample[self.dice.choice([*sample, "celsius", "amp_hours"])] = self._value()
        body = {"samples": [sample], "sent_at": self._value()}
        if self.dice.random() < 0.1:
            body = self._value()
        return self._json("/field/meters/samples/", body, self.tokens["meter"])

    def _script(self):
        if self.dice.random() < 0.5:
            path = f"/api/1/events/{self.event.pk}/log"
            body = {"key": str(uuid.UUID(int=self.dice.getrandbits(128))),
                    "line": self._nasty() + self.dice.choice((" ", " K05 ", " V "))
                    + self._nasty()}  # fmt: skip
        else:
            path = "/api/1/shelf/K05/tests"
            body = {"what": self.dice.choice(("counter", "sag", "timed", "x")),
                    "amps": 10, "start_v": 13.2, "end_v": 12.9}  # fmt: skip
            body[self.dice.choice(("amps", "rows", "meter", "note", "hours"))] = (
                self._value()
            )
        if self.dice.random() < 0.3:
            body[self.dice.choice(list(body))] = self._value()
        return self._json(path, body, self.tokens["api"])


def main() -> int:
    """Throw, count, print; 1 where anything broke."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    with throwaway_database(f"hostile{seed}"):
        from hollow_kettle.api import services as scripts
        from hollow_kettle.instruments import services as meters

        scripts.MOST_A_MINUTE = meters.MOST_A_MINUTE = 10**9
        trial, began = Trial(seed), time.monotonic()
        for number in range(count):
            trial.once()
            if number % 1000 == 999:
                rate = (number + 1) / (time.monotonic() - began)
                print(f"{number + 1}, {rate:.0f} a second, "
                      f"{sum(trial.errors.values())} errors", flush=True)  # fmt: skip
    print(dict(trial.answers))
    for name, found in (("errors", trial.errors), ("partial saves", trial.partial)):
        print(f"{sum(found.values())} {name}")
        for what, many in found.most_common(40):
            print(f"  {many} × {what}")
    return 1 if trial.errors or trial.partial else 0


if __name__ == "__main__":
    sys.exit(main())
