"""Stations: what is there, when they are open, what they have of their own."""

from __future__ import annotations

import uuid

from django.contrib.postgres.constraints import ExclusionConstraint
from django.contrib.postgres.fields import RangeOperators
from django.db import models
from django.db.models import F, Q
from django.urls import reverse

from hollow_kettle.log.models import TsTzRange
from hollow_kettle.ranges import possible
from hollow_kettle.shelf.models import EquipmentType
from powercore import limits
from powercore.physics.loads import listening_share

from .events import Event
from .places import Site


class Station(models.Model):
    """A station of an event: its tier, its place, how a swap is made there."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="stations")
    site = models.OneToOneField(Site, on_delete=models.PROTECT, related_name="station")
    name = models.CharField(max_length=60)
    purpose = models.CharField(max_length=60, blank=True)
    tier = models.PositiveSmallIntegerField(default=limits.USUAL_TIER)
    changeover_s = models.PositiveSmallIntegerField(
        "changeover", default=limits.USUAL_CHANGEOVER_S
    )
    disconnect_v = models.FloatField("disconnect", null=True, blank=True)
    reconnect_v = models.FloatField("reconnect", null=True, blank=True)
    rest_min = models.PositiveSmallIntegerField("rest before reconnect", default=0)
    main_fuse_a = models.FloatField("main fuse", null=True, blank=True)
    feed_m = models.FloatField("feed, one way", null=True, blank=True)
    feed_awg = models.PositiveSmallIntegerField("feed wire", null=True, blank=True)
    operators = models.CharField(max_length=120, blank=True)
    spread_pct = models.FloatField("use may vary by", default=100 * limits.USUAL_SPREAD)
    low_words = models.CharField("words for low power", max_length=120, blank=True)
    watch_words = models.CharField("words for watch only", max_length=120, blank=True)
    #: How many batteries may wait there beside the one in use; operators swap.
    spares = models.PositiveSmallIntegerField("spares kept there", default=0)
    #: Inside its tier, what a minute off the air there counts.
    weight = models.FloatField(default=1)
    #: What may hurt somebody there: the first line of what is carried to it.
    hazards = models.CharField("mind there", max_length=200, blank=True)
    #: Nobody is there to swap, switch or be asked: a relay, a beacon.
    is_unattended = models.BooleanField("nobody there", default=False)
    #: How cold batteries get there; None: not counted. [°C]
    cold_c = models.FloatField("cold there", null=True, blank=True)
    #: Real draw over what its list adds up to, and where that was learned.
    draws = models.FloatField("draws, times its list", default=1)
    draws_from = models.CharField("learned at", max_length=80, blank=True)

    class Meta:
        ordering = ["tier", "name"]
        constraints = [
            models.UniqueConstraint(fields=["event", "name"], name="plan_station_once"),
            models.CheckConstraint(
                name="plan_unattended_swaps_nothing",
                condition=Q(is_unattended=False) | Q(spares=0),
            ),
            possible(
                "plan_station_possible",
                {
                    "tier": limits.TIER,
                    "changeover_s": limits.CHANGEOVER_S,
                    "disconnect_v": limits.DISCONNECT_V,
                    "reconnect_v": limits.DISCONNECT_V,
                    "rest_min": limits.REST_MIN,
                    "main_fuse_a": limits.MAIN_FUSE_A,
                    "feed_m": limits.FEED_M,
                    "feed_awg": limits.AWG,
                    "spread_pct": limits.SPREAD.percent,
                    "spares": limits.SPARES,
                    "weight": limits.WEIGHT,
                    "cold_c": limits.CELSIUS,
                    "draws": limits.DRAWS,
                },
            ),
        ]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        """The station's page."""
        return reverse("plan:station_detail", args=[self.event_id, self.pk])


class StationEquipment(models.Model):
    """Equipment at a station, and the power step it is run at."""

    station = models.ForeignKey(
        Station, on_delete=models.CASCADE, related_name="equipment"
    )
    equipment = models.ForeignKey(EquipmentType, on_delete=models.PROTECT)
    count = models.PositiveSmallIntegerField(default=1)
    step = models.CharField(
        max_length=8, choices=[("full", "full"), ("low", "low power")], default="full"
    )
    efficiency_pct = models.FloatField("converter's efficiency", default=100)
    idle_w = models.FloatField("converter's own draw", default=0)
    fills_wh = models.FloatField("full after", null=True, blank=True)
    used_from = models.DateTimeField(null=True, blank=True)
    used_until = models.DateTimeField(null=True, blank=True)
    shed_pct = models.FloatField("shed at", null=True, blank=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            possible(
                "plan_equipment_possible",
                {
                    "count": limits.COUNT,
                    "efficiency_pct": limits.EFFICIENCY.percent,
                    "idle_w": limits.IDLE_W,
                    "fills_wh": limits.FILLS_WH,
                    "shed_pct": limits.SHARE.percent,
                },
            )
        ]

    def __str__(self) -> str:
        return f"{self.count} × {self.equipment}"


#: The pattern that is as a station's own radio is noted on the shelf: a kit on the
#: shelf and a station in a plan then count the same.
AS_NOTED = "as-noted"


class OperatingPattern(models.Model):
    """How a station is operated: shares of time and the mode's duty factor."""

    key = models.SlugField(primary_key=True, max_length=40)
    name = models.CharField(max_length=60)
    transmit_share = models.FloatField()
    standby_share = models.FloatField(default=0)
    duty = models.FloatField()
    origin = models.CharField(max_length=120)

    class Meta:
        ordering = ["name"]
        constraints = [
            possible(
                "plan_pattern_possible",
                dict.fromkeys(
                    ("transmit_share", "standby_share", "duty"), limits.SHARE
                ),
            )
        ]

    def __str__(self) -> str:
        return self.name


class OpenHours(models.Model):
    """A stretch in which a station is open, and how it is operated then."""

    station = models.ForeignKey(Station, on_delete=models.CASCADE, related_name="hours")
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    pattern = models.ForeignKey(OperatingPattern, on_delete=models.PROTECT)
    step = models.CharField(
        max_length=8,
        choices=[("full", "full"), ("low", "low power"), ("watch", "receive watch")],
        default="full",
    )
    on_for_min = models.PositiveSmallIntegerField("listens for", default=0)
    every_min = models.PositiveSmallIntegerField("every", default=0)

    class Meta:
        ordering = ["starts_at"]
        constraints = [
            ExclusionConstraint(
                name="plan_hours_apart",
                expressions=[
                    (F("station"), RangeOperators.EQUAL),
                    (TsTzRange("starts_at", "ends_at"), RangeOperators.OVERLAPS),
                ],
            ),
            models.CheckConstraint(
                name="plan_hours_windows",
                condition=Q(on_for_min=0) | Q(every_min__gte=F("on_for_min")),
            ),
            models.CheckConstraint(
                name="plan_hours_end_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.station}: {self.pattern}"

    @property
    def on_share(self) -> float:
        """Share of the time that it is switched on. (0 to 1)"""
        return listening_share(self.on_for_min, self.every_min)

    @property
    def lasts_times(self) -> float:
        """How many times as long a battery lasts as with everything always on."""
        return 1 / self.on_share


class StationSupply(models.Model):
    """Power at a station itself: it feeds the load first."""

    class Kind(models.TextChoices):
        MAINS = "mains", "mains"
        GENERATOR = "generator", "generator"
        VEHICLE = "vehicle", "vehicle, engine on"

    station = models.ForeignKey(
        Station, on_delete=models.CASCADE, related_name="supplies"
    )
    kind = models.CharField(max_length=10, choices=Kind)
    name = models.CharField(max_length=60, blank=True)
    max_w = models.FloatField("highest power")
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    charges = models.BooleanField("also charges the battery there", default=False)
    transfer_s = models.FloatField("break at the transfer", default=0)

    class Meta:
        ordering = ["starts_at"]
        constraints = [
            possible(
                "plan_supply_possible",
                {"max_w": limits.SUPPLY_W, "transfer_s": limits.TRANSFER_S},
            ),
            models.CheckConstraint(
                name="plan_supply_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
        ]

    def __str__(self) -> str:
        return self.name or self.get_kind_display()
