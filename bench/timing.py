"""How benchmarks measure time."""

import time
from collections.abc import Callable


def seconds(job: Callable[[], object]) -> float:
    """How long a job takes once. [s]"""
    start = time.perf_counter()
    job()
    return time.perf_counter() - start
