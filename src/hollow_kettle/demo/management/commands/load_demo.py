"""Used by ./kettle demo: make the demo club when it is not there, set its clock."""

from typing import Any

from django.core.management.base import BaseCommand, CommandError

from hollow_kettle.demo import club


class Command(BaseCommand):
    """Make the invented club."""

    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        """Load once, then set the clock at each start."""
        from django.conf import settings

        if not settings.IS_DEMO:
            raise CommandError(
                "This is your own club's database; the demo has its own."
            )
        if not club.is_loaded():
            self.stdout.write("Making the demo club…")
            club.load()
        club.set_clock()
