"""Entries from phones while the server, its workers or PostgreSQL are killed (-9)."""

import contextlib
import ctypes
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from http.client import HTTPConnection, HTTPException
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ["DJANGO_SETTINGS_MODULE"] = "hollow_kettle.settings.test"

import django  # noqa: E402 - after the settings are named

from hollow_kettle.database.cluster import throwaway  # noqa: E402
from hollow_kettle.database.home import data_folder  # noqa: E402

TRIALS = 200
PR_SET_CHILD_SUBREAPER = 36
PHONES, EACH = 4, 6
#: Which of the processes goes, so often of ten times.
KILLS = {"a worker": 4, "the server": 3, "PostgreSQL": 2, "everything": 1}


def main() -> None:
    """Kill one thing in each trial while phones send; then count what is there."""
    _be_parent_of_all()
    trials = int(os.environ.get("KETTLE_TRIALS", TRIALS))
    # A crash must be survived here: this cluster writes to the disk as it should.
    with throwaway(data_folder(), "kills", is_durable=True) as cluster:
        os.environ |= cluster.environment(role="kettle_owner", database="postgres")
        django.setup()
        from django.conf import settings
        from django.test.utils import setup_databases

        settings.DATABASES["default"] |= {
            "PORT": str(cluster.port),
            "USER": "kettle_owner",
            "PASSWORD": cluster.secrets["kettle_owner"],
        }
        settings.DATABASES["default"]["TEST"]["NAME"] = "kettle_bench"
        setup_databases(verbosity=0, interactive=False)
        found = _trials(cluster, trials)
    print(json.dumps(found))


def _trials(cluster, trials: int) -> dict:
    from bench_posts import TOKEN
    from django.db import connections
    from django.test import Client

    from hollow_kettle.database.ports import free_port
    from hollow_kettle.demo import club
    from hollow_kettle.log import services as log
    from hollow_kettle.log.models import Conflict, FieldEntry, Placement, Waiting
    from hollow_kettle.people.models import Actor
    from hollow_kettle.plan.models import Event

    club.load()
    club.set_clock()
    event = Event.objects.get(state=Event.State.RUNNING)
    client = Client(SERVER_NAME="127.0.0.1")
    client.force_login(Actor.objects.get(name="Wren").user)
    headers = {
        "Cookie": f"sessionid={client.cookies['sessionid'].value}; csrftoken={TOKEN}",
        "X-CSRFToken": TOKEN,
        "Content-Type": "application/json",
    }
    port, static = free_port(range(8890, 8990)), tempfile.TemporaryDirectory()
    dice, kinds = random.Random(1), Counter()
    acknowledged: list[str] = []
    server = None
    before = Conflict.objects.count()
    for _ in range(trials):
        if server is None or server.poll() is not None:
            server = _server(port, static.name)
        _wait(port)
        phones = [
            Phone(port, f"/field/{event.pk}/entries/", headers, dice.random())
            for _ in range(PHONES)
        ]
        for phone in phones:
            phone.start()
        time.sleep(dice.uniform(0.02, 0.6))
        kind = dice.choices([*KILLS], [*KILLS.values()])[0]
        kinds[kind] += 1
        if kind == "a worker":
            _kill(random.Random(dice.random()).choice(_children(server.pid)))
        elif kind == "the server":
            _kill(*_children(server.pid), server.pid)
            server.wait()
            server = _server(port, static.name)
        else:
            main_process = int((cluster.data / "postmaster.pid").read_text().split()[0])
            ours = [*_children(server.pid), server.pid] if kind == "everything" else []
            _kill(*ours, main_process, *_children(main_process))
            connections.close_all()
            _start_again(cluster)
            if ours:
                server.wait()
                server = _server(port, static.name)
        for phone in phones:
            phone.join()
            acknowledged += phone.done
    _kill(*_children(server.pid), server.pid)
    server.wait()
    connections.close_all()
    while Waiting.objects.filter(event_key=event.pk).exists():
        assert client.get(f"/field/{event.pk}/live/").status_code == 200
    kept = Counter(map(str, FieldEntry.objects.values_list("uid", flat=True)))
    doubted = FieldEntry.objects.filter(standing="conflict").count()
    lost = sum(kept[key] == 0 for key in acknowledged)
    doubled = sum(kept[key] > 1 for key in acknowledged)

    def placed() -> list:
        rows = Placement.objects.order_by("battery", "started_at")
        return list(rows.values_list("battery", "place", "started_at", "ended_at"))

    as_followed = placed()
    log.rebuild()
    is_same = as_followed == placed()
    connections.close_all()
    killed = ", ".join(f"{kind} {count} times" for kind, count in kinds.items())
    return {
        "what": f"{trials} kills (-9), {killed}; fsync on",
        "sides": [
            {"name": "acknowledged", "value": len(acknowledged), "unit": ""},
            {"name": "lost", "value": lost, "unit": ""},
            {"name": "doubled", "value": doubled, "unit": ""},
            {"name": "taken for another entry", "value": doubted, "unit": ""},
            {
                "name": "contradictions, after less before",
                "value": Conflict.objects.count() - before,
                "unit": "",
            },
            {
                "name": "places as worked out anew (1: the same)",
                "value": int(is_same),
                "unit": "",
            },
        ],
        "ratio": (len(acknowledged) - lost - doubled) / max(1, len(acknowledged)),
        "target": "every acknowledged entry is there once: 1",
    }


class Phone(threading.Thread):
    """Sends entries one by one, each again and again until it is acknowledged."""

    def __init__(self, port: int, path: str, headers: dict, seed: float) -> None:
        super().__init__()
        self.port, self.path, self.headers = port, path, headers
        self.dice = random.Random(seed)
        self.done: list[str] = []

    def run(self) -> None:
        """Send so many; what is not answered is sent again."""
        from bench_posts import _post, entry

        for _ in range(EACH):
            one = entry(self.dice)
            if self.dice.random() < 0.3:
                tag = one["fields"]["tag"]
                one |= {"what": "move", "fields": {"tag": tag, "way": "on"}}
            until = time.monotonic() + 90
            while time.monotonic() < until:
                _, _, body = _post(self.path, [one])
                if self._sent(body):
                    self.done.append(one["key"])
                    break
                time.sleep(0.1)
            else:
                raise SystemExit("An entry was not taken in 90 s.")

    def _sent(self, body: str) -> bool:
        link = HTTPConnection("127.0.0.1", self.port, timeout=20)
        with contextlib.suppress(OSError, HTTPException, ValueError):
            link.request("POST", self.path, body, self.headers)
            answer = link.getresponse()
            text = answer.read()
            if answer.status == 200:
                return bool(json.loads(text)["answers"][0]["kept"])
        return False


def _start_again(cluster) -> None:
    """Start it once all of it is gone: its memory is held until then."""
    from hollow_kettle.database.home import KettleError

    for _ in range(30):
        time.sleep(0.5)
        with contextlib.suppress(KettleError):
            cluster.start_again()
            return
    raise SystemExit((cluster.home / "server.log").read_text()[-2000:])


def _children(parent: int) -> list[int]:
    found = Path(f"/proc/{parent}/task/{parent}/children").read_text().split()
    return [int(one) for one in found]


def _kill(*processes: int) -> None:
    for one in processes:
        with contextlib.suppress(ProcessLookupError):
            os.kill(one, signal.SIGKILL)
    for one in processes:
        with contextlib.suppress(ChildProcessError):
            os.waitpid(one, 0)


def _be_parent_of_all() -> None:
    """What is killed here is taken off the list of processes here, as init would."""
    ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)


def _server(port: int, static: str) -> subprocess.Popen:
    from bench_posts import _server as serve

    return serve(port, static, is_quiet=True)  # what it says of kills is no news


def _wait(port: int) -> None:
    from bench_posts import _wait as wait

    wait(port)


if __name__ == "__main__":
    main()
