"""./kettle unlock USER"""

from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from hollow_kettle.people.services import unlock


class Command(BaseCommand):
    """Let a locked-out person try again."""

    help = __doc__ or ""

    def add_arguments(self, parser: CommandParser) -> None:
        """Read the sign-in name."""
        parser.add_argument("user")

    def handle(self, *args: Any, **options: Any) -> None:
        """Forget the failed tries."""
        count = unlock(options["user"])
        self.stdout.write(f"{count} failed tries by {options['user']} are cleared.")
