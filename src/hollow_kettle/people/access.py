"""Who may see and do what; the one place that decides it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property, wraps
from typing import Any, Concatenate, ParamSpec
from uuid import UUID

from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse

from .models import Actor, Duty, EventPass, Guest, Role, User

P = ParamSpec("P")


@dataclass
class Access:
    """What one signed-in person may see and do."""

    actor: Actor | None
    #: The pass by which somebody without an account takes part.
    event_pass: EventPass | None = None

    @property
    def is_coordinator(self) -> bool:
        """Whether the person coordinates the club's power."""
        return self.actor is not None and self.actor.is_coordinator

    @cached_property
    def duties(self) -> list[Duty]:
        """The person's roles at events."""
        if self.actor is None:
            return []
        if (own := self.event_pass) is not None:
            role, station = own.role, own.station_key
            return [
                Duty(
                    actor=self.actor,
                    event_key=own.event_key,
                    role=role,
                    station_key=station,
                )
            ]
        return list(self.actor.duties.all())

    @property
    def is_guest(self) -> bool:
        """Whether somebody takes part by a pass: at one event, nowhere else."""
        return self.event_pass is not None

    def roles_at(self, event_key: UUID) -> set[str]:
        """Roles held at an event."""
        return {duty.role for duty in self.duties if duty.event_key == event_key}

    @property
    def event_keys(self) -> set[UUID]:
        """Events the person has a duty at."""
        return {duty.event_key for duty in self.duties}

    def may_log(self, event_key: UUID, station_key: UUID | None) -> bool:
        """Whether the person may note something about a station (None: the yard)."""
        roles = self.roles_at(event_key)
        if self.is_coordinator or roles & {Role.LOGGER, Role.RUNNER}:
            return True
        return any(
            duty.role == Role.STATION_LEAD
            and duty.event_key == event_key
            and duty.station_key == station_key
            for duty in self.duties
        )

    def own_stations(self, event_key: UUID) -> set[UUID]:
        """Stations of somebody who logs for those only; empty for all others."""
        roles = self.roles_at(event_key)
        if self.is_coordinator or roles & {Role.LOGGER, Role.RUNNER}:
            return set()
        return {
            duty.station_key
            for duty in self.duties
            if duty.event_key == event_key and duty.station_key is not None
        }

    def may_log_something(self, event_key: UUID) -> bool:
        """Whether there is anything at all that the person may note."""
        return self.is_coordinator or bool(
            self.roles_at(event_key) & {Role.LOGGER, Role.RUNNER, Role.STATION_LEAD}
        )


def access_for(actor: Actor) -> Access:
    """What somebody may see and do, with an account or by the pass they joined by."""
    guest = Guest.objects.select_related("event_pass").filter(actor=actor).first()
    return Access(actor, guest.event_pass if guest is not None else None)


def access_of(request: HttpRequest) -> Access:
    """Return what the person behind a request may do."""
    access: Access = request.access  # type: ignore[attr-defined]
    return access


def ended_guest_of(request: HttpRequest) -> Guest | None:
    """Who joined by a pass that has ended, and is nobody now; None for all others."""
    ended: Guest | None = getattr(request, "ended_guest", None)
    return ended


def actor_of(request: HttpRequest) -> Actor:
    """Return the actor behind a signed-in request."""
    actor = access_of(request).actor
    if actor is None:
        raise PermissionDenied
    return actor


def user_of(request: HttpRequest) -> User:
    """Return the account behind a request; who joined by a pass has none (403)."""
    if not isinstance(request.user, User):
        raise PermissionDenied
    return request.user


def coordinator_of(request: HttpRequest) -> Actor:
    """Return the coordinator behind a request; others are told so (403)."""
    if not access_of(request).is_coordinator:
        raise PermissionDenied
    return actor_of(request)


def coordinator_only(
    view: Callable[Concatenate[HttpRequest, P], HttpResponse],
) -> Callable[Concatenate[HttpRequest, P], HttpResponse]:
    """Let only coordinators through; others are told so (403)."""

    @wraps(view)
    def guarded(request: HttpRequest, *args: P.args, **kwargs: P.kwargs) -> Any:
        coordinator_of(request)
        return view(request, *args, **kwargs)

    return guarded
