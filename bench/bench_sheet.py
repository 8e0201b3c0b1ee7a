"""The event sheet of twenty stations against an empty signed-in page."""

import json
import os
import statistics
import sys
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "bench")]
os.environ["DJANGO_SETTINGS_MODULE"] = "hollow_kettle.settings.test"

import django  # noqa: E402 - after the settings are named

django.setup()

from club import big_event  # noqa: E402
from django.conf import settings  # noqa: E402
from django.db import connection  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import setup_databases, teardown_databases  # noqa: E402

from hollow_kettle.people.models import Club  # noqa: E402
from hollow_kettle.people.services import make_person  # noqa: E402
from hollow_kettle.plan.files.imports import import_scenario  # noqa: E402
from powercore.event.scenario import encode  # noqa: E402

PASSWORD = "bench-and-kettle"  # noqa: S105 - of a database that is thrown away


def main() -> None:
    """Bring a big event in as a file; time its sheet cold and as it stays."""
    settings.DATABASES["default"]["TEST"]["NAME"] = "kettle_bench"
    settings.WHITENOISE_AUTOREFRESH = False
    made = setup_databases(verbosity=0, interactive=False)
    try:
        Club.objects.create(pk=1, name="Bench Club")
        actor = make_person("m", password=PASSWORD, name="M", is_coordinator=True)
        event = import_scenario(encode(big_event()), by=actor)
        connection.cursor().execute("ANALYZE")
        client = Client(SERVER_NAME="127.0.0.1")
        client.force_login(actor.user)
        empty = _milliseconds(client, "/shelf/equipment/")
        began = time.perf_counter()
        assert client.get(event.get_absolute_url()).status_code == 200
        cold = (time.perf_counter() - began) * 1000
        warm = _milliseconds(client, event.get_absolute_url())
        queries = _queries(client, event.get_absolute_url())
    finally:
        teardown_databases(made, verbosity=0)
    print(
        json.dumps(
            {
                "what": "event sheet of 20 stations and 60 batteries",
                "sides": [
                    {"name": "event sheet", "value": warm, "unit": "ms"},
                    {"name": "its queries", "value": queries, "unit": ""},
                    {"name": "first time after a change", "value": cold, "unit": "ms"},
                    {"name": "plain signed-in page", "value": empty, "unit": "ms"},
                ],
                "ratio": warm / empty,
                "target": "3 or less",
            }
        )
    )


def _milliseconds(client: Client, path: str) -> float:
    times = []
    for _ in range(15):
        began = time.perf_counter()
        assert client.get(path).status_code == 200
        times.append((time.perf_counter() - began) * 1000)
    return statistics.median(times[3:])


def _queries(client: Client, path: str) -> int:
    count = 0

    def counted(execute, sql, params, many, context):
        nonlocal count
        count += 1
        return execute(sql, params, many, context)

    with connection.execute_wrapper(counted):
        client.get(path)
    return count


if __name__ == "__main__":
    main()
