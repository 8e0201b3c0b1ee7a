"""How the application itself is."""

from django.apps import AppConfig


class UpkeepConfig(AppConfig):
    """Health, figures, troubles and backups."""

    name = "hollow_kettle.upkeep"
    label = "upkeep"

    def ready(self) -> None:
        """Keep each exception that nothing caught."""
        from django.core.signals import got_request_exception

        from .troubles import keep

        got_request_exception.connect(keep, dispatch_uid="upkeep-troubles")
