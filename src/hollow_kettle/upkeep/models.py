"""What went wrong, and the backups that were made."""

from __future__ import annotations

from django.db import models

from hollow_kettle.clock import real_now


class Trouble(models.Model):
    """An exception that nothing caught; the same one again only counts."""

    route = models.CharField(max_length=120)
    kind = models.CharField(max_length=80)
    #: The last place of our own on its way: file, line and function.
    place = models.CharField(max_length=160)
    first_at = models.DateTimeField(default=real_now)
    last_at = models.DateTimeField(default=real_now, db_index=True)
    times = models.PositiveIntegerField(default=1)
    #: The number of the last request that met it, as in the log.
    request = models.CharField(max_length=32, blank=True)

    class Meta:
        ordering = ["-last_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["route", "kind", "place"], name="upkeep_trouble_once"
            )
        ]

    def __str__(self) -> str:
        return f"{self.kind} at {self.route}"


class Backup(models.Model):
    """A backup that the worker made or tried to make by itself."""

    made_at = models.DateTimeField(default=real_now, db_index=True)
    #: The machine whose folder the file lies in, and its name there.
    machine = models.CharField(max_length=120)
    file = models.CharField(max_length=120, blank=True)
    size = models.BigIntegerField(default=0)
    is_encrypted = models.BooleanField(default=False)
    #: When it was restored for a test; empty where it could not be tried.
    tested_at = models.DateTimeField(null=True)
    #: Why it failed, or why it was not tested; empty where all is well.
    trouble = models.CharField(max_length=300, blank=True)
    is_good = models.BooleanField(default=False)
    #: When its file was removed, as older ones are.
    removed_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-made_at"]

    def __str__(self) -> str:
        return f"backup of {self.made_at:%Y-%m-%d %H:%M}"
