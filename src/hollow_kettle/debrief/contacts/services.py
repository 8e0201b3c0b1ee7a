"""Contacts out of an ADIF file; call signs are read past and never kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

import adif_io
from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.debrief.models import Contact
from hollow_kettle.plan.models import Event, Station

MOST, MOST_BYTES = 10_000, 5 * 1024 * 1024
#: At most so many records that can't be read are named.
NAMED = 5


@dataclass(frozen=True, slots=True)
class Read:
    """What a file held."""

    kept: int
    #: Made before the event or after it.
    outside: int


@transaction.atomic
def import_contacts(event: Event, station: Station, content: bytes) -> Read:
    """
    Keep a station's contacts in place of those it had; all of the file or nothing.

    Fields by the published ADIF form: QSO_DATE is YYYYMMDD and TIME_ON HHMM or HHMMSS,
    both in UTC; MODE may have a SUBMODE, which says more.

    Raises
    ------
    ValidationError
        If it is no such file, too long, or records lack date or time; they are named.
    """
    if len(content) > MOST_BYTES:
        raise ValidationError(f"The file has more than {MOST_BYTES // 1024**2} MB.")
    records = _records(content)
    found, wrong, outside = [], [], 0
    for number, record in enumerate(records, 1):
        at = _moment(record)
        if at is None:
            wrong.append(number)
        elif not event.starts_at <= at < event.ends_at:
            outside += 1
        else:
            mode = str(record.get("SUBMODE") or record.get("MODE") or "")[:16].upper()
            found.append(Contact(event=event, station=station, at=at, mode=mode))
    if wrong:
        named = ", ".join(map(str, wrong[:NAMED]))
        more = f" and {len(wrong) - NAMED} more" if len(wrong) > NAMED else ""
        raise ValidationError(
            f"QSO_DATE (like 20260627) or TIME_ON (like 1405) is missing or wrong in "
            f"record {named}{more}; nothing was taken.",
            code="no_time",
        )
    Contact.objects.filter(event=event, station=station).delete()
    Contact.objects.bulk_create(found)
    return Read(kept=len(found), outside=outside)


def _records(content: bytes) -> list[adif_io.QSO]:
    text = content.decode("utf-8-sig", errors="replace").strip()
    try:
        records, _ = adif_io.read_from_string(text)
    except (adif_io.AdifError, IndexError, ValueError, KeyError) as error:
        raise ValidationError(
            "This is no ADIF file: it needs a header that ends in <EOH>, or records "
            "that begin with <, each ending in <EOR>.",
            code="unreadable",
        ) from error
    if not records:
        raise ValidationError("No record in it ends in <EOR>.", code="empty")
    if len(records) > MOST:
        raise ValidationError(f"It has more than {MOST:,} records.", code="long")
    return list(records)


def _moment(record: adif_io.QSO) -> datetime | None:
    day, time = str(record.get("QSO_DATE", "")), str(record.get("TIME_ON", ""))
    if len(time) == 4:
        time += "00"
    try:
        found = datetime.strptime(day + time, "%Y%m%d%H%M%S")  # noqa: DTZ007 - UTC below
    except ValueError:
        return None
    return found.replace(tzinfo=UTC) if len(day + time) == 14 else None
