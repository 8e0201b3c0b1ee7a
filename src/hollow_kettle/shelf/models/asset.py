"""Something with a tag, its photos and papers, and the equipment library."""

from __future__ import annotations

import secrets
import uuid

from django.db import models
from django.db.models import Q
from django.db.models.functions import Lower
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from powercore.physics.chemistry import CHEMISTRIES

CHEMISTRY_CHOICES = [(key, chem.name) for key, chem in CHEMISTRIES.items()]


class AssetKind(models.TextChoices):
    """Kinds of thing a club keeps track of."""

    BATTERY = "battery", "battery"
    BANK = "bank", "power bank"
    PANEL = "panel", "solar panel"
    CONTROLLER = "controller", "charge controller"
    CHARGER = "charger", "charger or supply"
    GENERATOR = "generator", "generator"
    CONVERTER = "converter", "converter"
    DEVICE = "device", "radio or load"
    METER = "meter", "meter"
    LEAD = "lead", "lead or adapter"
    GUARD = "guard", "fuse, breaker or block"
    ANTENNA = "antenna", "antenna part"
    KIT = "kit", "kit"


class AssetQuerySet(models.QuerySet["Asset"]):
    """Assets as lists of pages want them."""

    def here(self) -> AssetQuerySet:
        """Assets that have not been archived."""
        return self.filter(archived_at=None)

    def batteries(self) -> AssetQuerySet:
        """Batteries that have not been archived, with their details."""
        return self.here().filter(kind=Asset.BATTERY).select_related("battery")


def new_token() -> str:
    """Return what a label's code says: 80 random bits, no meaning."""
    return secrets.token_hex(10)


#: A collation that orders numbers in a text by what they are worth.
AS_COUNTED = "as_counted"


class Asset(models.Model):
    """Something with a tag: where it belongs and whether it may be used."""

    BATTERY = AssetKind.BATTERY

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    #: In the order in which people count: K2 before K11.
    tag = models.CharField(max_length=16, db_collation=AS_COUNTED)
    #: The tag as it is read or heard; see `tags.plain_tag`.
    plain = models.CharField(max_length=80, editable=False)
    kind = models.CharField(max_length=16, choices=AssetKind)
    name = models.CharField(max_length=80, blank=True)
    owner = models.CharField(max_length=80, blank=True)
    home = models.CharField(max_length=80, blank=True)
    hold = models.CharField("hold, because", max_length=200, blank=True)
    note = models.TextField(max_length=2000, blank=True)
    mass_kg = models.FloatField("mass", null=True, blank=True)
    volume_l = models.FloatField("volume", null=True, blank=True)
    made_on = models.DateField("built or bought", null=True, blank=True)
    cost = models.DecimalField(max_digits=9, decimal_places=2, null=True, blank=True)
    token = models.CharField(max_length=20, default=new_token, editable=False)
    archived_at = models.DateTimeField(null=True, blank=True)

    objects = AssetQuerySet.as_manager()

    class Meta:
        ordering = ["tag"]
        indexes = [models.Index(fields=["kind", "tag"], name="shelf_asset_kind")]
        constraints = [
            models.UniqueConstraint(
                Lower("tag"),
                name="shelf_tag_once",
                violation_error_message="This tag is taken.",
            ),
            models.UniqueConstraint(fields=["plain"], name="shelf_plain_tag_once"),
            models.UniqueConstraint(fields=["token"], name="shelf_token_once"),
            models.CheckConstraint(
                name="shelf_mass_possible",
                condition=Q(mass_kg=None) | Q(mass_kg__range=(0.001, 2000)),
            ),
            models.CheckConstraint(
                name="shelf_volume_possible",
                condition=Q(volume_l=None) | Q(volume_l__range=(0.01, 2000)),
            ),
        ]

    def __str__(self) -> str:
        return self.tag

    def get_absolute_url(self) -> str:
        """The asset's page."""
        if self.kind == AssetKind.KIT:
            return reverse("shelf:kit_detail", args=[self.pk])
        return reverse("shelf:asset_detail", args=[self.pk])


class Attachment(models.Model):
    """A photo or a paper of an asset; kept in the database, so in each backup."""

    PHOTO, PAPER = "photo", "paper"

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    asset = models.ForeignKey(
        Asset, on_delete=models.CASCADE, related_name="attachments"
    )
    kind = models.CharField(
        max_length=8, choices=[(PHOTO, "photo"), (PAPER, "document")]
    )
    name = models.CharField(max_length=120)
    content_type = models.CharField(max_length=40)
    content = models.BinaryField()
    size = models.PositiveIntegerField()
    words = models.CharField(max_length=200, blank=True)
    added_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    added_at = models.DateTimeField(default=real_now, editable=False)

    class Meta:
        ordering = ["-added_at"]

    def __str__(self) -> str:
        return self.name


class EquipmentType(models.Model):
    """A kind of equipment in the library, apart from what the club owns."""

    key = models.SlugField(primary_key=True, max_length=40)
    name = models.CharField(max_length=80)
    origin = models.CharField(max_length=120)
    min_v = models.FloatField("lowest voltage")
    max_v = models.FloatField("highest voltage")
    #: The club's own radio or load that it is; it follows what the shelf says of that.
    asset = models.OneToOneField(
        "Asset",
        null=True,
        blank=True,
        on_delete=models.SET_NULL,
        related_name="as_equipment",
    )
    #: How that radio is used, as the shelf notes it: shares of time and of power.
    transmit_share = models.FloatField(null=True, blank=True)
    duty = models.FloatField(null=True, blank=True)

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
