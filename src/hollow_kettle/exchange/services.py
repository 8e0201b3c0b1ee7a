"""Keep an upload between preview and apply."""

from __future__ import annotations

from collections.abc import Mapping
from uuid import UUID

from django.core.files.uploadedfile import UploadedFile

from hollow_kettle.people.models import Actor

from .files import MAX_BYTES, TableFault
from .models import Heading, Upload


def keep_upload(file: UploadedFile, *, purpose: str, by: Actor) -> Upload:
    """
    Keep an uploaded table until it is applied.

    Raises
    ------
    TableFault
        If the file is over the cap.
    """
    if (file.size or 0) > MAX_BYTES:
        raise TableFault(
            f"The file has {(file.size or 0) / 1e6:.1f} MB; "
            f"{MAX_BYTES / 1024 / 1024:.0f} MB is the most."
        )
    return Upload.objects.create(
        purpose=purpose,
        file_name=(file.name or "table")[:200],
        content=file.read(),
        actor=by,
    )


def upload_of(uid: UUID, *, purpose: str, by: Actor) -> Upload | None:
    """Return somebody's own upload, or None when it is gone."""
    return Upload.objects.filter(pk=uid, purpose=purpose, actor=by).first()


def headings_of(purpose: str) -> dict[str, str]:
    """What a club's own headings mean: heading in lower case to name of a column."""
    found = Heading.objects.filter(purpose=purpose).values_list("heading", "column")
    return {heading.casefold(): column for heading, column in found}


def all_headings(start: str) -> list[Heading]:
    """Headings that are remembered for purposes that begin alike."""
    found = Heading.objects.filter(purpose__startswith=start)
    return list(found.order_by("purpose", "heading"))


def remember_headings(purpose: str, meanings: Mapping[str, str]) -> None:
    """Remember what headings mean; an empty column forgets one."""
    for heading, column in meanings.items():
        if column:
            Heading.objects.update_or_create(
                purpose=purpose, heading=heading[:80], defaults={"column": column}
            )
        else:
            Heading.objects.filter(purpose=purpose, heading=heading[:80]).delete()
