"""Assets, the equipment library, and estimates learned or tested."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import Q
from django.db.models.functions import Lower
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from powercore.chemistry import CHEMISTRIES

CHEMISTRY_CHOICES = [(key, chem.name) for key, chem in CHEMISTRIES.items()]


class AssetQuerySet(models.QuerySet["Asset"]):
    """Assets as lists of pages want them."""

    def batteries(self) -> AssetQuerySet:
        """Batteries that have not been archived, with their details."""
        return self.filter(kind=Asset.BATTERY, archived_at=None).select_related(
            "battery"
        )


class Asset(models.Model):
    """Something with a tag: where it belongs and whether it may be used."""

    BATTERY = "battery"

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    tag = models.CharField(max_length=16)
    kind = models.CharField(max_length=16, choices=[(BATTERY, "battery")])
    owner = models.CharField(max_length=80, blank=True)
    home = models.CharField(max_length=80, blank=True)
    hold = models.CharField("hold, because", max_length=200, blank=True)
    note = models.TextField(max_length=2000, blank=True)
    archived_at = models.DateTimeField(null=True, blank=True)

    objects = AssetQuerySet.as_manager()

    class Meta:
        ordering = ["tag"]
        constraints = [
            models.UniqueConstraint(
                Lower("tag"),
                name="shelf_tag_once",
                violation_error_message="This tag is taken.",
            ),
        ]

    def __str__(self) -> str:
        return self.tag

    def get_absolute_url(self) -> str:
        """The asset's page."""
        return reverse("shelf:battery_detail", args=[self.pk])


class Battery(models.Model):
    """What a battery's arithmetic needs."""

    asset = models.OneToOneField(Asset, primary_key=True, on_delete=models.CASCADE)
    chemistry = models.CharField(max_length=16, choices=CHEMISTRY_CHOICES)
    series = models.PositiveSmallIntegerField("cells in series")
    parallel = models.PositiveSmallIntegerField("cells in parallel", default=1)
    nameplate_ah = models.FloatField("nameplate capacity")
    reserve_pct = models.FloatField("reserve", null=True, blank=True)
    resistance_mohm = models.FloatField("resistance", null=True, blank=True)
    mass_kg = models.FloatField("mass", null=True, blank=True)
    max_charge_a = models.FloatField("highest charging current", null=True, blank=True)
    max_discharge_a = models.FloatField("highest current out", null=True, blank=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                name="shelf_battery_possible",
                condition=Q(series__range=(1, 120))
                & Q(parallel__range=(1, 200))
                & Q(nameplate_ah__range=(0.05, 5000))
                & (Q(reserve_pct=None) | Q(reserve_pct__range=(0, 95)))
                & (Q(resistance_mohm=None) | Q(resistance_mohm__range=(0.01, 10_000))),
            )
        ]

    def __str__(self) -> str:
        return str(self.asset)


class Estimate(models.Model):
    """A tested, learned or stated quantity of something; only accepted ones apply."""

    CAPACITY = "capacity_ah"

    subject = models.UUIDField(db_index=True)
    quantity = models.CharField(max_length=24)
    mean = models.FloatField()
    sd = models.FloatField(default=0)
    n = models.PositiveIntegerField(default=1)
    origin = models.CharField(max_length=80)
    evidence = models.CharField(max_length=300, blank=True)
    made_at = models.DateTimeField(default=real_now)
    accepted_by = models.ForeignKey(
        Actor, null=True, blank=True, on_delete=models.SET_NULL
    )
    superseded_by = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.SET_NULL
    )

    class Meta:
        ordering = ["-made_at"]

    def __str__(self) -> str:
        return f"{self.quantity} {self.mean:g}"

    @property
    def is_applied(self) -> bool:
        """Whether plans use it."""
        return self.accepted_by_id is not None and self.superseded_by_id is None


class EquipmentType(models.Model):
    """A kind of equipment in the library, apart from what the club owns."""

    key = models.SlugField(primary_key=True, max_length=40)
    name = models.CharField(max_length=80)
    origin = models.CharField(max_length=120)
    min_v = models.FloatField("lowest voltage")
    max_v = models.FloatField("highest voltage")

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class EquipmentStep(models.Model):
    """Currents of a kind of equipment at one power step. [A]"""

    FULL, LOW = "full", "low"

    equipment = models.ForeignKey(
        EquipmentType, on_delete=models.CASCADE, related_name="steps"
    )
    step = models.CharField(max_length=8, choices=[(FULL, "full"), (LOW, "low power")])
    words = models.CharField(max_length=40, blank=True)
    standby_a = models.FloatField(default=0)
    receive_a = models.FloatField()
    transmit_idle_a = models.FloatField()
    key_down_a = models.FloatField()

    class Meta:
        ordering = ["equipment", "step"]
        constraints = [
            models.UniqueConstraint(
                fields=["equipment", "step"], name="shelf_equipment_step_once"
            )
        ]

    def __str__(self) -> str:
        return f"{self.equipment} at {self.step}"
