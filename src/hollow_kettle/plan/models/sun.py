"""Panels and the sky that an event counts on."""

from __future__ import annotations

from django.db import models
from django.db.models import F, Q

from hollow_kettle.ranges import possible
from hollow_kettle.shelf.models import Asset
from powercore import limits

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
            possible(
                "plan_sky_possible",
                {
                    "oktas": limits.OKTAS,
                    "air_c": limits.CELSIUS,
                    "wind_ms": limits.WIND_MS,
                },
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
    power_pct_per_c = models.FloatField(
        "power for each °C", default=100 * limits.USUAL_POWER_PER_C
    )
    tilt = models.FloatField(default=limits.USUAL_TILT)
    azimuth = models.FloatField("faces", default=limits.USUAL_AZIMUTH)
    turns = models.PositiveSmallIntegerField("turned a day", default=0)
    is_on_ground = models.BooleanField("lies on the ground", default=False)
    method = models.CharField(
        "controller",
        max_length=4,
        choices=[("mppt", "tracking (MPPT)"), ("pwm", "plain (PWM)")],
        default="mppt",
    )
    max_a = models.FloatField("controller's limit", null=True, blank=True)
    cable_m = models.FloatField("cable, one way", default=limits.USUAL_CABLE_M)
    cable_awg = models.PositiveSmallIntegerField(
        "cable wire", default=limits.USUAL_CABLE_AWG
    )
    dirt_pct = models.FloatField("lost to dirt", default=100 * limits.USUAL_DIRT)
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
                name="plan_array_open_above_mpp",
                condition=Q(voc_v__gt=F("vmp_v")),
            ),
            possible(
                "plan_array_possible",
                {
                    "count": limits.COUNT,
                    "vmp_v": limits.VMP_V,
                    "imp_a": limits.IMP_A,
                    "isc_a": limits.ISC_A,
                    "power_pct_per_c": limits.POWER_PER_C.percent,
                    "tilt": limits.TILT,
                    "azimuth": limits.AZIMUTH,
                    "turns": limits.TURNS,
                    "max_a": limits.CONTROLLER_A,
                    "cable_m": limits.CABLE_M,
                    "cable_awg": limits.AWG,
                    "dirt_pct": limits.DIRT.percent,
                    "factor": limits.FACTOR,
                },
            ),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def watts(self) -> float:
        """Power as printed, all panels. [W]"""
        return self.vmp_v * self.imp_a * self.count
