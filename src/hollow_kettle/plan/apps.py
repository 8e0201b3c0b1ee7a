"""Events, stations, loads, sources and rotations."""

from typing import Any

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class PlanConfig(AppConfig):
    """The Plan."""

    name = "hollow_kettle.plan"
    label = "plan"

    def ready(self) -> None:
        """Stock the operating patterns after each migration."""
        post_migrate.connect(_stock, sender=self)


def _stock(**kwargs: Any) -> None:
    from .stations.library import stock_patterns

    stock_patterns()
