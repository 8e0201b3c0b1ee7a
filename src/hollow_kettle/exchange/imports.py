"""The two steps of every import page: read and show, then apply what was seen."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar
from uuid import UUID

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpRequest

from hollow_kettle.people.access import actor_of

from .files import TableFault
from .forms import UploadForm
from .services import keep_upload, upload_of
from .tables import Preview

T = TypeVar("T")


def read_upload(
    request: HttpRequest,
    *,
    purpose: str,
    preview: Callable[[bytes], tuple[Preview, list[Any]]],
) -> dict[str, Any]:
    """
    Read an uploaded table and say what it would do; nothing is kept but the upload.

    Returns
    -------
    dict
        The form; and upload, preview and planned rows when the file could be read.
    """
    if request.method == "GET":
        return {"form": UploadForm()}
    form = UploadForm(request.POST, request.FILES)
    if form.is_valid():
        file = form.cleaned_data["file"]
        try:
            upload = keep_upload(file, purpose=purpose, by=actor_of(request))
            found, planned = preview(bytes(upload.content))
        except TableFault as fault:
            form.add_error("file", str(fault))
        else:
            return {
                "form": form,
                "upload": upload,
                "preview": found,
                "planned": planned,
            }
    return {"form": form}


def read_again(
    request: HttpRequest,
    uid: UUID,
    *,
    purpose: str,
    preview: Callable[[bytes], tuple[Preview, list[Any]]],
) -> dict[str, Any] | None:
    """Read a kept upload once more, after its headings were explained."""
    upload = upload_of(uid, purpose=purpose, by=actor_of(request))
    if upload is None:
        messages.error(request, "That upload has expired; upload the file again.")
        return None
    found, planned = preview(bytes(upload.content))
    return {
        "form": UploadForm(),
        "upload": upload,
        "preview": found,
        "planned": planned,
    }


def apply_upload(
    request: HttpRequest, uid: UUID, *, purpose: str, apply: Callable[[bytes], T]
) -> T | None:
    """Apply an upload whose preview was seen; None, and a message, when it can't."""
    upload = upload_of(uid, purpose=purpose, by=actor_of(request))
    if upload is None:
        messages.error(request, "That upload has expired; upload the file again.")
        return None
    try:
        return apply(bytes(upload.content))
    except TableFault as fault:
        words = str(fault)
    except ValidationError as error:
        words = " ".join(error.messages)
    messages.error(request, f"Nothing was imported: {words}")
    return None
