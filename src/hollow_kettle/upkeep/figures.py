"""How long answers take, and other figures, for pages and for a collector."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

from django.db.models import Count
from procrastinate.contrib.django.models import ProcrastinateJob
from prometheus_client import CollectorRegistry, Histogram, generate_latest
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.registry import REGISTRY, Collector

from . import health, room

BUCKETS = (0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0)
ANSWERS = Histogram(
    "kettle_answer_seconds",
    "Time to answer a request, by page.",
    ["route", "method", "status"],
    buckets=BUCKETS,
)


@dataclass(frozen=True)
class Page:
    """How long one page took since the web server started."""

    route: str
    times: int
    #: Nine in ten answers took no longer than that; None: longer than ten. [s]
    nine_in_ten_s: float | None


def _answers() -> CollectorRegistry:
    """Return what all web processes of this machine measured."""
    if not os.environ.get("PROMETHEUS_MULTIPROC_DIR"):
        return REGISTRY
    registry = CollectorRegistry()
    MultiProcessCollector(registry)
    return registry


def slow_pages(limit: int) -> list[Page]:
    """Return the slowest pages, by what nine in ten answers kept to."""
    counts: dict[str, dict[float, float]] = defaultdict(lambda: defaultdict(float))
    for metric in _answers().collect():
        if metric.name != "kettle_answer_seconds":
            continue
        for sample in metric.samples:
            if sample.name.endswith("_bucket"):
                bound = float(sample.labels["le"])
                counts[sample.labels["route"]][bound] += sample.value
    pages = []
    for route, buckets in counts.items():
        times = buckets[float("inf")]
        within = (bound for bound in BUCKETS if buckets[bound] >= 0.9 * times)
        pages.append(Page(route, int(times), next(within, None)))
    pages.sort(key=lambda page: -(page.nine_in_ten_s or 99))
    return pages[:limit]


class _Now(Collector):
    """What is asked for at the moment of the collector's call."""

    def collect(self) -> Iterator[Metric]:
        """Yield the gauges."""
        jobs = GaugeMetricFamily("kettle_jobs", "Jobs by state.", labels=["state"])
        rows = ProcrastinateJob.objects.values_list("status").annotate(Count("id"))
        for state, number in rows.order_by("status"):
            jobs.add_metric([state], number)
        yield jobs
        for name, words, value in (
            (
                "worker_heard",
                "Seconds since a worker was heard.",
                health.worker_age_s(),
            ),
            (
                "backup_age",
                "Seconds since the last good backup.",
                health.backup_age_s(),
            ),
        ):
            if value is not None:
                yield GaugeMetricFamily(f"kettle_{name}_seconds", words, value=value)
        if (free := room.free_bytes()) is not None:
            yield GaugeMetricFamily(
                "kettle_free_bytes", "Room on the disk.", value=free
            )
        size = health.database_bytes()
        yield GaugeMetricFamily("kettle_database_bytes", "The database.", value=size)


def exposition() -> bytes:
    """Return all figures as a collector reads them."""
    now = CollectorRegistry()
    now.register(_Now())
    return generate_latest(_answers()) + generate_latest(now)
