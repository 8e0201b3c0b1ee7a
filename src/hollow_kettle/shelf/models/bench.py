"""Bench tests as they were typed, and estimates of quantities."""

from __future__ import annotations

import uuid

from django.db import models

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.ranges import possible

from . import limits
from .asset import Asset
from .details import quantity, text


class Estimate(models.Model):
    """A tested, learned or stated quantity of something; only accepted ones apply."""

    CAPACITY = "capacity_ah"
    RESISTANCE = "resistance_mohm"
    #: Of a station, by its name: real draw over what its list adds up to.
    DRAW = "draw_factor"
    #: Of the club's walks: minutes after their time.
    LATENESS = "lateness_min"
    #: Of the walk from the yard to a station, and of a bay, by their names.
    WALK = "walk_min"
    BAY = "bay_output"

    subject = models.UUIDField(db_index=True)
    quantity = models.CharField(max_length=24)
    mean = models.FloatField()
    sd = models.FloatField(default=0)
    n = models.PositiveIntegerField(default=1)
    #: What it is of, where the subject is no row: a station's name, the walks.
    name = models.CharField(max_length=80, blank=True)
    #: The event it was learned at.
    event_key = models.UUIDField(null=True, blank=True, db_index=True)
    origin = models.CharField(max_length=80)
    evidence = models.CharField(max_length=300, blank=True)
    made_at = models.DateTimeField(default=real_now)
    accepted_by = models.ForeignKey(
        Actor, null=True, blank=True, on_delete=models.SET_NULL
    )
    refused_by = models.ForeignKey(
        Actor, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
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

    @property
    def is_open(self) -> bool:
        """Whether nobody has accepted or refused it yet."""
        return self.accepted_by_id is None and self.refused_by_id is None


class BenchTest(models.Model):
    """One test at the bench: what was read, and what it comes to."""

    class What(models.TextChoices):
        """Kinds of test."""

        COUNTER = "counter", "capacity by amp-hour meter"
        TIMED = "timed", "capacity by timed readings"
        RUN_DOWN = "run_down", "run-down under its real load"
        SAG = "sag", "sag under load"
        RECHARGE = "recharge", "recharge from empty"
        BANK = "bank", "power bank run time"
        FINISHING = "finishing", "how the charger ended"

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    asset = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="tests")
    what = models.CharField(max_length=10, choices=What)
    made_at = models.DateTimeField()
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    meter = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    charger = models.ForeignKey(
        Asset, null=True, blank=True, on_delete=models.SET_NULL, related_name="+"
    )
    hours = quantity()
    temp_c = quantity(25)
    shown_ah = quantity()
    amps = quantity()
    start_v = quantity()
    end_v = quantity()
    end_a = quantity()
    was_full = models.BooleanField(default=False)
    was_emptied = models.BooleanField(default=False)
    is_off = models.BooleanField(default=True)
    note = text(300)
    #: What it comes to: a capacity [Ah], a resistance [mΩ], or energy [Wh].
    result = quantity()
    result_sd = quantity()
    is_bound = models.BooleanField(default=False)
    words = models.CharField(max_length=500, blank=True)
    estimate = models.ForeignKey(
        Estimate, null=True, blank=True, on_delete=models.SET_NULL, related_name="tests"
    )

    class Meta:
        ordering = ["-made_at"]
        constraints = [possible("shelf_bench_test_possible", limits.BENCH)]

    def __str__(self) -> str:
        return f"{self.get_what_display()} of {self.asset}"

    @property
    def unit(self) -> str:
        """Unit of its result."""
        return {"sag": "mΩ", "bank": "Wh", "finishing": ""}.get(self.what, "Ah")

    @property
    def can_be_accepted(self) -> bool:
        """Whether it proposes something to trust."""
        return self.result is not None and self.what not in ("bank", "finishing")


class BenchRow(models.Model):
    """One line of a timed test."""

    test = models.ForeignKey(BenchTest, on_delete=models.CASCADE, related_name="rows")
    minute = models.FloatField()
    amps = models.FloatField()
    volts = models.FloatField()

    class Meta:
        ordering = ["minute"]

    def __str__(self) -> str:
        return f"{self.minute:g} min: {self.amps:g} A, {self.volts:g} V"
