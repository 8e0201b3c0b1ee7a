"""Changes to people and the club."""

from __future__ import annotations

from uuid import UUID

from axes.models import AccessAttempt
from django.contrib.auth.password_validation import validate_password
from django.contrib.auth.tokens import default_token_generator
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.db.models import Q
from django.urls import reverse
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_encode

from hollow_kettle.ui.asked import SAVED_MEANWHILE

from .models import Actor, Club, Deed, Duty, User
from .names import plain_name


@transaction.atomic
def make_person(
    username: str,
    *,
    password: str,
    name: str = "",
    is_coordinator: bool = False,
    must_change: bool = False,
    by: Actor | None = None,
) -> Actor:
    """
    Make a sign-in with its actor; `must_change` where somebody else knows the password.

    `by` is who made it; None: whoever runs the server's commands.

    Raises
    ------
    django.core.exceptions.ValidationError
        If the name is taken or the password too weak.
    """
    user = User(username=username, must_change=must_change)
    try:
        user.full_clean(exclude=["password"])
    except ValidationError as error:
        if taken := error.message_dict.get("plain"):
            raise ValidationError(taken) from error
        raise
    validate_password(password, user)
    user.set_password(password)
    try:
        with transaction.atomic():
            user.save()
    except IntegrityError as error:
        raise ValidationError(f"{SAVED_MEANWHILE} {username} is there.") from error
    made = Actor.objects.create(
        user=user, name=name or username, is_coordinator=is_coordinator
    )
    kind = Deed.Kind.COORDINATOR if is_coordinator else Deed.Kind.ADDED
    Deed.objects.create(kind=kind, by=by, about=made)
    return made


def give_duty(
    actor: Actor, *, event_key: UUID, role: str, station_key: UUID | None = None
) -> Duty:
    """Give somebody a role at an event."""
    duty, _ = Duty.objects.get_or_create(
        actor=actor, event_key=event_key, role=role, station_key=station_key
    )
    return duty


def set_password(user: User, password: str) -> None:
    """
    Give a sign-in the password that its own person chose; its sessions end.

    Its form has looked already whether it is strong enough.
    """
    user.set_password(password)
    user.must_change = False
    user.save()
    unlock(user.username)


@transaction.atomic
def close_sign_in(user: User, *, by: Actor) -> None:
    """
    Close a sign-in and all its sessions, at once and for good.

    The old password is gone: opened again with a link, no old session lives on.
    """
    user.is_active = False
    user.set_unusable_password()
    user.save()
    Deed.objects.create(kind=Deed.Kind.CLOSED, by=by, about=_actor_of(user))


def _actor_of(user: User) -> Actor | None:
    return Actor.objects.filter(user=user).first()


@transaction.atomic
def new_link(user: User, *, by: Actor) -> str:
    """Return the path of a page that sets a new password once; opens the sign-in."""
    if not user.is_active:
        user.is_active = True
        user.save()
    Deed.objects.create(kind=Deed.Kind.LINK, by=by, about=_actor_of(user))
    return reverse(
        "people:new_password",
        kwargs={
            "uidb64": urlsafe_base64_encode(force_bytes(user.pk)),
            "token": default_token_generator.make_token(user),
        },
    )


def unlock(username: str) -> int:
    """Forget failed sign-ins of a name; return how many there were."""
    name = plain_name(username)
    failed = AccessAttempt.objects.filter(
        Q(username=name) | Q(username__startswith=f"{name} ")
    )
    return failed.delete()[0]


@transaction.atomic
def set_club(*, name: str, zone: str, by: Actor) -> Club:
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
    Deed.objects.create(kind=Deed.Kind.CLUB, by=by)
    return club
