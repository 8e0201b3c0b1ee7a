"""Used by ./kettle: bring tables to this version, or to the one of a backup."""

import json
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.db.migrations.loader import MigrationLoader
from django.db.migrations.recorder import MigrationRecorder


class Command(BaseCommand):
    """Migrate, unless the tables are of a version that nothing here leads from."""

    help = __doc__ or ""
    requires_system_checks = ()  # migrate runs them, before it changes anything

    def add_arguments(self, parser: CommandParser) -> None:
        """Read the version."""
        parser.add_argument("--to", help="JSON: app to the migrations its backup had")

    def handle(self, *args: Any, **options: Any) -> None:
        """Refuse in words what can't be led forward, before anything is changed."""
        if options["to"]:
            targets = targets_of(json.loads(options["to"]))
            MigrationExecutor(connection).migrate(targets)
            return
        had: dict[str, list[str]] = {}
        for app, name in MigrationRecorder(connection).applied_migrations():
            had.setdefault(app, []).append(name)
        targets_of(had)
        call_command("migrate", verbosity=0, skip_checks=False)


def targets_of(had: dict[str, list[str]]) -> list[tuple[str, str]]:
    """
    The last migration known here of each app, given all that a database had.

    Raises
    ------
    CommandError
        Naming a migration that is not known here, or an app that had come only part of
        the way to a release whose steps are one by now.
    """
    loader = MigrationLoader(None)
    known = set(loader.disk_migrations)
    merged = {
        old: new for new, it in loader.replacements.items() for old in it.replaces
    }
    targets = []
    for app, names in had.items():
        for name in names:
            if (app, name) not in known | set(merged):
                raise CommandError(
                    f"It was made by another version: nothing here knows {app}.{name}. "
                    "Install that version, or a newer one."
                )
        own = [name for name in names if (app, name) in known]
        if own:
            targets.append((app, max(own)))
            continue
        (new,) = {merged[app, name] for name in names}
        if not set(loader.replacements[new].replaces) <= {(app, it) for it in names}:
            raise CommandError(
                "It was made before the first release, and by an older version than "
                "the last of that time. Start that last one on it once; then this one "
                "takes it, or a backup that was made there."
            )
        targets.append(new)
    return targets
