"""What lets a script in."""

from __future__ import annotations

from django.db import models

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor


class TokenRole(models.TextChoices):
    """What a script may do, at every event."""

    READER = "reader", "reads"
    LOGGER = "logger", "reads and logs"
    COORDINATOR = "coordinator", "reads, logs and notes bench tests"


class Token(models.Model):
    """A script of the club: its name in the log, what it may do, its secret."""

    actor = models.OneToOneField(Actor, on_delete=models.PROTECT, related_name="token")
    role = models.CharField(max_length=12, choices=TokenRole)
    digest = models.CharField(max_length=64, unique=True)
    made_at = models.DateTimeField(default=real_now)
    made_by = models.ForeignKey(Actor, on_delete=models.PROTECT, related_name="+")
    ended_at = models.DateTimeField(null=True)
    #: The minute in which it asked last, and how often.
    minute = models.DateTimeField(null=True)
    asked_in_minute = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["-made_at"]

    def __str__(self) -> str:
        return str(self.actor)
