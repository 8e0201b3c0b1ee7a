"""Used by ./kettle restore: the tables as they were at a backup's version."""

import json
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import connection
from django.db.migrations.executor import MigrationExecutor


class Command(BaseCommand):
    """Migrate an empty database to the last migration named of each app."""

    help = __doc__ or ""

    def add_arguments(self, parser: CommandParser) -> None:
        """Read the versions."""
        parser.add_argument("version", help="JSON: app to its last migration")

    def handle(self, *args: Any, **options: Any) -> None:
        """Migrate, or say which migration nobody here knows."""
        executor = MigrationExecutor(connection)
        known = executor.loader.graph.nodes
        targets = list(json.loads(options["version"]).items())
        for app, name in targets:
            if (app, name) not in known:
                raise CommandError(
                    f"The backup was made by another version: nothing here knows "
                    f"{app}.{name}. Install that version, or a newer one."
                )
        executor.migrate(targets)
