"""Meters set up, and their samples taken: each once, corrected, with the raw kept."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from django.db import transaction

from hollow_kettle.clock import moment_of, real_now
from hollow_kettle.exchange.readers import number, text
from hollow_kettle.exchange.tables import CellFault, Column, Preview, read_table
from hollow_kettle.people.models import Actor
from hollow_kettle.people.tokens import TooOften, digest_of, new_token, one_more
from hollow_kettle.plan.models import Event
from powercore.limits import METER_CELSIUS, READ_A, READ_AH, READ_V, Limit

from .models import Device, Sample

#: At most so many samples at once, and so often a minute.
MOST, MOST_A_MINUTE = 2000, 120
#: A sample may be so much later than now: clocks differ.
AHEAD = timedelta(minutes=5)
LAST_SEQ = 2**62
_SALT = "instruments.token"
LIMITS: dict[str, Limit] = {
    "volts": READ_V,
    "amps": READ_A,
    "amp_hours": READ_AH,
    "celsius": METER_CELSIUS,
}


class NotSamples(ValueError):
    """What was sent holds no samples; the words say what is missing."""


@dataclass(slots=True)
class Taken:
    """What became of a batch."""

    kept: int = 0
    repeats: int = 0
    #: Index and reason of each that was not kept.
    refused: list[tuple[int, str]] = field(default_factory=list)


def make_device(
    event: Event, *, by: Actor, name: str, kind: str, subject: UUID, **correction: float
) -> tuple[Device, str]:
    """Set up a meter; its token is in the answer only."""
    token = new_token(24)
    made = Device.objects.create(
        event=event,
        name=name,
        kind=kind,
        subject=subject,
        token_digest=digest_of(_SALT, token),
        made_by=by,
        **correction,
    )
    return made, token


def close(device: Device) -> None:
    """Let a meter send no more; what it sent stays."""
    device.closed_at = device.closed_at or real_now()
    device.save(update_fields=["closed_at"])


def device_of(token: str) -> Device | None:
    """The meter that a token belongs to, while it may send."""
    found = Device.objects.filter(token_digest=digest_of(_SALT, token), closed_at=None)
    return found.select_related("event").first()


@transaction.atomic
def count_request(device: Device) -> None:
    """
    Count that a meter sent.

    Raises
    ------
    TooOften
        If it did so too often in this minute.
    """
    row = Device.objects.select_for_update().get(pk=device.pk)
    row.minute, row.sent_in_minute = one_more(row.minute, row.sent_in_minute)
    row.save(update_fields=["minute", "sent_in_minute"])
    if row.sent_in_minute > MOST_A_MINUTE:
        raise TooOften


def take_json(device: Device, body: bytes) -> Taken:
    """
    Take a batch as JSON: {"samples": [{"seq", "at", "volts", "amps", …}]}.

    `sent_at`, the meter's own clock as it sends, puts its times right; without it they
    are taken as they are. Without `at`, a sample is of now.

    Raises
    ------
    NotSamples
        If it is no such batch.
    """
    try:
        sent = json.loads(body)
    except (ValueError, RecursionError) as error:
        raise NotSamples("This is not JSON.") from error
    samples = sent.get("samples") if isinstance(sent, dict) else None
    if not isinstance(samples, list) or not samples or len(samples) > MOST:
        raise NotSamples(f"A batch has “samples”: a list of 1 to {MOST}.")
    clock = device.event.clock
    skew = timedelta(0)
    if (shown := sent.get("sent_at")) is not None:
        moment = _moment(shown)
        if moment is None:
            raise NotSamples("“sent_at” is a time such as 2026-06-27T14:20:00Z.")
        skew = clock.now() - moment
    return take(device, samples, skew)


def take_table(device: Device, content: bytes) -> tuple[Preview, Taken]:
    """
    Take a meter's file: columns time, volts, amps, amp_hours, celsius.

    A row's second is its number, so that a file read twice counts once. Nothing is
    kept of a file with faults.

    Raises
    ------
    hollow_kettle.exchange.tables.TableFault
        If it can't be read at all.
    """
    preview = read_table(content, COLUMNS)
    samples = []
    for number_, row in preview.rows:
        at = row.pop("time")
        if at > device.event.clock.now() + AHEAD:
            preview.fault(number_, "time", "is later than now")
        values = {name: value for name, value in row.items() if value is not None}
        seq = int(at.timestamp())
        samples.append({"seq": seq, "at": at.isoformat(), **values})
    if preview.faults:
        return preview, Taken()
    return preview, take(device, samples)


def take(
    device: Device, samples: Sequence[Any], skew: timedelta = timedelta(0)
) -> Taken:
    """Take samples: each number of a meter counts once, and the first stays."""
    found = Taken()
    rows: dict[int, tuple[int, Sample]] = {}
    for index, one in enumerate(samples):
        try:
            row = _sample(device, one, skew)
        except NotSamples as fault:
            found.refused.append((index, str(fault)))
            continue
        if row.seq in rows:
            found.repeats += 1
        else:
            rows[row.seq] = index, row
    with transaction.atomic():
        Device.objects.select_for_update().get(pk=device.pk)  # one batch at a time
        known = set(device.samples.filter(seq__in=rows).values_list("seq", flat=True))
        Sample.objects.bulk_create(
            row for seq, (_, row) in rows.items() if seq not in known
        )
    found.repeats += len(known)
    found.kept = len(rows) - len(known)
    return found


def _sample(device: Device, one: Any, skew: timedelta) -> Sample:
    if not isinstance(one, Mapping):
        raise NotSamples("is no object")
    seq = one.get("seq")
    if not isinstance(seq, int) or isinstance(seq, bool) or not 0 <= seq < LAST_SEQ:
        raise NotSamples("“seq” is a whole number from 0 on")
    now = device.event.clock.now()
    at = now if one.get("at") is None else _moment(one["at"])
    if at is None:
        raise NotSamples("“at” is a time such as 2026-06-27T14:20:00Z")
    at += skew
    if at > now + AHEAD:
        raise NotSamples("“at” is later than now")
    values = {name: _value(one, name, limit) for name, limit in LIMITS.items()}
    runs = one.get("running")
    if runs is not None and not isinstance(runs, bool):
        raise NotSamples("“running” is true or false")
    if runs is None and all(value is None for value in values.values()):
        raise NotSamples("nothing was measured")
    raw = {key: one[key] for key in (*LIMITS, "running", "at", "seq") if key in one}
    if (volts := values["volts"]) is not None:
        values["volts"] = _inside(volts - device.zero_v, READ_V)
    if (amps := values["amps"]) is not None:
        values["amps"] = _inside((amps - device.zero_a) * device.gain_a, READ_A)
    return Sample(device=device, seq=seq, at=at, is_running=runs, raw=raw, **values)


def _value(one: Mapping[str, Any], name: str, limit: Limit) -> float | None:
    value = one.get(name)
    if value is None:
        return None
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    if not is_number or not math.isfinite(value):
        raise NotSamples(f"“{name}” is a number")
    if not limit.low <= value <= limit.high:
        raise NotSamples(
            f"“{name}” must be between {limit.low:g} and {limit.high:g} {limit.unit}"
        )
    return float(value)


def _inside(value: float, limit: Limit) -> float:
    return min(limit.high, max(limit.low, value))


def _moment(said: Any) -> datetime | None:
    found = moment_of(said)
    return found if found is not None and 1990 < found.year < 2100 else None


def _time(cell: str) -> datetime:
    found = _moment(text(40)(cell))
    if found is None:
        raise CellFault("is no time such as 2026-06-27 14:20:00 (UTC, or with +02:00)")
    return found


COLUMNS = (
    Column("time", _time, "when", required=True, aliases=("timestamp", "date")),
    Column("volts", number(READ_V), "volts", aliases=("v", "voltage")),
    Column("amps", number(READ_A), "amps out", aliases=("a", "current")),
    Column("amp_hours", number(READ_AH), "counted out", aliases=("ah",)),
    Column(
        "celsius", number(METER_CELSIUS), "temperature", aliases=("c", "temperature")
    ),
)
