"""
What a phone kept while it had no network, taken item by item.

A phone makes each entry's key when it is typed, keeps it until it is acknowledged, and
sends it again when it is not sure. Nothing is refused: what can't be understood waits
for a coordinator as it came.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID, uuid5

from django.core import signing
from django.core.exceptions import PermissionDenied
from django.db import transaction

from hollow_kettle.clock import moment_of, real_now
from hollow_kettle.log.models import Kind
from hollow_kettle.log.services import Receipt, Sent
from hollow_kettle.people.access import Access, access_for
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.models import Asset
from hollow_kettle.ui.forms import FIRST_YEAR, LAST_YEAR

from . import services
from .follow import follow
from .forms import EntryForm
from .line import errors_of
from .noting import Sending, note_and_hold, note_near_miss
from .whats import FORMS

#: At most so many entries of one phone are taken at once.
MOST = 100
#: A phone's clock may be so far off before its own time is not believed. [s]
MOST_SKEW_S = 3 * 86400
_SALT = "field.author"
#: What of an entry is kept beside its fields.
_KEPT = ("key", "what", "typed_at", "late")
_KINDS = {
    "reading": Kind.READING,
    "swap": Kind.SWAP,
    "move": Kind.MOVE,
    "source": Kind.SOURCE,
    "panel": Kind.PANEL,
    "fault": Kind.FAULT,
    "station": Kind.OFF_AIR,
}


@dataclass(frozen=True, slots=True)
class Batch:
    """What a phone sends: its name, its clock, its entries."""

    device: str
    #: How far the phone's clock is behind ours. [s]
    skew_s: float
    entries: list[Mapping[str, Any]]
    #: Batteries by what was said of them, once for all entries.
    said: dict[str, Asset | None] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Answer:
    """What became of one entry; the phone forgets what was acknowledged."""

    key: str
    is_kept: bool
    words: str
    #: The form with what it asks, where somebody is there to answer.
    asks: EntryForm | None = None


class NotABatch(ValueError):
    """What was sent is no batch at all."""


def author_token(actor: Actor) -> str:
    """What a page carries so that its entries stay its author's, whoever sends them."""
    return signing.dumps(str(actor.pk), salt=_SALT)


def read_batch(body: bytes) -> Batch:
    """
    Read what a phone sent.

    Raises
    ------
    NotABatch
        If it is not one; saying what is missing.
    """
    try:
        sent = plain(json.loads(body))
    except (ValueError, RecursionError) as error:
        raise NotABatch("This is not JSON.") from error
    entries = sent.get("entries") if isinstance(sent, dict) else None
    if not isinstance(entries, list) or len(entries) > MOST:
        raise NotABatch(f"A batch has “entries”: a list of at most {MOST}.")
    if not all(isinstance(one, dict) for one in entries):
        raise NotABatch("Each entry is an object with “key”, “what” and “fields”.")
    device = str(sent.get("device", ""))[:50] or "phone"
    shown = _moment(sent.get("sent_at"))
    skew_s = 0.0 if shown is None else (real_now() - shown).total_seconds()
    return Batch(f"phone {device}", skew_s, entries)


def plain(value: Any) -> Any:
    """A value of JSON without what no database keeps: NUL, halves of characters."""
    if isinstance(value, str):
        return value.replace("\0", "").encode("utf-8", "replace").decode()
    if isinstance(value, list):
        return [plain(one) for one in value]
    if isinstance(value, dict):
        return {plain(key): plain(one) for key, one in value.items()}
    if isinstance(value, float) and not math.isfinite(value):
        return str(value)
    return value


def _moment(text: Any) -> datetime | None:
    found = moment_of(text)
    if found is None or not FIRST_YEAR < found.year < LAST_YEAR:
        return None  # a clock that was never set
    return found


def take(
    event: Event, batch: Batch, sender: Access, *, aside: str = ""
) -> list[Answer]:
    """
    Take a phone's entries, one by one; each answer stands for itself.

    `aside`: why all of them wait for a coordinator, whatever they say.
    """
    authors: dict[str, Access | None] = {}
    answers = []
    with transaction.atomic():
        for entry in batch.entries:
            token = str(entry.get("author", ""))
            if token not in authors:
                authors[token] = _author(token)
            access = authors[token] or sender
            answers.append(_take(event, batch, entry, access, aside))
    follow(event)
    return answers


def _author(token: str) -> Access | None:
    """Who typed it, if the page that it was typed on says so."""
    try:
        key = signing.loads(token, salt=_SALT)
    except signing.BadSignature:
        return None
    actor = Actor.objects.filter(pk=key).first()
    return None if actor is None else access_for(actor)


def _take(
    event: Event,
    batch: Batch,
    entry: Mapping[str, Any],
    access: Access,
    aside: str = "",
) -> Answer:
    said = str(entry.get("key", ""))
    try:
        key = UUID(said)
    except ValueError:
        key = uuid5(event.pk, json.dumps(entry, sort_keys=True, default=str))
    typed = _moment(entry.get("typed_at")) or real_now()
    skew_s = batch.skew_s if abs(batch.skew_s) < MOST_SKEW_S else 0.0
    at = event.clock.at(typed + timedelta(seconds=skew_s))
    what, fields = str(entry.get("what", "")), entry.get("fields")
    form_class = FORMS[what][1] if what in FORMS else None
    sending = Sending(
        device=batch.device,
        device_at=typed,
        skew_s=batch.skew_s,
        raw={"sent": {name: entry.get(name) for name in _KEPT}},
        is_last=False,
    )
    if form_class is None or not isinstance(fields, dict):
        whole = {name: value for name, value in entry.items() if name != "author"}
        sending = replace(sending, raw={"sent": whole})
        return _aside(event, key, said, access, sending, at, "it is no entry we know")
    is_late = bool(entry.get("late"))
    data = {str(name): str(value)[:500] for name, value in fields.items()}
    sending = replace(sending, raw={**data, **sending.raw})
    if aside:
        return _aside(event, key, said, access, sending, at, aside)
    data.setdefault("how", "receiving")
    data |= {"uid": str(key)} | ({"sure": "on"} if is_late else {})
    form = form_class(data, event=event, now=at, said=batch.said)
    if not form.is_valid():
        if not is_late:
            if form.stops:
                note_near_miss(access, event, form)
            return Answer(said, False, errors_of(form), form)
        return _aside(event, key, said, access, sending, at, errors_of(form))
    try:
        receipt, held = note_and_hold(access, event, what, form, sending)
    except PermissionDenied:
        why = "it is of a station that its author does not log for"
        return _aside(event, key, said, access, sending, at, why)
    words = _words(receipt, FORMS[what][0])
    if held:
        words += f" On hold until somebody releases it: {', '.join(held)}."
    return Answer(said, True, words)


def _aside(  # noqa: PLR0913 - an entry as it came, and why it waits
    event: Event,
    key: UUID,
    said: str,
    access: Access,
    sending: Sending,
    at: datetime,
    why: str,
) -> Answer:
    """Keep what can't be used as it came, for a coordinator to look at."""
    assert access.actor is not None  # noqa: S101 - who may log is signed in
    entry = sending.raw["sent"]
    what = str(entry.get("what", ""))
    receipt = services.note(
        event,
        _KINDS.get(what, Kind.NOTE),
        by=access.actor,
        at=at,
        refresh=False,
        note=json.dumps(sending.raw, default=str)[:500],
        sent=Sent(
            device=sending.device,
            uid=key,
            raw=dict(sending.raw),
            said_when=str(entry.get("typed_at", "")),
            aside=why[:200],
        ),
    )
    return Answer(said, True, _words(receipt))


def _words(receipt: Receipt | None, what: str = "Entry") -> str:
    if receipt is None:
        return "Nothing was read."
    if receipt.is_repeat:
        return f"{what} was saved before; it counts once."
    if receipt.standing != "kept":
        return f"Kept aside: {receipt.why}. A coordinator will look at it."
    return f"{what} is saved."
