"""Which of an event's rotations counts."""

from __future__ import annotations

from hollow_kettle.plan.models import Event, Rotation


def current_rotation(event: Event) -> Rotation | None:
    """The rotation that counts: published, else the latest draft."""
    return (
        event.rotations.filter(state=Rotation.State.PUBLISHED).first()
        or event.rotations.filter(state=Rotation.State.DRAFT).first()
    )


def published(event: Event) -> Rotation | None:
    """The published rotation."""
    found = event.rotations.filter(state=Rotation.State.PUBLISHED)
    return found.select_related("snapshot").first()
