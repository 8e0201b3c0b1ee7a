"""Append to the log, and rebuild what is worked out from it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

from django.db import IntegrityError, connection, transaction
from django.db.models import Exists, Model, OuterRef, Q, QuerySet

from hollow_kettle.people.models import Actor
from powercore.belief import fold as core
from powercore.event.seen import BELIEVED_MIN

from .models import (
    CUSTODY,
    EXCLUSIVE_KINDS,
    QUIET,
    Conflict,
    FieldEntry,
    Kind,
    Place,
    PlaceKind,
    Placement,
    SkySeen,
    SourceOff,
    Standing,
    StationSpan,
    Waiting,
)

#: Taken while projections are rebuilt, so that one rebuild runs at a time.
_REBUILD_LOCK = 0x6B65_7474
#: Taken by whoever works out what waits of an event.
_FOLLOW_LOCK = 0x6B65_7475

#: So long before a change, swaps are looked at that a second report may repeat.
_RECENT = 4 * core.SAME_SWAP

MOVING = (Kind.SWAP, Kind.MOVE, Kind.LEFT, Kind.STRIKE, *CUSTODY)


@dataclass(frozen=True, slots=True, kw_only=True)
class Receipt:
    """What became of one entry that was sent."""

    uid: UUID
    standing: str
    why: str = ""
    #: Whether it had been sent before: it counts once.
    is_repeat: bool = False

    @property
    def counts_newly(self) -> bool:
        """Whether it counts, and did not before."""
        return self.standing == Standing.KEPT and not self.is_repeat


@dataclass(frozen=True, slots=True, kw_only=True)
class Sent:
    """How an entry came: from where, under which key, in which words."""

    device: str = "page"
    #: Made by the sender, so that sending twice counts once.
    uid: UUID = field(default_factory=uuid4)
    #: What was sent, as it came.
    raw: Mapping[str, Any] = field(default_factory=dict)
    #: The time as the sender gave it, where that is not a moment: "now" sent twice is
    #: one entry, though it means another minute each time.
    said_when: str = ""
    #: Why it waits in quarantine: an unknown tag, a closed event.
    aside: str = ""


def append(
    *,
    event_key: UUID | None,
    actor: Actor,
    kind: str,
    effective_at: datetime,
    sent: Sent,
    **fields: Any,
) -> Receipt:
    """
    Add one entry; nothing that somebody saw is refused. No event: at the shelf.

    Sending the same entry again changes nothing. The same key with another payload is
    kept as a conflict and acknowledged.
    """
    when = sent.said_when or effective_at.isoformat()
    digest = _digest(kind, when, event_key, fields)
    same = FieldEntry.objects.filter(device=sent.device, uid=sent.uid)
    content = {
        "uid": sent.uid,
        "device": sent.device,
        "kind": kind,
        "event_key": event_key,
        "actor": actor,
        "effective_at": effective_at,
        "raw": dict(sent.raw),
        **fields,
    }
    try:
        return _keep(None, digest, sent.aside, content)
    except IntegrityError:
        before = same.first()
        if before is None:
            raise
        return _keep(before, digest, sent.aside, content)  # it was sent before


def _keep(
    before: FieldEntry | None, digest: str, quarantine: str, content: dict[str, Any]
) -> Receipt:
    uid: UUID = content["uid"]
    if before is not None and before.payload_hash == digest:
        return Receipt(
            uid=uid, standing=before.standing, why=before.standing_why, is_repeat=True
        )
    standing, why = Standing.KEPT, ""
    if before is not None:
        standing, why = Standing.CONFLICT, "the same key was used for another entry"
    elif quarantine:
        standing, why = Standing.QUARANTINE, quarantine
    with transaction.atomic():
        entry = FieldEntry.objects.create(
            payload_hash=digest, standing=standing, standing_why=why, **content
        )
        says = standing == Standing.KEPT and entry.kind not in QUIET
        if says and entry.event_key is not None:
            Waiting.objects.create(entry=entry.pk, event_key=entry.event_key)
    return Receipt(uid=uid, standing=standing, why=why)


def counting(entries: QuerySet[FieldEntry]) -> QuerySet[FieldEntry]:
    """Those of entries that count: kept, no strike, and not struck."""
    struck = FieldEntry.objects.filter(
        kind=Kind.STRIKE, standing=Standing.KEPT, strikes=OuterRef("uid")
    )
    kept = entries.filter(~Exists(struck), standing=Standing.KEPT)
    return kept.exclude(kind=Kind.STRIKE)


def take(event_key: UUID) -> bool:
    """Take up an event's waiting entries in this transaction, if nobody else does."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT pg_try_advisory_xact_lock(%s, hashtext(%s))",
            [_FOLLOW_LOCK, str(event_key)],
        )
        row = cursor.fetchone()
    return bool(row and row[0])


def waiting(event_key: UUID) -> list[FieldEntry]:
    """Entries of an event that placements and beliefs do not count yet."""
    keys = Waiting.objects.filter(event_key=event_key).values_list("entry", flat=True)
    return list(FieldEntry.objects.filter(pk__in=list(keys)))


def counted(entries: Iterable[FieldEntry]) -> None:
    """Say that placements and beliefs count entries now."""
    Waiting.objects.filter(entry__in=[entry.pk for entry in entries]).delete()


def first_change(entries: Iterable[FieldEntry]) -> datetime | None:
    """When the earliest of entries happened, or of what they strike; None: neither."""
    own = list(entries)
    moments = [entry.effective_at for entry in own if entry.kind != Kind.STRIKE]
    struck = FieldEntry.objects.filter(uid__in=[e.strikes for e in own if e.strikes])
    moments += struck.values_list("effective_at", flat=True)
    return min(moments, default=None)


@transaction.atomic
def rebuild(event_key: UUID | None = None, since: datetime | None = None) -> None:
    """
    Work out placements, conflicts and station spans anew from the log.

    Placements are global (a battery is in one place, whatever the event); spans
    belong to their event.

    Parameters
    ----------
    event_key : UUID, optional
        Whose spans; none: every event's.
    since : datetime, optional
        When the earliest entry happened that came or was struck; none: all of the log.
    """
    rebuild_placements(since)
    _rebuild_spans([event_key] if event_key else _event_keys())


@transaction.atomic
def rebuild_placements(since: datetime | None = None) -> None:
    """Work out placements and conflicts anew, from the earliest change on."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [_REBUILD_LOCK])
    kinds = dict(
        Place.objects.filter(kind__in=EXCLUSIVE_KINDS).values_list("uid", "kind")
    )
    exclusive = set(kinds)
    bays = {uid for uid, kind in kinds.items() if kind == PlaceKind.BAY}
    placed, conflicting = Placement.objects.all(), Conflict.objects.all()
    before = core.Before()
    entries = _moving(since)
    if since is not None:
        placed = placed.filter(Q(ended_at=None) | Q(ended_at__gte=since))
        conflicting = conflicting.filter(at__gte=since)
        before = core.Before(
            open=tuple(
                core.Placement(
                    battery=row.battery,
                    place=row.place_id,
                    start=row.started_at,
                    end=None,
                    entry=row.entry_uid,
                )
                for row in placed.filter(started_at__lt=since)
            ),
            recent=tuple(map(core_entry, _moving(since - _RECENT, since))),
        )
    placements, conflicts = core.fold(map(core_entry, entries), exclusive, bays, before)
    replace_rows(
        Placement,
        [
            Placement(
                battery=placement.battery,
                place_id=placement.place,
                is_exclusive=placement.place in exclusive,
                started_at=placement.start,
                ended_at=placement.end,
                entry_uid=placement.entry,
            )
            for placement in placements
        ],
        placed,
    )
    event_of = {entry.uid: entry.event_key for entry in entries}
    replace_rows(
        Conflict,
        [
            Conflict(
                kind=conflict.kind,
                at=conflict.at,
                place_id=conflict.place,
                battery=conflict.battery,
                other_battery=conflict.other_battery,
                entry_uid=conflict.entry,
                event_key=event_of[conflict.entry],
            )
            for conflict in conflicts
        ],
        conflicting,
    )


def placed_at(at: datetime) -> QuerySet[Placement]:
    """Where batteries were at a moment."""
    return Placement.objects.filter(
        Q(ended_at=None) | Q(ended_at__gt=at), started_at__lte=at
    )


def _moving(since: datetime | None, until: datetime | None = None) -> list[FieldEntry]:
    """Entries that say where something is, in a span of time, and their strikes."""
    kept = FieldEntry.objects.filter(standing=Standing.KEPT).order_by()
    found = kept.filter(kind__in=MOVING)
    if since is None:
        return list(found)
    found = found.exclude(kind=Kind.STRIKE).filter(effective_at__gte=since)
    if until is not None:
        found = found.filter(effective_at__lt=until)
    entries = list(found)
    struck = kept.filter(kind=Kind.STRIKE, strikes__in=[one.uid for one in entries])
    return [*entries, *struck]


def _rebuild_spans(event_keys: Iterable[UUID]) -> None:
    for key in event_keys:
        entries = FieldEntry.objects.filter(
            Q(station_key__isnull=False)
            | Q(source_key__isnull=False)
            | Q(oktas__isnull=False)
            | Q(kind=Kind.STRIKE),
            event_key=key,
            standing=Standing.KEPT,
        ).exclude(kind=Kind.READING)
        noted = [core_entry(entry) for entry in entries]
        spans = [
            StationSpan(
                event_key=key,
                station_key=span.station,
                what=span.what,
                started_at=span.start,
                ended_at=span.end,
                entry_uid=span.entry,
            )
            for span in core.spans(noted)
        ]
        replace_rows(StationSpan, spans, StationSpan.objects.filter(event_key=key))
        off = [
            SourceOff(
                event_key=key,
                source_key=outage.source,
                started_at=outage.start,
                ended_at=outage.end,
                entry_uid=outage.entry,
            )
            for outage in core.outages(noted)
        ]
        replace_rows(SourceOff, off, SourceOff.objects.filter(event_key=key))
        seen = [
            SkySeen(
                event_key=key,
                oktas=sky.oktas,
                started_at=sky.start,
                ended_at=sky.end,
                entry_uid=sky.entry,
            )
            for sky in core.skies(noted, timedelta(minutes=BELIEVED_MIN))
        ]
        replace_rows(SkySeen, seen, SkySeen.objects.filter(event_key=key))


def replace_rows(
    model: type[Model], rows: Sequence[Model], before: QuerySet[Any]
) -> None:
    """Let a projection hold these rows; only what differs is written."""
    names = [
        field.attname for field in model._meta.concrete_fields if field.name != "id"
    ]

    def content(row: Model) -> tuple[Any, ...]:
        return tuple(getattr(row, name) for name in names)

    kept = {content(row): row.pk for row in before.order_by()}
    wanted = {content(row): row for row in rows}
    gone = [pk for key, pk in kept.items() if key not in wanted]
    if gone:
        before.filter(pk__in=gone).delete()
    model._default_manager.bulk_create(
        row for key, row in wanted.items() if key not in kept
    )


def _event_keys() -> Sequence[UUID]:
    keys = FieldEntry.objects.order_by().values_list("event_key", flat=True).distinct()
    return [key for key in keys if key is not None]


def core_entry(entry: FieldEntry) -> core.Entry:
    """
    Return an entry as the fold takes it.

    Custody is a move to a place; a crew that left with a battery has it on the way.
    """
    is_custody = entry.kind in CUSTODY
    return core.Entry(
        uid=entry.uid,
        kind=core.MOVE if is_custody or entry.kind == Kind.LEFT else entry.kind,
        at=entry.effective_at,
        battery=entry.asset if is_custody else entry.battery,
        battery_out=entry.battery_out,
        place=entry.place_id,
        place_out=entry.place_out_id,
        station=entry.station_key,
        source=entry.source_key,
        is_on=entry.is_on,
        step=entry.step,
        oktas=entry.oktas,
        strikes=entry.strikes,
    )


def _digest(
    kind: str, when: str, event_key: UUID | None, fields: dict[str, Any]
) -> str:
    named = {
        name: str(getattr(value, "pk", value))
        for name, value in fields.items()
        if value not in (None, "") and name not in ("device_at", "skew_s")
    }
    payload = json.dumps([kind, when, str(event_key), named], sort_keys=True)
    return hashlib.sha256(payload.encode()).hexdigest()
