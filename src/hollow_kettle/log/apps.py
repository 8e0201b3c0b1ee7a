"""The one append-only log, its fold, and where everything is."""

from typing import Any

from django.apps import AppConfig
from django.db import connections
from django.db.models.signals import post_migrate


class LogConfig(AppConfig):
    """The log."""

    name = "hollow_kettle.log"
    label = "log"

    def ready(self) -> None:
        """Let the application's role in after each migration."""
        post_migrate.connect(_grant, sender=self)


def _grant(using: str, **kwargs: Any) -> None:
    """Give `kettle_app` its rights; it can add to the log and nothing else."""
    with connections[using].cursor() as cursor:
        cursor.execute("SELECT 1 FROM pg_roles WHERE rolname = 'kettle_app'")
        if cursor.fetchone() is None:
            return
        for statement in (
            "GRANT USAGE ON SCHEMA public TO kettle_app",
            "GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public "
            "TO kettle_app",
            "GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO kettle_app",
            "REVOKE UPDATE, DELETE, TRUNCATE ON log_fieldentry FROM kettle_app",
        ):
            cursor.execute(statement)
