"""A day's event in half an hour, with all that is logged of it: does memory grow?"""

import json
import sys
import threading
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]

import psutil  # noqa: E402
from bench_crowd import running_club, wrong_of  # noqa: E402 - as above
from callers import Caller, end, odd_answers  # noqa: E402 - as above
from django.db import connections  # noqa: E402

from hollow_kettle.clock import real_now  # noqa: E402
from hollow_kettle.plan.models import Event  # noqa: E402

PHONES, PAGES = 12, 6
#: A phone logs so often, a page asks so often. [s]
LOGS_S, POLLS_S = (4, 12), (4, 6)
#: What is held once everything was used: the first part of the run. [share]
WARM = 0.25


def main() -> None:
    """Move the event's clock from its start to its end; weigh the processes."""
    options = dict(word.split("=", 1) for word in sys.argv[1:])
    seconds = 60 * float(options.get("minutes", 30))
    with running_club() as (event, club, parts):
        callers = [
            Caller(n, *club, logs=n < PHONES, pause_s=LOGS_S if n < PHONES else POLLS_S)
            for n in range(PHONES + PAGES)
        ]
        weights: list[float] = []
        ends = threading.Event()
        clock = threading.Thread(target=_move, args=(event, seconds, ends))
        clock.start()
        for caller in callers:
            caller.start()
        began = time.monotonic()
        while time.monotonic() - began < seconds:
            time.sleep(min(10, seconds / 30))
            weights.append(_weight_mb(parts))
        ends.set()
        end(callers)
        clock.join()
        wrong = wrong_of(callers)
        count = sum(len(one.acknowledged) for one in callers)
    warm = weights[int(WARM * len(weights)) :]
    first, last = _mean(warm[: len(warm) // 4]), _mean(warm[-len(warm) // 4 :])
    print(
        json.dumps(
            {
                "what": f"24 h of an event in {seconds / 60:g} min: {count} entries, "
                f"{wrong} lost or doubled; answers that were none: "
                f"{odd_answers(callers) or 'none'}",
                "sides": [
                    {
                        "name": "servers and worker, once warm",
                        "value": first,
                        "unit": "MB",
                    },
                    {"name": "at the end", "value": last, "unit": "MB"},
                    {"name": "at the most", "value": max(weights), "unit": "MB"},
                ],
                "ratio": last / first,
                "target": "no growth: 1",
            }
        )
    )


def _move(event: Event, seconds: float, ends: threading.Event) -> None:
    """Let the event's clock run through its hours in so many seconds."""
    began, span = time.monotonic(), event.ends_at - event.starts_at
    while not ends.wait(2):
        at = event.starts_at + span * min((time.monotonic() - began) / seconds, 1)
        Event.objects.filter(pk=event.pk).update(clock_offset=at - real_now())
    connections.close_all()


def _weight_mb(parts) -> float:
    """What the processes hold for themselves, what they share counted once each."""
    tree = [one for part in parts for one in _tree(psutil.Process(part.pid))]
    return sum(one.memory_full_info().uss for one in tree) / 1e6


def _tree(parent: psutil.Process) -> list[psutil.Process]:
    return [parent, *parent.children(recursive=True)]


def _mean(values: list[float]) -> float:
    return sum(values) / len(values)


if __name__ == "__main__":
    main()
