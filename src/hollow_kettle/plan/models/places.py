"""Places of an event, what stands round about them, and the walks between."""

from __future__ import annotations

from django.db import models
from django.db.models import F, Q

from hollow_kettle.ranges import possible
from powercore import limits

from .events import Event


class Site(models.Model):
    """A spot on the ground: a station's, or the charging yard's."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="sites")
    name = models.CharField(max_length=80)
    latitude = models.FloatField(null=True, blank=True)
    longitude = models.FloatField(null=True, blank=True)
    altitude_m = models.FloatField(null=True, blank=True)
    is_yard = models.BooleanField(default=False)

    class Meta:
        ordering = ["-is_yard", "name"]
        constraints = [
            models.UniqueConstraint(fields=["event", "name"], name="plan_site_once"),
            models.UniqueConstraint(
                fields=["event"], condition=Q(is_yard=True), name="plan_one_yard"
            ),
            possible(
                "plan_site_on_earth",
                {
                    "latitude": limits.LATITUDE,
                    "longitude": limits.LONGITUDE,
                    "altitude_m": limits.ALTITUDE_M,
                },
            ),
        ]

    def __str__(self) -> str:
        return self.name


class HorizonPoint(models.Model):
    """How high something stands over the horizon in a direction, seen from a site."""

    site = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="horizon")
    azimuth = models.FloatField()
    height = models.FloatField()

    class Meta:
        ordering = ["azimuth"]
        constraints = [
            models.UniqueConstraint(
                fields=["site", "azimuth"], name="plan_horizon_once"
            ),
            possible(
                "plan_horizon_possible",
                {"azimuth": limits.AZIMUTH, "height": limits.HEIGHT},
            ),
        ]

    def __str__(self) -> str:
        return f"{self.azimuth:g}°: {self.height:g}°"


class Walk(models.Model):
    """Walking minutes between two sites, where somebody knows better than the map."""

    a = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    b = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    minutes = models.PositiveSmallIntegerField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["a", "b"], name="plan_walk_once"),
            possible("plan_walk_possible", {"minutes": limits.WALK_MIN}),
            models.CheckConstraint(
                name="plan_walk_between_two", condition=~Q(a=F("b"))
            ),
        ]

    def __str__(self) -> str:
        return f"{self.a} – {self.b}: {self.minutes} min"
