"""Long work and housekeeping, run by the worker."""

from django.apps import AppConfig


class JobsConfig(AppConfig):
    """Jobs of the worker."""

    name = "hollow_kettle.jobs"
    label = "jobs"
