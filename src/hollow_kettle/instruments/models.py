"""Meters of an event, and what they sent."""

from __future__ import annotations

import uuid

from django.contrib.postgres.indexes import BrinIndex
from django.db import models
from django.db.models import Q

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.models import Event
from powercore.limits import METER_CELSIUS, METER_GAIN, READ_A, READ_AH, READ_V


class DeviceKind(models.TextChoices):
    """What a meter measures."""

    SHUNT = "shunt", "shunt meter"
    CONTROLLER = "controller", "charge controller"
    GENERATOR = "generator", "generator panel"


class Device(models.Model):
    """A meter at an event: what it is on, what it needs corrected, its secret."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="devices")
    name = models.CharField(max_length=40)
    kind = models.CharField(max_length=12, choices=DeviceKind)
    #: The battery or station of a shunt meter, the bay or source of the others.
    subject = models.UUIDField()
    #: What it shows with nothing flowing, and what it must be multiplied with.
    zero_a = models.FloatField("zero of amps", default=0.0)
    gain_a = models.FloatField("factor of amps", default=1.0)
    zero_v = models.FloatField("zero of volts", default=0.0)
    token_digest = models.CharField(max_length=64, unique=True)
    made_by = models.ForeignKey(Actor, on_delete=models.PROTECT, related_name="+")
    closed_at = models.DateTimeField(null=True)
    #: The minute in which it sent last, and how often.
    minute = models.DateTimeField(null=True)
    sent_in_minute = models.PositiveIntegerField(default=0)
    #: Up to when its samples are noted in the log.
    noted_until = models.DateTimeField(null=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["event", "name"], name="instruments_named"),
            models.CheckConstraint(
                name="instruments_possible",
                condition=Q(gain_a__range=(METER_GAIN.low, METER_GAIN.high))
                & Q(zero_a__range=(READ_A.low, READ_A.high))
                & Q(zero_v__range=(READ_V.low, READ_V.high)),
            ),
        ]

    def __str__(self) -> str:
        return self.name


class Sample(models.Model):
    """What a meter showed at a moment: corrected, and as it came."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="samples")
    seq = models.BigIntegerField()
    at = models.DateTimeField()
    received_at = models.DateTimeField(default=real_now, editable=False)
    volts = models.FloatField(null=True)
    #: Flowing out of the battery, minus into it. [A]
    amps = models.FloatField(null=True)
    amp_hours = models.FloatField(null=True)
    celsius = models.FloatField(null=True)
    is_running = models.BooleanField(null=True)
    raw = models.JSONField()

    class Meta:
        ordering = ["at"]
        indexes = [
            BrinIndex(fields=["at"], name="instruments_sample_at"),
            models.Index(fields=["device", "at"], name="instruments_sample_of"),
            models.Index(
                fields=["device", "received_at"], name="instruments_sample_new"
            ),
        ]
        constraints = [
            models.UniqueConstraint(
                fields=["device", "seq"], name="instruments_sample_once"
            ),
            models.CheckConstraint(
                name="instruments_no_absurdities",
                condition=(Q(volts=None) | Q(volts__range=(READ_V.low, READ_V.high)))
                & (Q(amps=None) | Q(amps__range=(READ_A.low, READ_A.high)))
                & (Q(amp_hours=None) | Q(amp_hours__range=(READ_AH.low, READ_AH.high)))
                & (
                    Q(celsius=None)
                    | Q(celsius__range=(METER_CELSIUS.low, METER_CELSIUS.high))
                ),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.device} #{self.seq}"
