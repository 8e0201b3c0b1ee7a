"""A database with the project's tables, for as long as a script runs."""

import os
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def throwaway_database(name: str) -> Iterator[None]:
    """Start a cluster of its own and set Django up on it; both are gone afterwards."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "hollow_kettle.settings.test")
    from hollow_kettle.database.cluster import throwaway
    from hollow_kettle.database.home import data_folder

    with throwaway(data_folder(), name) as cluster:
        os.environ |= cluster.environment(role="kettle_owner", database="postgres")
        import django
        from django.test.utils import get_runner

        django.setup()
        from django.conf import settings

        runner = get_runner(settings)(verbosity=0, interactive=False)
        runner.setup_test_environment()
        runner.setup_databases()
        yield
