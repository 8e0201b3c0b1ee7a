"""Changes to people and the club."""

from __future__ import annotations

from uuid import UUID

from axes.utils import reset
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from .models import Actor, Club, Duty, User


@transaction.atomic
def make_person(
    username: str, *, password: str, name: str = "", is_coordinator: bool = False
) -> Actor:
    """
    Make a sign-in with its actor.

    Raises
    ------
    django.core.exceptions.ValidationError
        If the name is taken or the password too weak.
    """
    user = User(username=username)
    user.full_clean(exclude=["password"])
    validate_password(password, user)
    user.set_password(password)
    user.save()
    return Actor.objects.create(
        user=user, name=name or username, is_coordinator=is_coordinator
    )


def give_duty(
    actor: Actor, *, event_key: UUID, role: str, station_key: UUID | None = None
) -> Duty:
    """Give somebody a role at an event."""
    duty, _ = Duty.objects.get_or_create(
        actor=actor, event_key=event_key, role=role, station_key=station_key
    )
    return duty


def unlock(username: str) -> int:
    """Forget failed sign-ins of a name; return how many there were."""
    return int(reset(username=username))


def set_club(*, name: str, zone: str) -> Club:
    """Name the club and its zone."""
    club = Club.the()
    club.name, club.zone = name, zone
    if not club.has_known_zone:
        raise ValidationError(
            f"There is no time zone '{zone}'; use an IANA name such as "
            "America/Chicago.",
            code="unknown_zone",
        )
    club.full_clean(validate_constraints=False)
    club.save()
    return club
