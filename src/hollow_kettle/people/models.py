"""People, what they may do, and the club they belong to."""

from __future__ import annotations

import uuid
from datetime import timedelta
from typing import Any

from django.contrib.auth.models import AbstractUser, UserManager
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Case, Q, When

from hollow_kettle.clock import Clock, is_known_zone, real_now

from .names import plain_name


class PlainNames(UserManager["User"]):
    """Finds a sign-in by its name, in any case and with look-alike letters."""

    def get_by_natural_key(self, username: str | None) -> User:
        """Return the sign-in of a name as it was typed; raises DoesNotExist."""
        named = Q(username=username) | Q(plain=plain_name(username or ""))
        exact_first = Case(When(username=username, then=0), default=1)
        found = self.filter(named).order_by(exact_first).first()
        if found is None:
            raise User.DoesNotExist
        return found


class User(AbstractUser):
    """A sign-in. What the person did is kept with their actor."""

    plain = models.CharField(
        max_length=255,
        unique=True,
        blank=True,
        editable=False,
        error_messages={
            "unique": "That user name is taken, or reads like one that is: case "
            "and look-alike letters don't count."
        },
    )
    must_change = models.BooleanField(default=False, editable=False)

    objects = PlainNames()  # type: ignore[misc]

    def clean(self) -> None:
        """Work out the plain name before it is compared with the others'."""
        super().clean()
        self.plain = plain_name(self.username)

    def save(self, *args: Any, **kwargs: Any) -> None:
        """Keep the plain name with the name."""
        self.plain = self.plain or plain_name(self.username)
        super().save(*args, **kwargs)


class SecondFactor(models.Model):
    """The secret of the codes that a sign-in asks for beside its password."""

    user = models.OneToOneField(User, on_delete=models.CASCADE, related_name="second")
    secret = models.CharField(max_length=64)
    #: The time step whose code was used last: none opens twice.
    last_step = models.BigIntegerField()
    #: Digests of spare codes that were not used yet.
    spares = ArrayField(models.CharField(max_length=64), default=list)
    #: Wrong codes since a moment, some minutes ago at most.
    wrong = models.PositiveSmallIntegerField(default=0)
    wrong_since = models.DateTimeField(null=True)
    made_at = models.DateTimeField(default=real_now, editable=False)

    def __str__(self) -> str:
        return f"second factor of {self.user}"


class SignedIn(models.Model):
    """A browser in which somebody signed in; its session may have ended since."""

    session_key = models.CharField(max_length=40, unique=True)
    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="+")
    browser = models.CharField(max_length=80)
    began_at = models.DateTimeField(default=real_now, editable=False)
    seen_at = models.DateTimeField(default=real_now)

    def __str__(self) -> str:
        return self.browser


class Actor(models.Model):
    """Somebody who did something, with a sign-in or without."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    user = models.OneToOneField(
        User, null=True, blank=True, on_delete=models.SET_NULL, related_name="actor"
    )
    name = models.CharField(max_length=80)
    is_coordinator = models.BooleanField(default=False)
    #: Whether it is a script of the club, which signs nowhere in.
    is_script = models.BooleanField(default=False)
    created_at = models.DateTimeField(default=real_now, editable=False)

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Deed(models.Model):
    """Something that changed who may come in; roles at events are in their log."""

    class Kind(models.TextChoices):
        ADDED = "added", "added a person"
        COORDINATOR = "coordinator", "added a coordinator"
        LINK = "link", "made a link for a new password"
        CLOSED = "closed", "closed an account"
        CLUB = "club", "changed the club's name or time zone"
        SCRIPT = "script", "let a script in"
        SCRIPT_ENDED = "script_ended", "let a script in no more"
        SECOND_ON = "second_on", "took on a second factor"
        SECOND_OFF = "second_off", "dropped a second factor"

    at = models.DateTimeField(default=real_now, editable=False, db_index=True)
    #: Who did it; empty for whoever runs the server's commands.
    by = models.ForeignKey(
        Actor, null=True, on_delete=models.SET_NULL, related_name="deeds"
    )
    kind = models.CharField(max_length=12, choices=Kind)
    #: Whom it is about.
    about = models.ForeignKey(
        Actor, null=True, on_delete=models.SET_NULL, related_name="+"
    )

    class Meta:
        ordering = ["-at", "-pk"]

    def __str__(self) -> str:
        return self.get_kind_display()


class Role(models.TextChoices):
    """What an actor does at one event; coordinators are club-wide."""

    STATION_LEAD = "station_lead", "station lead"
    LOGGER = "logger", "logger"
    RUNNER = "runner", "runner"
    OBSERVER = "observer", "observer"


class Duty(models.Model):
    """One actor's role at one event, for a station lead at one station."""

    actor = models.ForeignKey(Actor, on_delete=models.CASCADE, related_name="duties")
    event_key = models.UUIDField()
    station_key = models.UUIDField(null=True, blank=True)
    role = models.CharField(max_length=20, choices=Role)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["actor", "event_key", "role", "station_key"],
                name="people_duty_once",
                nulls_distinct=False,
            ),
            models.CheckConstraint(
                name="people_lead_has_station",
                condition=~Q(role="station_lead") | Q(station_key__isnull=False),
            ),
        ]

    def __str__(self) -> str:
        return f"{self.actor}: {self.get_role_display()}"


class Club(models.Model):
    """The one club of this installation, its zone and its clock."""

    name = models.CharField(max_length=80)
    zone = models.CharField(max_length=60, default="UTC")
    clock_offset = models.DurationField(default=timedelta(0))

    class Meta:
        constraints = [
            models.CheckConstraint(name="people_one_club", condition=Q(pk=1)),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def clock(self) -> Clock:
        """The club's clock: real time, but for the demo."""
        return Clock(offset=self.clock_offset)

    @classmethod
    def the(cls) -> Club:
        """Return the club, with a plain name until it has been given one."""
        return cls.objects.filter(pk=1).first() or cls(pk=1, name="Our club")

    @property
    def has_known_zone(self) -> bool:
        """Whether the zone is an IANA zone of this machine."""
        return is_known_zone(self.zone)


class EventPass(models.Model):
    """Lets whoever holds it take part in one event for some hours, without account."""

    uid = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    event_key = models.UUIDField(db_index=True)
    #: What the event is called, for who joins.
    event_name = models.CharField(max_length=80)
    role = models.CharField(max_length=20, choices=Role)
    station_key = models.UUIDField(null=True, blank=True)
    #: Digests of what the link and the spoken code say; the words are shown once.
    link_digest = models.CharField(max_length=64, unique=True)
    code_digest = models.CharField(max_length=64, unique=True)
    made_by = models.ForeignKey(Actor, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(default=real_now, editable=False)
    expires_at = models.DateTimeField()
    revoked_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-made_at"]
        constraints = [
            models.CheckConstraint(
                name="people_pass_lead_has_station",
                condition=~Q(role="station_lead") | Q(station_key__isnull=False),
            ),
        ]

    def __str__(self) -> str:
        return f"pass: {self.get_role_display()}"

    @property
    def is_open(self) -> bool:
        """Whether it lets anybody in now."""
        return self.revoked_at is None and real_now() < self.expires_at

    @property
    def left_min(self) -> float:
        """How long it lasts yet. [min]"""
        return (self.expires_at - real_now()).total_seconds() / 60

    @property
    def ended(self) -> str:
        """Why it lets nobody in; empty while it does."""
        if self.revoked_at is not None:
            return "revoked"
        return "" if self.is_open else "ended"


class Guest(models.Model):
    """Somebody who takes part by a pass; their entries stay when it ends."""

    actor = models.OneToOneField(Actor, on_delete=models.CASCADE, related_name="guest")
    event_pass = models.ForeignKey(
        EventPass, on_delete=models.PROTECT, related_name="guests"
    )

    def __str__(self) -> str:
        return str(self.actor)


class PassTry(models.Model):
    """A code that was wrong, so that guessing is slow."""

    at = models.DateTimeField(default=real_now, db_index=True)
    digest = models.CharField(max_length=64)

    def __str__(self) -> str:
        return f"wrong code at {self.at:%H:%M}"
