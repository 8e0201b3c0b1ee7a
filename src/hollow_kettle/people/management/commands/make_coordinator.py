"""./kettle coordinator NAME"""

import getpass
import os
import sys
from typing import Any

from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError, CommandParser

from hollow_kettle.people.services import make_person


class Command(BaseCommand):
    """Make an account that coordinates the club's power."""

    help = __doc__ or ""

    def add_arguments(self, parser: CommandParser) -> None:
        """Read the sign-in name."""
        parser.add_argument("name")

    def handle(self, *args: Any, **options: Any) -> None:
        """Ask for a password twice and make the account."""
        try:
            actor = make_person(
                options["name"], password=_password(), is_coordinator=True
            )
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from error
        self.stdout.write(f"{actor} can sign in as coordinator now.")


def _password() -> str:
    if given := os.environ.get("KETTLE_PASSWORD"):
        return given
    if not sys.stdin.isatty():
        raise CommandError("Set KETTLE_PASSWORD, or run this where you can type it.")
    first = getpass.getpass("Password (10 characters or more): ")
    if getpass.getpass("Once more: ") != first:
        raise CommandError("The two passwords don't match; nothing was made.")
    return first
