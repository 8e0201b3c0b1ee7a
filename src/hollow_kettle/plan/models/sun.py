"""Panels and the sky that an event counts on."""

from __future__ import annotations

from django.db import models
from django.db.models import F, Q

from hollow_kettle.shelf.models import Asset

from .events import Event
from .stations import Station
from .yard import Source


class SkyHour(models.Model):
    """The sky over an event from a moment on, until the next is given."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="sky")
    at = models.DateTimeField()
    oktas = models.FloatField("cloud", default=0)
    air_c = models.FloatField("air", default=20)
    wind_ms = models.FloatField("wind", default=1)
    global_w = models.FloatField(null=True, blank=True)
    beam_w = models.FloatField(null=True, blank=True)
    diffuse_w = models.FloatField(null=True, blank=True)

    class Meta:
        ordering = ["at"]
        constraints = [
            models.UniqueConstraint(fields=["event", "at"], name="plan_sky_once"),
            models.CheckConstraint(
                name="plan_sky_possible",
                condition=Q(oktas__range=(0, 8))
                & Q(air_c__range=(-60, 60))
                & Q(wind_ms__range=(0, 80)),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.at:%Y-%m-%d %H:%M}Z: {self.oktas:g}/8"


class PanelArray(models.Model):
    """Panels on one controller, at a station or for a source of the yard."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="arrays")
    station = models.ForeignKey(
        Station, null=True, blank=True, on_delete=models.CASCADE, related_name="arrays"
    )
    source = models.ForeignKey(
        Source, null=True, blank=True, on_delete=models.CASCADE, related_name="arrays"
    )
    name = models.CharField(max_length=60)
    panel = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    count = models.PositiveSmallIntegerField("in parallel", default=1)
    vmp_v = models.FloatField("max-power voltage")
    imp_a = models.FloatField("max-power current")
    voc_v = models.FloatField("open-circuit voltage")
    isc_a = models.FloatField("short-circuit current")
    power_pct_per_c = models.FloatField("power against warmth", default=-0.4)
    tilt = models.FloatField(default=30)
    azimuth = models.FloatField("faces", default=180)
    turns = models.PositiveSmallIntegerField("turned a day", default=0)
    is_on_ground = models.BooleanField("lies on the ground", default=False)
    method = models.CharField(
        "controller",
        max_length=4,
        choices=[("mppt", "tracking (MPPT)"), ("pwm", "plain (PWM)")],
        default="mppt",
    )
    max_a = models.FloatField("controller's limit", null=True, blank=True)
    cable_m = models.FloatField("cable, one way", default=5)
    cable_awg = models.PositiveSmallIntegerField("cable wire", default=12)
    dirt_pct = models.FloatField("dirt takes", default=2)
    factor = models.FloatField("reading against the model", default=1)
    factor_origin = models.CharField(max_length=120, blank=True)
    lit_from = models.TimeField("shaded until", null=True, blank=True)
    lit_until = models.TimeField("shaded after", null=True, blank=True)

    class Meta:
        ordering = ["name", "pk"]
        constraints = [
            models.CheckConstraint(
                name="plan_array_somewhere",
                condition=Q(station__isnull=False) ^ Q(source__isnull=False),
            ),
            models.CheckConstraint(
                name="plan_array_possible",
                condition=Q(voc_v__gt=F("vmp_v"))
                & Q(vmp_v__gt=0)
                & Q(imp_a__gt=0)
                & Q(isc_a__gt=0)
                & Q(count__range=(1, 50))
                & Q(power_pct_per_c__range=(-1, 0))
                & Q(tilt__range=(0, 90))
                & Q(azimuth__range=(0, 360))
                & Q(turns__range=(0, 24))
                & Q(dirt_pct__range=(0, 90))
                & Q(factor__range=(0.05, 2)),
            ),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def watts(self) -> float:
        """Power as printed, all panels. [W]"""
        return self.vmp_v * self.imp_a * self.count
