"""The log: append-only, sent twice counts once, projections follow it."""

from dataclasses import replace
from datetime import timedelta
from uuid import uuid4

import pytest
from django.db import DatabaseError, IntegrityError, connection, transaction

from hollow_kettle.log import services as log
from hollow_kettle.log.models import Conflict, FieldEntry, Kind, Placement, StationSpan
from hollow_kettle.log.services import Sent
from tests.conftest import set_clock


@pytest.fixture
def append(event, marin):
    """Append one entry to the event's log, some minutes after its start."""

    def _append(minute=10, kind=Kind.NOTE, uid=None, **fields):
        return log.append(
            event_key=event.pk,
            actor=marin,
            kind=kind,
            effective_at=event.starts_at + timedelta(minutes=minute),
            sent=Sent(device="phone 1", uid=uid or uuid4()),
            **fields,
        )

    return _append


def test_sending_again_changes_nothing(append):
    """The same entry is acknowledged again and stored once."""
    uid = uuid4()

    receipts = [append(uid=uid, note="rain"), append(uid=uid, note="rain")]

    assert receipts[1] == replace(receipts[0], is_repeat=True)
    assert FieldEntry.objects.count() == 1


def test_the_same_key_for_another_entry_is_kept_as_a_conflict(append):
    """Nothing that somebody saw is refused, and the first stays as it was."""
    uid = uuid4()
    append(uid=uid, note="rain")

    receipt = append(uid=uid, note="sun")

    assert (receipt.standing, receipt.why) == (
        "conflict",
        "the same key was used for another entry",
    )
    assert set(FieldEntry.objects.values_list("note", "standing")) == {
        ("rain", "kept"),
        ("sun", "conflict"),
    }


def test_not_even_the_owner_changes_or_deletes_an_entry(append):
    """A trigger protects the log."""
    append(note="rain")
    for change in (
        lambda: FieldEntry.objects.update(note="sun"),
        lambda: FieldEntry.objects.all().delete(),
    ):
        with (
            pytest.raises(DatabaseError, match="log_is_append_only"),
            transaction.atomic(),
        ):
            change()
    assert FieldEntry.objects.get().note == "rain"


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE log_fieldentry SET note = ''",
        "DELETE FROM log_fieldentry",
        "TRUNCATE log_fieldentry",
    ],
)
def test_the_application_role_may_only_add(append, statement):
    """As `kettle_app` connects: it adds to the log and cannot take away."""
    with connection.cursor() as cursor:
        cursor.execute("SET LOCAL ROLE kettle_app")
        append(note="rain")
        with (
            pytest.raises(DatabaseError, match="permission denied"),
            transaction.atomic(),
        ):
            cursor.execute(statement)
        cursor.execute("RESET ROLE")


@pytest.mark.parametrize(
    "fields",
    [
        {"kind": Kind.READING},
        {"kind": Kind.READING, "volts": 5000.0},
        {"kind": Kind.READING, "gauge_pct": 120.0},
        {"kind": Kind.SWAP},
        {"kind": Kind.STRIKE},
    ],
)
def test_the_database_bounds_absurdities(append, fields):
    """A reading that reads nothing, 5,000 V, a swap without a place."""
    with pytest.raises(IntegrityError), transaction.atomic():
        append(**fields)


def test_placements_follow_the_log_and_strikes(append, event, shelf, esker):
    """Move, swap, strike: the projection is worked out anew each time."""
    from hollow_kettle.field.services import position_of

    place = position_of(esker)
    append(0, Kind.MOVE, battery=shelf["K01"].pk, place=place)
    uid = uuid4()
    append(
        60,
        Kind.SWAP,
        uid=uid,
        battery=shelf["K02"].pk,
        battery_out=shelf["K03"].pk,
        place=place,
    )
    log.rebuild(event.pk)
    assert [c.kind for c in Conflict.objects.all()] == ["other_battery_was_there"]

    append(70, Kind.STRIKE, strikes=uid, note="misheard")
    log.rebuild(event.pk)

    assert not Conflict.objects.exists()
    assert [p.battery for p in Placement.objects.filter(place=place)] == [
        shelf["K01"].pk
    ]


def test_overlapping_placements_are_refused_by_the_database(
    event, shelf, esker, drumlin
):
    """The exclusion constraints are the last guard behind the fold."""
    from hollow_kettle.field.services import position_of

    def put_twice():
        for station in (esker, drumlin):
            Placement.objects.create(
                battery=shelf["K01"].pk,
                place=position_of(station),
                is_exclusive=True,
                started_at=event.starts_at,
                entry_uid=uuid4(),
            )
        with connection.cursor() as cursor:
            cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")

    with pytest.raises(IntegrityError), transaction.atomic():
        put_twice()


def test_spans_are_rebuilt_for_their_event(append, event, esker):
    """Off the air at minute 10, back at minute 35."""
    append(10, Kind.OFF_AIR, station_key=esker.pk)
    append(35, Kind.BACK, station_key=esker.pk)
    set_clock(event, 60)

    log.rebuild(event.pk)

    span = StationSpan.objects.get()
    assert (span.ended_at - span.started_at) == timedelta(minutes=25)
