"""The yard: sources and their hours, bays, crews."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import F, Q

from hollow_kettle.ranges import possible
from hollow_kettle.shelf.models import Asset
from powercore import limits

from .events import Event


class Source(models.Model):
    """Where the charging yard's power comes from."""

    class Kind(models.TextChoices):
        MAINS = "mains", "mains"
        GENERATOR = "generator", "generator"
        BUFFER = "buffer", "buffer bank"
        VEHICLE = "vehicle", "vehicle, engine on"
        SUN = "sun", "panels"

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="sources")
    name = models.CharField(max_length=60)
    kind = models.CharField(max_length=10, choices=Kind)
    max_w = models.FloatField("highest power")
    energy_wh = models.FloatField("energy in it", null=True, blank=True)
    capacity_wh = models.FloatField("energy it can hold", null=True, blank=True)
    max_va = models.FloatField("apparent power", null=True, blank=True)
    other_w = models.FloatField("other loads on it", default=0)
    quiet_from = models.TimeField(null=True, blank=True)
    quiet_until = models.TimeField(null=True, blank=True)
    is_quiet_waived = models.BooleanField("quiet hours waived", default=False)
    quarter_l_h = models.FloatField("fuel use at a quarter load", null=True, blank=True)
    full_l_h = models.FloatField("fuel use at full load", null=True, blank=True)
    tank_l = models.FloatField("tank", null=True, blank=True)
    on_hand_l = models.FloatField("fuel on hand", null=True, blank=True)
    refuel_min = models.PositiveSmallIntegerField(
        "refuelling takes", default=limits.USUAL_REFUEL_MIN
    )
    filled_from = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.SET_NULL, related_name="banks"
    )
    fill_w = models.FloatField("charged with", default=0)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.CheckConstraint(
                name="plan_bank_has_energy",
                condition=~Q(kind="buffer") | Q(energy_wh__isnull=False),
            ),
            possible(
                "plan_source_possible",
                {
                    "max_w": limits.SOURCE_W,
                    "energy_wh": limits.ENERGY_WH,
                    "capacity_wh": limits.ENERGY_WH,
                    "max_va": limits.SOURCE_VA,
                    "other_w": limits.OTHER_W,
                    "quarter_l_h": limits.QUARTER_L_H,
                    "full_l_h": limits.FULL_L_H,
                    "tank_l": limits.TANK_L,
                    "on_hand_l": limits.ON_HAND_L,
                    "refuel_min": limits.REFUEL_MIN,
                    "fill_w": limits.FILL_W,
                },
            ),
        ]

    def __str__(self) -> str:
        return self.name


class SourceWindow(models.Model):
    """When a source may run: mains while the hall is open, a generator by day."""

    source = models.ForeignKey(Source, on_delete=models.CASCADE, related_name="windows")
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()

    class Meta:
        ordering = ["starts_at"]
        constraints = [
            models.CheckConstraint(
                name="plan_window_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            )
        ]

    def __str__(self) -> str:
        return f"{self.source}: {self.starts_at:%H:%M}–{self.ends_at:%H:%M}Z"


class Bay(models.Model):
    """Where one battery charges."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="bays")
    source = models.ForeignKey(Source, on_delete=models.PROTECT, related_name="bays")
    name = models.CharField(max_length=60)
    #: The charger of the shelf that stands there; None: its figures are typed.
    charger = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.PROTECT, related_name="+"
    )
    max_w = models.FloatField("charger output", null=True, blank=True)
    #: The event at which its output was learned; empty: as it was typed.
    learned_from = models.CharField(max_length=80, blank=True)
    chemistries = models.CharField(
        max_length=80, blank=True, help_text="Keys, separated by commas."
    )
    ends_itself = models.BooleanField("ends a charge by itself", default=False)
    #: Why batteries may charge on it while nobody watches the yard; empty: they don't.
    unwatched_why = models.CharField("unwatched because", max_length=120, blank=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.CheckConstraint(
                name="plan_bay_possible",
                condition=Q(charger__isnull=False, max_w=None)
                | Q(charger=None, max_w__range=(limits.BAY_W.low, limits.BAY_W.high)),
            ),
            models.UniqueConstraint(
                fields=["event", "charger"], name="plan_charger_on_one_bay"
            ),
        ]

    def __str__(self) -> str:
        return self.name


class Crew(models.Model):
    """People on duty: who walks, or who watches the yard."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="crews")
    name = models.CharField(max_length=60)
    does = models.CharField(
        max_length=6, choices=[("walks", "walks"), ("yard", "watches the yard")]
    )
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    people = models.PositiveSmallIntegerField(default=limits.USUAL_PEOPLE)

    class Meta:
        ordering = ["starts_at", "name"]
        constraints = [
            models.CheckConstraint(
                name="plan_crew_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
            possible("plan_crew_possible", {"people": limits.PEOPLE}),
        ]

    def __str__(self) -> str:
        return self.name
