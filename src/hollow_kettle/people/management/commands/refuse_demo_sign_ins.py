"""Used by ./kettle serve: a public server must not know the demo's passwords."""

from typing import Any

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError

DEMO_PASSWORD = "kettle-on-the-boil"  # noqa: S105 - printed by ./kettle demo


class Command(BaseCommand):
    """Fail if any sign-in has the demo's password."""

    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        """Try the demo's password on every active sign-in."""
        users = get_user_model().objects.filter(is_active=True)
        open_doors = [
            user.username for user in users if user.check_password(DEMO_PASSWORD)
        ]
        if open_doors:
            raise CommandError(
                f"These sign-ins have the demo's password: {', '.join(open_doors)}. "
                "Change it before serving."
            )
