"""Entries from phones while the server, its workers or PostgreSQL are killed (-9)."""

import contextlib
import ctypes
import json
import os
import random
import signal
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ["DJANGO_SETTINGS_MODULE"] = "hollow_kettle.settings.test"

import django  # noqa: E402 - after the settings are named
from callers import Caller, entry, headers  # noqa: E402

from hollow_kettle.database.cluster import throwaway  # noqa: E402
from hollow_kettle.database.home import data_folder  # noqa: E402

TRIALS = 200
#: After so many the club begins anew, so that its log stays as long as an event's.
ROUND = 50
#: Rounds in which working places out anew from the log found others.
OTHER_PLACES = "rounds whose places, worked out anew, differ"
PR_SET_CHILD_SUBREAPER = 36
PHONES, EACH = 4, 6
#: Which of the processes goes, so often of ten times.
KILLS = {"a worker": 4, "the server": 3, "PostgreSQL": 2, "everything": 1}


def main() -> None:
    """Kill one thing in each trial while phones send; then count what is there."""
    _be_parent_of_all()
    options = dict(word.split("=", 1) for word in sys.argv[1:])
    trials, seed = int(options.get("trials", TRIALS)), int(options.get("seed", 1))
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
        found = _trials(cluster, trials, seed)
    print(json.dumps(found))


def _trials(cluster, trials: int, seed: int) -> dict:
    from bench_posts import collect

    dice, found = random.Random(seed), Counter()
    with tempfile.TemporaryDirectory() as static:
        collect(static)
        for first in range(0, trials, ROUND):
            one = Round(cluster, static, dice)
            for _ in range(min(ROUND, trials - first)):
                one.trial()
            found += one.counted()
            done = min(first + ROUND, trials)
            print(f"{done} {dict(found)}", file=sys.stderr, flush=True)
    killed = ", ".join(f"{kind} {found[kind]} times" for kind in KILLS)
    sent, wrong = found["acknowledged"], found["lost"] + found["doubled"]
    shown = (
        "acknowledged",
        "lost",
        "doubled",
        "taken for another entry",
        "contradictions",
        OTHER_PLACES,
    )
    return {
        "what": f"{trials} kills (-9), {killed}; fsync on",
        "sides": [{"name": name, "value": found[name], "unit": ""} for name in shown],
        "ratio": (sent - wrong) / max(1, sent),
        "target": "every acknowledged entry is there once: 1",
    }


class Round:
    """A club whose server is killed again and again while phones send to it."""

    def __init__(self, cluster, static: str, dice: random.Random) -> None:
        from bench_posts import club_under_way
        from django.core.management import call_command

        from hollow_kettle.database.ports import free_port
        from hollow_kettle.log.models import Conflict

        call_command("flush", interactive=False, verbosity=0)
        self.cluster, self.static, self.dice = cluster, static, dice
        self.event, self.client, session = club_under_way()
        self.headers = headers(session)
        self.conflicts = Conflict.objects.count()
        self.acknowledged: list[str] = []
        self.kinds: Counter = Counter()
        self.port = free_port(range(8890, 8990))
        self._serve()

    def _serve(self) -> None:
        from bench_posts import serve

        # What it says of kills is no news.
        self.server = serve(self.port, self.static, is_quiet=True)

    def trial(self) -> None:
        """Kill one thing at some moment of the phones' sending."""
        from bench_posts import _wait

        if self.server.poll() is not None:
            self._serve()
        _wait(self.port)
        phones = [
            Phone(self.dice.random(), (self.port,), str(self.event.pk), self.headers,
                  logs=True, pause_s=(0, 0), patience_s=20)
            for _ in range(PHONES)
        ]  # fmt: skip
        for phone in phones:
            phone.start()
        time.sleep(self.dice.uniform(0.02, 0.6))
        kind = self.dice.choices([*KILLS], [*KILLS.values()])[0]
        self.kinds[kind] += 1
        self._kill(kind)
        for phone in phones:
            phone.join()
            self.acknowledged += phone.acknowledged

    def _kill(self, kind: str) -> None:
        from django.db import connections

        ours = [*_children(self.server.pid), self.server.pid]
        if kind == "a worker":
            _kill(self.dice.choice(ours[:-1] or ours))
            return
        if kind == "the server":
            _kill(*ours)
        else:
            first = (self.cluster.data / "postmaster.pid").read_text().split()[0]
            theirs = [int(first), *_children(int(first))]
            _kill(*(ours if kind == "everything" else ()), *theirs)
            connections.close_all()
            _start_again(self.cluster)
        if kind != "PostgreSQL":
            self.server.wait()
            self._serve()

    def counted(self) -> Counter:
        """What became of what was acknowledged, once all of it is followed."""
        from django.db import connections

        from hollow_kettle.log import services as log
        from hollow_kettle.log.models import Conflict, FieldEntry, Placement, Waiting

        _kill(*_children(self.server.pid), self.server.pid)
        self.server.wait()
        connections.close_all()
        while Waiting.objects.filter(event_key=self.event.pk).exists():
            live = self.client.get(f"/field/{self.event.pk}/live/")
            assert live.status_code == 200
        kept = Counter(map(str, FieldEntry.objects.values_list("uid", flat=True)))

        def placed() -> list:
            rows = Placement.objects.order_by("battery", "started_at")
            return list(rows.values_list("battery", "place", "started_at", "ended_at"))

        as_followed = placed()
        log.rebuild()
        found = self.kinds + Counter(
            {
                "acknowledged": len(self.acknowledged),
                "lost": sum(kept[key] == 0 for key in self.acknowledged),
                "doubled": sum(kept[key] > 1 for key in self.acknowledged),
                "taken for another entry": FieldEntry.objects.filter(
                    standing="conflict"
                ).count(),
                "contradictions": Conflict.objects.count() - self.conflicts,
                OTHER_PLACES: int(as_followed != placed()),
            }
        )
        connections.close_all()
        return found


class Phone(Caller):
    """Sends entries one by one, each again and again until it is acknowledged."""

    def run(self) -> None:
        """Send so many; what is not answered is sent again."""
        for _ in range(EACH):
            one = entry(self.dice)
            if self.dice.random() < 0.3:
                tag = one["fields"]["tag"]
                one |= {"what": "move", "fields": {"tag": tag, "way": "on"}}
            until = time.monotonic() + 90
            while not self.is_kept(one):
                if time.monotonic() > until:
                    raise SystemExit("An entry was not taken in 90 s.")
                time.sleep(0.1)


def _start_again(cluster) -> None:
    """Start it once all of it is gone: its memory is held until then."""
    from hollow_kettle.database.home import KettleError

    for _ in range(30):
        time.sleep(0.5)
        with contextlib.suppress(KettleError):
            cluster.start_again()
            return
    raise SystemExit(f"It does not start again; see {cluster.home}.")


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


if __name__ == "__main__":
    main()
