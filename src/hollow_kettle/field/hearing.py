"""A line that was understood, noted for whoever typed it."""

from __future__ import annotations

from uuid import UUID

from hollow_kettle.people.access import Access
from powercore.logline.parse import Choice

from .line import Ear, Heard, errors_of
from .noting import Sending, note_and_hold, note_near_miss


def note_heard(
    access: Access, ear: Ear, heard: Heard, key: UUID, device: str = "page"
) -> bool:
    """Note one line, or ask what its form asks; True where it counts newly."""
    what, form = ear.form(heard, key)
    if not form.is_valid():
        heard.asks = errors_of(form)
        if form.stops:
            note_near_miss(access, ear.event, form)
        if form.has_asked:
            heard.choices = (Choice("I'm sure: keep it", f"{heard.line} !"),)
        return False
    sending = Sending(device=device, raw={"line": heard.line})
    receipt, held = note_and_hold(access, ear.event, what, form, sending)
    if receipt is None:
        return False
    heard.saved = "saved"
    if receipt.standing != "kept":
        heard.saved = f"kept aside: {receipt.why}"
    elif receipt.is_repeat:
        heard.saved = "saved before; it counts once"
    if held:
        heard.saved += f"; on hold until somebody releases it: {', '.join(held)}"
    return receipt.counts_newly
