"""Rotations, what they were made for, and what was looked for and tried."""

from __future__ import annotations

import uuid
from collections.abc import Sequence

from django.db import models
from django.db.models import F, Q

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.models import Asset
from powercore.event import plans
from powercore.event.problem import SERVE, WAIT

from .events import Event


class Snapshot(models.Model):
    """An event as it was handed to the core, frozen: what a rotation was made for."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="snapshots")
    schema_version = models.PositiveSmallIntegerField()
    sha256 = models.CharField(max_length=64)
    content = models.JSONField()
    made_at = models.DateTimeField(default=real_now)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["event", "sha256"], name="plan_snapshot_once"
            )
        ]

    def __str__(self) -> str:
        return self.sha256[:12]


class Rotation(models.Model):
    """All legs of all batteries for an event: a draft, the published one, or past."""

    class State(models.TextChoices):
        DRAFT = "draft", "draft"
        PUBLISHED = "published", "published"
        SUPERSEDED = "superseded", "superseded"
        TAKEN_BACK = "taken_back", "taken back"

    #: What is at work, or may still be.
    STANDS = (State.DRAFT, State.PUBLISHED)

    class Further(models.TextChoices):
        NOT_ASKED = "", "not asked for"
        ASKED = "asked", "asked for"
        DONE = "done", "done"

    #: Pins that could not be kept any more when it was made, each with the reason.
    lapsed: Sequence[str] = ()

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="rotations")
    snapshot = models.ForeignKey(Snapshot, on_delete=models.PROTECT)
    number = models.PositiveIntegerField()
    state = models.CharField(max_length=10, choices=State, default=State.DRAFT)
    made_at = models.DateTimeField(default=real_now)
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    published_at = models.DateTimeField(null=True)
    from_min = models.PositiveIntegerField(default=0)
    off_air_min = models.FloatField()
    reserve_min = models.FloatField()
    unserved_wh = models.FloatField()
    walks = models.PositiveIntegerField()
    #: Of the walks, those during which the sun is down at some time.
    night_walks = models.PositiveIntegerField(default=0)
    bay_changes = models.PositiveIntegerField(default=0)
    #: Minutes that stations are on a lower power step than agreed.
    low_min = models.FloatField(default=0)
    #: Hours that engines run for charging alone, and what charging burns. [L]
    engine_h = models.FloatField(default=0)
    fuel_l = models.FloatField(default=0)
    #: Minutes by which reliefs lack the slack they should have.
    thin_min = models.FloatField(default=0)
    #: Whether the worker goes on from the one start that was shown at once, and what
    #: it had before that (the figures' names and values); None: nothing better came.
    further = models.CharField(max_length=5, choices=Further, default="", blank=True)
    was: models.JSONField[dict[str, float] | None] = models.JSONField(null=True)
    #: What a coordinator changed to make it, and of which rotation.
    change = models.CharField(max_length=200, blank=True)
    changed_from = models.ForeignKey(
        "self", null=True, on_delete=models.SET_NULL, related_name="changed_to"
    )

    class Meta:
        ordering = ["-number"]
        constraints = [
            models.UniqueConstraint(
                fields=["event", "number"], name="plan_rotation_number"
            ),
            models.UniqueConstraint(
                fields=["event"],
                condition=Q(state="published"),
                name="plan_one_published_rotation",
            ),
        ]

    def __str__(self) -> str:
        return f"{self.get_state_display()} {self.number}"


class Leg(models.Model):
    """What one battery does between two whole minutes."""

    rotation = models.ForeignKey(
        Rotation, on_delete=models.CASCADE, related_name="legs"
    )
    kind = models.CharField(max_length=8)
    battery = models.UUIDField()
    place = models.UUIDField(null=True)
    crew = models.CharField(max_length=60, blank=True)
    round = models.PositiveIntegerField(null=True)
    start_min = models.IntegerField()
    end_min = models.IntegerField()
    start_soc = models.FloatField()
    end_soc = models.FloatField()

    class Meta:
        ordering = ["start_min", "end_min", "pk"]
        constraints = [
            models.CheckConstraint(
                name="plan_leg_ends_after_start",
                condition=Q(end_min__gt=F("start_min")),
            )
        ]

    def __str__(self) -> str:
        return f"{self.kind} {self.start_min}–{self.end_min}"

    @property
    def is_spare(self) -> bool:
        """Whether the battery waits at a station."""
        return self.kind == WAIT and self.place is not None

    @property
    def station(self) -> uuid.UUID | None:
        """The station where the battery is, in use or waiting."""
        return self.place if self.kind == SERVE or self.is_spare else None


class Pin(models.Model):
    """What every rotation of an event must keep between two times."""

    class Kind(models.TextChoices):
        STAYS = plans.STAYS, "battery stays there"
        AWAY = plans.AWAY, "keep away from there"
        NO_WALK = plans.NO_WALK, "no walk there"
        NO_SWAP = plans.NO_SWAP, "no swap there"
        LOW = plans.LOW, "low power there"

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="pins")
    kind = models.CharField(max_length=8, choices=Kind)
    battery = models.ForeignKey(
        Asset, null=True, on_delete=models.CASCADE, related_name="pins"
    )
    #: A station or a bay; none: any station.
    place = models.UUIDField(null=True)
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    made_at = models.DateTimeField(default=real_now)
    #: The draft that came with it; when that is taken back, the pin is lifted.
    draft = models.ForeignKey(
        Rotation, null=True, on_delete=models.SET_NULL, related_name="pins"
    )
    lifted_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["starts_at", "pk"]
        constraints = [
            models.CheckConstraint(
                name="plan_pin_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            )
        ]

    def __str__(self) -> str:
        return self.get_kind_display()


class Search(models.Model):
    """A search for a better rotation: how far it is, and the best so far."""

    class State(models.TextChoices):
        WAITING = "waiting", "waiting for its turn"
        RUNNING = "running", "looking"
        DONE = "done", "done"
        STOPPED = "stopped", "stopped"
        FAILED = "failed", "interrupted"

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="searches")
    rotation = models.ForeignKey(
        Rotation, on_delete=models.CASCADE, related_name="searches"
    )
    best = models.ForeignKey(
        Rotation, null=True, on_delete=models.SET_NULL, related_name="found_by"
    )
    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    passes = models.PositiveIntegerField(default=0)
    since = models.PositiveIntegerField(default=0)
    #: How much more use than planned the rotation should stand. [%]
    margin_pct = models.PositiveSmallIntegerField(default=0)
    #: Whether futures say what is better; then it plans for several margins in turn.
    by_futures = models.BooleanField(default=False)
    #: What its stations risk in futures: of what it began with, and of the best. [min]
    risk_start_min = models.FloatField(null=True)
    risk_min = models.FloatField(null=True)
    #: Whether it may choose low power for stations.
    may_lower = models.BooleanField(default=False)
    #: Minutes off the air of the first tier that no plan can be under, where worked
    #: out; it holds for plans that move batteries at half hours.
    least_min = models.FloatField(null=True)
    is_stop_asked = models.BooleanField(default=False)
    asked_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    asked_at = models.DateTimeField(default=real_now)
    heard_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    words = models.CharField(max_length=200, blank=True)

    class Meta:
        ordering = ["-asked_at"]
        constraints = [
            models.UniqueConstraint(
                fields=["event"],
                condition=Q(state__in=["waiting", "running"]),
                name="plan_one_search_at_a_time",
            )
        ]

    def __str__(self) -> str:
        return f"{self.get_state_display()}, {self.passes} passes"

    @property
    def aim(self) -> str:
        """What its plans are made for, or judged by."""
        if self.by_futures:
            return "judged by 200 futures"
        more = f"{self.margin_pct} % more use" if self.margin_pct else "use as planned"
        return f"planned for {more}"

    @property
    def then(self) -> str:
        """What it goes on to after the plan for use as planned."""
        if self.by_futures:
            return ", then 20 % and 35 % more use; 200 futures say what is better"
        return f", then {self.margin_pct} % more use" if self.margin_pct else ""

    @property
    def is_active(self) -> bool:
        """Whether it waits or runs."""
        return self.state in (self.State.WAITING, self.State.RUNNING)

    @property
    def took_s(self) -> float:
        """How long it has been going, or took. [s]"""
        return ((self.ended_at or real_now()) - self.asked_at).total_seconds()


class Trial(models.Model):
    """A rotation in many futures: asked for, or what came of it."""

    class CuresState(models.TextChoices):
        NOT_ASKED = "", "not asked for"
        ASKED = "asked", "being worked out"
        DONE = "done", "worked out"
        FAILED = "failed", "interrupted"

    rotation = models.OneToOneField(
        Rotation, on_delete=models.CASCADE, related_name="trial"
    )
    asked_at = models.DateTimeField(default=real_now)
    #: `powercore.futures.stress.Stress` as JSON; None while it is worked out.
    content = models.JSONField(null=True)
    has_failed = models.BooleanField(default=False)
    #: What would help, once somebody asked: `powercore.futures.cures.Cures`.
    cures_state = models.CharField(
        max_length=6, choices=CuresState, default=CuresState.NOT_ASKED
    )
    cures = models.JSONField(null=True)

    def __str__(self) -> str:
        return f"trial of {self.rotation}"

    @property
    def is_active(self) -> bool:
        """Whether something of it is still worked out."""
        if self.cures_state == self.CuresState.ASKED:
            return True
        return self.content is None and not self.has_failed


class CalendarFeed(models.Model):
    """The address at which calendars read an event's published walks."""

    event = models.OneToOneField(
        Event, on_delete=models.CASCADE, related_name="calendar_feed"
    )
    #: A digest of what the address ends in; that is shown once.
    digest = models.CharField(max_length=64, unique=True)

    def __str__(self) -> str:
        return f"calendar of {self.event}"
