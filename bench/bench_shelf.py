"""The shelf's list with 2,000 things, and a list of 5,000 rows read in."""

import json
import os
import statistics
import sys
import time
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

from hollow_kettle.people.models import Club  # noqa: E402
from hollow_kettle.people.services import make_person  # noqa: E402
from hollow_kettle.shelf.kinds import KINDS  # noqa: E402
from hollow_kettle.shelf.lists import tables  # noqa: E402

PASSWORD = "bench-and-kettle"  # noqa: S105 - of a database that is thrown away
BATTERIES, DEVICES, ROWS = 500, 1_500, 5_000


def main() -> None:
    """Fill a shelf through its import, time its pages and a long preview."""
    settings.DATABASES["default"]["TEST"]["NAME"] = "kettle_bench"
    settings.WHITENOISE_AUTOREFRESH = False
    made = setup_databases(verbosity=0, interactive=False)
    try:
        Club.objects.create(pk=1, name="Bench Club")
        actor = make_person("wren", password=PASSWORD, name="Wren")
        tables.apply_list(KINDS["battery"], _batteries(BATTERIES, "K"), by=actor)
        tables.apply_list(KINDS["device"], _devices(DEVICES), by=actor)
        connection.cursor().execute("ANALYZE")
        client = Client(SERVER_NAME="127.0.0.1")
        client.force_login(actor.user)
        empty, _ = _milliseconds(client, "/shelf/equipment/")
        whole, whole_queries = _milliseconds(client, "/shelf/")
        typed, typed_queries = _milliseconds(client, "/shelf/results/?q=K12")
        began = time.perf_counter()
        preview, _ = tables.preview_list(KINDS["battery"], _batteries(ROWS, "B"))
        read_s = time.perf_counter() - began
        assert not preview.faults, preview.faults[:3]
    finally:
        teardown_databases(made, verbosity=0)
    print(
        json.dumps(
            {
                "what": f"search as you type among {BATTERIES + DEVICES:,} things",
                "sides": [
                    {"name": "rows found while typing", "value": typed, "unit": "ms"},
                    {"name": "its queries", "value": typed_queries, "unit": ""},
                    {"name": "whole list page, 50 rows", "value": whole, "unit": "ms"},
                    {"name": "its queries", "value": whole_queries, "unit": ""},
                    {"name": "plain signed-in page", "value": empty, "unit": "ms"},
                    {"name": f"preview of {ROWS:,} rows", "value": read_s, "unit": "s"},
                ],
                "ratio": typed / empty,
                "target": "3 or less for search; the same number of queries always",
            }
        )
    )


def _batteries(count: int, letter: str) -> bytes:
    head = "tag,chemistry,series,nameplate_ah,tested_ah,owner,home\n"
    rows = (
        f"{letter}{n},{'lifepo4,4' if n % 3 else 'agm,6'},{20 + n % 80},"
        f"{18 + n % 80},member {n % 40},shelf {n % 12}\n"
        for n in range(10, count + 10)
    )
    return (head + "".join(rows)).encode()


def _devices(count: int) -> bytes:
    head = "tag,name,receive_a,key_down_a,owner\n"
    rows = (
        f"R{n},radio {n},1.2,{5 + n % 15},the club\n" for n in range(10, count + 10)
    )
    return (head + "".join(rows)).encode()


def _milliseconds(client: Client, path: str) -> tuple[float, int]:
    count = 0

    def counted(execute, sql, params, many, context):
        nonlocal count
        count += 1
        return execute(sql, params, many, context)

    with connection.execute_wrapper(counted):
        assert client.get(path).status_code == 200
    times = []
    for _ in range(15):
        began = time.perf_counter()
        client.get(path)
        times.append((time.perf_counter() - began) * 1000)
    return statistics.median(times[3:]), count


if __name__ == "__main__":
    main()
