"""Housekeeping of uploads."""

from datetime import timedelta

from procrastinate.contrib.django import app

from hollow_kettle.clock import real_now

from .models import Upload


@app.periodic(cron="23 * * * *")
@app.task
def forget_uploads(timestamp: int) -> None:
    """Remove uploads older than a day."""
    Upload.objects.filter(created_at__lt=real_now() - timedelta(days=1)).delete()
