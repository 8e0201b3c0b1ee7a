"""What people add to a debrief, and what was worked out for it."""

from __future__ import annotations

import uuid

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import F, Q

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.models import Event, Rotation, Station
from hollow_kettle.ranges import possible
from powercore.gear.faults import CAUSES
from powercore.limits import PEOPLE_AFFECTED


class Shortfall(models.Model):
    """
    A stretch in which power ran short, as somebody says it was.

    It stands for the stretches that it covers, which were found in the log; without
    any it was entered by hand.
    """

    class What(models.TextChoices):
        OFF_AIR = "off_air", "off the air"
        LOW_POWER = "low_power", "low power"
        SHED = "shed", "shed"
        RESERVE = "reserve", "into reserve"

    #: What put it short, in words of the fault log, and the battery's own end.
    WHY = (
        ("", "not known"),
        ("ended", "the battery was at its end"),
        *((key, one.name) for key, one in CAUSES.items()),
    )

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(
        Event, on_delete=models.CASCADE, related_name="shortfalls"
    )
    station = models.ForeignKey(
        Station, on_delete=models.CASCADE, related_name="shortfalls"
    )
    what = models.CharField(max_length=10, choices=What)
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    #: Keys of the found stretches that it stands for.
    covers = ArrayField(models.CharField(max_length=120), default=list, blank=True)
    why = models.CharField(max_length=10, choices=WHY, blank=True)
    people = models.PositiveIntegerField(null=True, blank=True)
    done = models.CharField(max_length=300, blank=True)
    note = models.CharField(max_length=500, blank=True)
    #: It did not happen, whatever was found.
    is_dropped = models.BooleanField(default=False)
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    made_at = models.DateTimeField(default=real_now)

    class Meta:
        ordering = ["starts_at"]
        constraints = [
            models.CheckConstraint(
                name="debrief_shortfall_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
            possible("debrief_shortfall_possible", {"people": PEOPLE_AFFECTED}),
        ]

    def __str__(self) -> str:
        return f"{self.station} {self.get_what_display()}"


class Photo(models.Model):
    """A photo as evidence of a shortfall; kept in the database, so in each backup."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    shortfall = models.ForeignKey(
        Shortfall, on_delete=models.CASCADE, related_name="photos"
    )
    content = models.BinaryField()
    words = models.CharField(max_length=200, blank=True)
    added_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    added_at = models.DateTimeField(default=real_now, editable=False)

    class Meta:
        ordering = ["added_at"]

    def __str__(self) -> str:
        return self.words or "photo"


class Causes(models.Model):
    """Why an event went otherwise than planned: asked for, or what came of it."""

    event = models.OneToOneField(Event, on_delete=models.CASCADE, related_name="causes")
    baseline = models.ForeignKey(Rotation, on_delete=models.CASCADE)
    asked_at = models.DateTimeField(default=real_now)
    #: What it was worked out from: a digest of the log and of what people said.
    basis = models.CharField(max_length=64, blank=True)
    #: How much of it is done. (0 to 1)
    progress = models.FloatField(default=0)
    #: `powercore.debrief.attribute.Attribution` as JSON, and the words of each share;
    #: None while it is worked out.
    content = models.JSONField(null=True)
    words = models.JSONField(default=dict)
    has_failed = models.BooleanField(default=False)

    def __str__(self) -> str:
        return f"causes of {self.event}"

    @property
    def is_active(self) -> bool:
        """Whether it is still worked out."""
        return self.content is None and not self.has_failed


class Contact(models.Model):
    """A contact that a station made; with whom is not kept."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="contacts")
    station = models.ForeignKey(
        Station, on_delete=models.CASCADE, related_name="contacts"
    )
    at = models.DateTimeField()
    mode = models.CharField(max_length=16, blank=True)

    class Meta:
        ordering = ["at"]

    def __str__(self) -> str:
        return f"{self.mode} at {self.at:%H:%M}Z"
