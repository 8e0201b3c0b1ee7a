"""Events and the batteries that stay joined there."""

from __future__ import annotations

import uuid
from datetime import datetime, timedelta
from typing import ClassVar

from django.db import models
from django.db.models import F, Q
from django.urls import reverse

from hollow_kettle.clock import Clock, real_now
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.people.models import Actor
from hollow_kettle.ranges import possible
from hollow_kettle.shelf.models import Asset
from powercore import limits
from powercore.event.joining import TIE

SKY_CHOICES = [
    ("none", "no sun at all"),
    ("forecast", "the forecast"),
    ("clear", "a clear sky"),
]


class Purpose(models.TextChoices):
    """What an event is for; reserve and sky counted on follow from it."""

    CONTEST = "contest", "contest"
    EXERCISE = "exercise", "exercise"
    EMERGENCY = "emergency", "emergency"
    DEMONSTRATION = "demonstration", "demonstration"


class Event(models.Model):
    """A Field Day, an exercise, an emergency: a span of time with stations."""

    class State(models.TextChoices):
        PLANNED = "planned", "being planned"
        RUNNING = "running", "under way"
        CLOSED = "closed", "closed"

    #: From which state an event may go to which.
    WAYS: ClassVar = {
        State.PLANNED: (State.RUNNING,),
        State.RUNNING: (State.CLOSED, State.PLANNED),
        State.CLOSED: (State.RUNNING,),
    }

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=80)
    zone = models.CharField(max_length=60)
    starts_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    state = models.CharField(max_length=8, choices=State, default=State.PLANNED)
    clock_offset = models.DurationField(default=timedelta(0))
    lateness_min = models.PositiveSmallIntegerField(
        "usual lateness of a walk", default=limits.USUAL_LATENESS_MIN
    )
    batteries = models.ManyToManyField(Asset, blank=True, related_name="events")
    purpose = models.CharField(max_length=14, choices=Purpose, default=Purpose.EXERCISE)
    is_own_power = models.BooleanField("own power only", default=False)
    first_tier_sky = models.CharField(
        "first tier counts on", max_length=8, choices=SKY_CHOICES, default="none"
    )
    other_sky = models.CharField(
        "others count on", max_length=8, choices=SKY_CHOICES, default="forecast"
    )
    yard_sky = models.CharField(
        "panels at the yard count with",
        max_length=8,
        choices=SKY_CHOICES,
        default="none",
    )
    settle_min = models.PositiveSmallIntegerField("rest before charging", default=0)
    #: How cold batteries get where they charge; None: not counted. [°C]
    yard_cold_c = models.FloatField("cold in the yard", null=True, blank=True)
    lithium_reserve_pct = models.FloatField("reserve of lithium", null=True, blank=True)
    lead_reserve_pct = models.FloatField("reserve of lead-acid", null=True, blank=True)
    two_at_night = models.BooleanField("nobody alone in the dark", default=True)
    sky_origin = models.CharField(max_length=120, blank=True)
    copied_from = models.ForeignKey(
        "self", null=True, blank=True, on_delete=models.SET_NULL, related_name="copies"
    )

    class Meta:
        ordering = ["-starts_at"]
        constraints = [
            possible(
                "plan_event_possible",
                {
                    "lateness_min": limits.LATENESS_MIN,
                    "settle_min": limits.SETTLE_MIN,
                    "yard_cold_c": limits.CELSIUS,
                    "lithium_reserve_pct": limits.RESERVE.percent,
                    "lead_reserve_pct": limits.RESERVE.percent,
                },
            ),
            models.CheckConstraint(
                name="plan_event_not_too_long",
                condition=Q(
                    ends_at__lte=F("starts_at")
                    + timedelta(minutes=limits.SPAN_MIN.high)
                ),
            ),
            models.CheckConstraint(
                name="plan_event_ends_after_start",
                condition=Q(ends_at__gt=F("starts_at")),
            ),
        ]

    def __str__(self) -> str:
        return self.name

    def get_absolute_url(self) -> str:
        """The event's page in the Plan."""
        return reverse("plan:event_detail", args=[self.pk])

    @property
    def next_states(self) -> list[tuple[str, str]]:
        """Where it may go from its state, with what the button says."""
        words = {
            self.State.RUNNING: "The event begins",
            self.State.CLOSED: "Close the event",
            self.State.PLANNED: "Back to planning",
        }
        if self.state == self.State.CLOSED:
            words[self.State.RUNNING] = "Open it again"
        ways = self.WAYS[self.State(self.state)]
        if self.is_logged:
            ways = tuple(way for way in ways if way != self.State.PLANNED)
        return [(state, words[state]) for state in ways]

    @property
    def is_logged(self) -> bool:
        """Whether anything was logged at it; then it was more than planned."""
        return FieldEntry.objects.filter(event_key=self.pk).exists()

    @property
    def units(self) -> models.QuerySet[Asset]:
        """Its batteries as plans move them: of a joined set only the first."""
        return self.batteries.exclude(pk__in=self.joined.values("battery"))

    @property
    def set_tags(self) -> dict[uuid.UUID, str]:
        """Tags of its joined sets, by the first battery of each."""
        found: dict[uuid.UUID, str] = {}
        for row in self.joined.select_related("lead", "battery"):
            before = found.get(row.lead_id, row.lead.tag)
            found[row.lead_id] = f"{before}{TIE}{row.battery.tag}"
        return found

    @property
    def unit_tags(self) -> dict[uuid.UUID, str]:
        """What plans move, by its tag or those of its set, in order of tags."""
        units = self.units.order_by("tag").values_list("pk", "tag")
        sets = self.set_tags
        return {key: sets.get(key, tag) for key, tag in units}

    @property
    def clock(self) -> Clock:
        """The event's own clock."""
        return Clock(offset=self.clock_offset)

    @property
    def last_moment(self) -> datetime:
        """The last moment its log can speak of: now, or its end once it is over."""
        return min(self.clock.now(), self.ends_at)

    @property
    def span_min(self) -> int:
        """Length. [min]"""
        return round((self.ends_at - self.starts_at).total_seconds() / 60)

    def minute_of(self, moment: datetime) -> float:
        """Minutes from the event's start to a moment."""
        return (moment - self.starts_at).total_seconds() / 60

    def moment_of(self, minute: float) -> datetime:
        """The moment some minutes after the event's start."""
        return self.starts_at + timedelta(minutes=minute)


class Joined(models.Model):
    """A battery that stays joined to another for the event: they move as one."""

    event = models.ForeignKey(Event, on_delete=models.CASCADE, related_name="joined")
    lead = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="+")
    battery = models.ForeignKey(Asset, on_delete=models.CASCADE, related_name="+")

    class Meta:
        ordering = ["lead__tag", "battery__tag"]
        constraints = [
            models.UniqueConstraint(
                fields=["event", "battery"], name="plan_joined_once"
            ),
            models.CheckConstraint(
                name="plan_joined_to_another", condition=~Q(lead=F("battery"))
            ),
        ]

    def __str__(self) -> str:
        return f"{self.lead.tag}+{self.battery.tag}"


#: What was removed can be brought back for so long. Common practice, no source.
KEPT = timedelta(days=7)


class ChangeNote(models.Model):
    """One line of an event's change log: what of its set-up was changed, by whom."""

    event = models.ForeignKey(
        Event, on_delete=models.CASCADE, related_name="change_notes"
    )
    made_at = models.DateTimeField(default=real_now)
    made_by = models.ForeignKey(Actor, null=True, on_delete=models.SET_NULL)
    words = models.CharField(max_length=300)
    #: What it removed, as text, while that can be brought back.
    removed = models.TextField(blank=True, default="")

    class Meta:
        ordering = ["-made_at", "-pk"]

    def __str__(self) -> str:
        return self.words

    @property
    def can_come_back(self) -> bool:
        """Whether what it removed can still be brought back."""
        return self.removed != "" and real_now() - self.made_at < KEPT
