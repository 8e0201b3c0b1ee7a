"""The field board with a long log, against a short one and a plain signed-in page."""

import json
import os
import statistics
import sys
import time
import uuid
from datetime import timedelta
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "src"))
os.environ["DJANGO_SETTINGS_MODULE"] = "hollow_kettle.settings.test"

import django  # noqa: E402 - after the settings are named

django.setup()

from django.conf import settings  # noqa: E402
from django.db import connection  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import setup_databases, teardown_databases  # noqa: E402

from hollow_kettle.demo import club  # noqa: E402
from hollow_kettle.log.models import FieldEntry  # noqa: E402
from hollow_kettle.people.models import Actor  # noqa: E402
from hollow_kettle.plan.models import Event  # noqa: E402

ENTRIES = 100_000


def main() -> None:
    """Load the demo, time the pages, lengthen the log, time the board again."""
    settings.DATABASES["default"]["TEST"]["NAME"] = "kettle_bench"
    settings.WHITENOISE_AUTOREFRESH = False
    made = setup_databases(verbosity=0, interactive=False)
    try:
        club.load()
        club.set_clock()
        event = Event.objects.get(state=Event.State.RUNNING)
        client = Client(SERVER_NAME="127.0.0.1")
        client.force_login(Actor.objects.get(name="Wren").user)
        empty = _milliseconds(client, "/shelf/equipment/")
        short = _milliseconds(client, f"/field/{event.pk}/")
        _lengthen(event)
        long = _milliseconds(client, f"/field/{event.pk}/")
    finally:
        teardown_databases(made, verbosity=0)
    print(
        json.dumps(
            {
                "what": f"field board after {ENTRIES:,} more log entries",
                "sides": [
                    {"name": "board, long log", "value": long, "unit": "ms"},
                    {"name": "board, the demo's log", "value": short, "unit": "ms"},
                    {
                        "name": "signed-in page, the equipment library",
                        "value": empty,
                        "unit": "ms",
                    },
                ],
                "ratio": long / short,
                "target": "flat: near 1; and 3 times a plain page",
            }
        )
    )


def _lengthen(event: Event) -> None:
    actor = Actor.objects.get(name="Wren")
    step = timedelta(hours=9) / ENTRIES
    for first in range(0, ENTRIES, 10_000):
        FieldEntry.objects.bulk_create(
            FieldEntry(
                uid=uuid.uuid4(),
                device="bench",
                payload_hash="0" * 64,
                kind="note",
                event_key=event.pk,
                actor=actor,
                effective_at=event.starts_at + number * step,
                note="rain",
            )
            for number in range(first, first + 10_000)
        )
    with connection.cursor() as cursor:
        cursor.execute("ANALYZE log_fieldentry")  # a server does it by itself in time


def _milliseconds(client: Client, url: str) -> float:
    times = []
    for _ in range(15):
        start = time.perf_counter()
        assert client.get(url).status_code == 200
        times.append((time.perf_counter() - start) * 1000)
    return statistics.median(times[3:])


if __name__ == "__main__":
    main()
