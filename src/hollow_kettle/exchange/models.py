"""A file between its preview and the moment it is applied."""

from __future__ import annotations

import uuid

from django.db import models

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor


class Upload(models.Model):
    """An uploaded table, kept for a day so that it need not be sent twice."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    purpose = models.CharField(max_length=40)
    file_name = models.CharField(max_length=200)
    content = models.BinaryField()
    actor = models.ForeignKey(Actor, on_delete=models.CASCADE)
    created_at = models.DateTimeField(default=real_now, editable=False)

    def __str__(self) -> str:
        return self.file_name


class Heading(models.Model):
    """What a club's own heading of a column means; remembered for the next list."""

    purpose = models.CharField(max_length=40)
    heading = models.CharField(max_length=80)
    column = models.CharField(max_length=40)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["purpose", "heading"], name="exchange_heading_once"
            )
        ]

    def __str__(self) -> str:
        return f"{self.heading} is {self.column}"
