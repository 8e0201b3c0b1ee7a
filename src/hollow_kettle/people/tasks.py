"""Housekeeping of sign-ins."""

from django.core.management import call_command
from procrastinate.contrib.django import app

from .sessions import forget_ended


@app.periodic(cron="17 * * * *")
@app.task(pass_context=False)
def clear_sessions(timestamp: int) -> None:
    """Remove sessions that have ended."""
    call_command("clearsessions")
    forget_ended()
