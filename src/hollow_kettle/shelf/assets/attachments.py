"""Photos and documents: checked, re-encoded, kept."""

from __future__ import annotations

import io
import re
from pathlib import PurePath

from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import UploadedFile
from PIL import Image, ImageOps, UnidentifiedImageError

from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.models import Asset, Attachment

MAX_PHOTO_BYTES = 12 * 1024 * 1024
MAX_PAPER_BYTES = 5 * 1024 * 1024
#: The longer side of a kept photo. [px]
LONG_SIDE = 1600
#: More pixels than any camera's are refused before they are decoded.
MAX_PIXELS = 60_000_000
MOST = 20
_FORMATS = ("JPEG", "PNG", "WEBP")


def attach(asset: Asset, *, file: UploadedFile, words: str, by: Actor) -> Attachment:
    """
    Keep a photo or document with an asset.

    A photo is decoded, turned upright, made smaller and written anew as JPEG, so
    that neither its place nor anything hidden in it is kept. A document must be a
    PDF or plain text.

    Raises
    ------
    ValidationError
        If it is too large, of another type, or the asset has twenty already.
    """
    if asset.attachments.count() >= MOST:
        raise ValidationError(f"{asset.tag} has {MOST} already; remove one first.")
    content = file.read(MAX_PHOTO_BYTES + 1)
    name = _name(file.name or "file")
    if content[:5] == b"%PDF-":
        kind, content_type = Attachment.PAPER, "application/pdf"
        name = f"{name}.pdf"
    elif _is_text(content):
        kind, content_type = Attachment.PAPER, "text/plain; charset=utf-8"
        name = f"{name}.txt"
    else:
        content = photo_of(content)
        kind, content_type = Attachment.PHOTO, "image/jpeg"
        name = f"{name}.jpg"
    if kind == Attachment.PAPER and len(content) > MAX_PAPER_BYTES:
        raise ValidationError(
            f"The document has more than {MAX_PAPER_BYTES // 1024 // 1024} MB."
        )
    return Attachment.objects.create(
        asset=asset,
        kind=kind,
        name=name,
        content_type=content_type,
        content=content,
        size=len(content),
        words=words,
        added_by=by,
    )


def _name(name: str) -> str:
    return (
        re.sub(r"[^A-Za-z0-9._-]+", "-", PurePath(name).stem)[:80].strip("-.") or "file"
    )


def _is_text(content: bytes) -> bool:
    if b"\x00" in content or not content.strip():
        return False
    try:
        text = content.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return not text.lstrip("\ufeff \r\n\t").startswith("<")


def photo_of(content: bytes) -> bytes:
    """
    Return a photo as it is kept: upright, small, without anything hidden in it.

    Raises
    ------
    ValidationError
        If it is too large or no photo.
    """
    if len(content) > MAX_PHOTO_BYTES:
        raise ValidationError(
            f"The photo has more than {MAX_PHOTO_BYTES // 1024 // 1024} MB."
        )
    try:
        with Image.open(io.BytesIO(content), formats=_FORMATS) as image:
            if image.width * image.height > MAX_PIXELS:
                raise ValidationError(
                    f"The photo has {image.width} × {image.height} pixels; "
                    f"{MAX_PIXELS // 1_000_000} million are the most."
                )
            upright = ImageOps.exif_transpose(image).convert("RGB")
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError) as error:
        raise ValidationError(
            "It must be a JPEG, PNG or WebP photo, a PDF, or plain text.",
            code="type",
        ) from error
    except Image.DecompressionBombError as error:
        raise ValidationError("The photo has too many pixels.") from error
    upright.thumbnail((LONG_SIDE, LONG_SIDE))
    out = io.BytesIO()
    upright.save(out, "JPEG", quality=82, optimize=True)
    return out.getvalue()
