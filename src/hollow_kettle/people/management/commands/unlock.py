"""./kettle unlock USER"""

from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from hollow_kettle.people.models import User
from hollow_kettle.people.names import plain_name
from hollow_kettle.people.second import drop
from hollow_kettle.people.services import unlock


class Command(BaseCommand):
    """Let a locked-out person try again."""

    help = __doc__ or ""

    def add_arguments(self, parser: CommandParser) -> None:
        """Read the sign-in name."""
        parser.add_argument("user")
        parser.add_argument("--drop-code", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        """Forget the failed tries."""
        count = unlock(options["user"])
        if options["drop_code"]:
            user = User.objects.filter(plain=plain_name(options["user"])).first()
            words = (
                "asks for no code now"
                if user and drop(user, by=None)
                else "asked for none"
            )
            self.stdout.write(f"The sign-in of {options['user']} {words}.")
        self.stdout.write(f"{count} failed tries by {options['user']} are cleared.")
