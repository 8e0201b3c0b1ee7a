"""The change log, the ways between an event's states, and two who save at once."""

from __future__ import annotations

from datetime import timedelta

import pytest
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.field.services import note as log_note
from hollow_kettle.log.models import Place
from hollow_kettle.plan.events.services import set_state
from hollow_kettle.plan.models import Event, OpenHours
from hollow_kettle.plan.models.events import KEPT
from hollow_kettle.plan.removed import forget_old
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.rotation.services import publish
from hollow_kettle.plan.stations.services import remove_station

pytestmark = pytest.mark.django_db
SPAN = {"starts": "2026-06-27 12:00", "ends": "2026-06-27 14:00"}


def test_every_change_says_who_and_what(event, boss, marin, esker, shelf):
    """The form's own values stand in it, before and after; no change, no line."""
    bay, source = event.bays.get(), event.sources.get()
    station = {"name": "Esker", "tier": "3", "spread_pct": "15", "spares": "0"}
    station |= {"weight": "1", "changeover_s": "120", "rest_min": "0", "walk_min": "5"}
    station |= {"reconnect_v": "", "feed_m": "", "feed_awg": "", "cold_c": "-5"}
    bay_values = {"name": "Bay 1", "source": source.pk, "max_w": "150"}
    yard = event.sites.get(is_yard=True)
    asked = [
        ("station_edit", [esker.pk], station,
         "Esker: tier: 1 → 3; cold there: none → -5"),
        ("station_edit", [esker.pk], station, None),
        ("bay_edit", [bay.pk], bay_values | {"chemistries": "lifepo4"},
         "bay Bay 1: charger output: 200 → 150"),
        ("window_add", [source.pk], SPAN, "running time added for mains: Sat 12:00 on"),
        ("crew_add", [], SPAN | {"name": "night", "does": "walks", "people": "2"},
         "crew night added, Sat 12:00 – Sat 14:00"),
        ("walk_edit", [], {"a": yard.pk, "b": esker.site_id, "minutes": "9"},
         "walk Charging yard – Esker: 9 min"),
        ("yard_place", [], {"latitude": "61", "longitude": "-150", "altitude_m": ""},
         "Charging yard: latitude: none → 61; longitude: none → -150"),
        ("sky_edit", [], {"by": "oktas", "oktas": "3 6"},
         "forecast: typed: cloud in eighths, 2 entries; before: none"),
        ("sky_edit", [], {"by": "service", "sure": "yes"},
         "forecast: invented weather (simulated service), 9 entries; before: typed: "
         "cloud in eighths"),
        ("batteries", [], {"battery": [str(shelf["K01"].pk)]},
         "K02 stays out; K03 stays out; K04 stays out"),
        ("yard_row_delete", ["bay", bay.pk], {}, "bay Bay 1 removed"),
        ("station_delete", [esker.pk], {}, "station Esker removed"),
        ("event_state", [], {"state": "closed"}, "the event is closed"),
    ]  # fmt: skip
    for view, key, values, words in asked:
        before = event.change_notes.count()
        answer = boss.post(reverse(f"plan:{view}", args=[event.pk, *key]), values)
        assert answer.status_code == 302, (view, answer.context["form"].errors)
        new = list(event.change_notes.all()[: event.change_notes.count() - before])
        assert [(line.words, line.made_by) for line in new] == (
            [(words, marin)] if words else []
        )

    log = boss.get(reverse("plan:change_log", args=[event.pk])).content.decode()
    assert "invented weather" in log
    assert "Marin" in log


def test_a_state_changes_along_its_ways_only(event, marin):
    """Nothing leads from planned to closed, nor back to planning from a log."""
    log_note(event, "note", by=marin, at=event.starts_at, note="here")
    with pytest.raises(ValidationError, match="can't go back to planning"):
        set_state(event, state=Event.State.PLANNED, by=marin)
    set_state(event, state=Event.State.CLOSED, by=marin)
    stale = Event.objects.get(pk=event.pk)
    set_state(event, state=Event.State.RUNNING, by=marin)
    set_state(stale, state=Event.State.RUNNING, by=marin)  # as it is: no second line

    fresh = Event.objects.create(
        name="Tarn", zone="UTC", starts_at=event.starts_at, ends_at=event.ends_at
    )
    with pytest.raises(ValidationError, match="being planned; from there it can't be"):
        set_state(fresh, state=Event.State.CLOSED, by=marin)
    set_state(fresh, state=Event.State.RUNNING, by=marin)
    set_state(fresh, state=Event.State.PLANNED, by=marin)

    assert event.change_notes.count() == 2
    assert [key for key, _ in fresh.next_states] == ["running"]
    set_state(event, state=Event.State.RUNNING, by=marin)
    assert [key for key, _ in event.next_states] == ["closed"]  # it has a log


def test_the_database_keeps_open_hours_apart(event, esker):
    """Also for two who looked at the same moment, and both saw them free."""
    first = esker.hours.get()
    with pytest.raises(IntegrityError), transaction.atomic():
        OpenHours.objects.create(
            station=esker,
            pattern=first.pattern,
            starts_at=first.ends_at - timedelta(minutes=1),
            ends_at=first.ends_at + timedelta(hours=1),
        )
    OpenHours.objects.create(
        station=esker,
        pattern=first.pattern,
        starts_at=first.ends_at,
        ends_at=first.ends_at + timedelta(hours=1),
    )


def test_the_debrief_measures_against_what_was_published_before_it_began(event, marin):
    """Neither an earlier one nor a replan under way is the baseline."""
    from hollow_kettle.debrief.history import baseline_of

    began = event.starts_at - event.clock_offset
    made = [make_rotation(event, by=marin) for _ in range(3)]
    for rotation, hours in zip(made, (-9, -1, 2), strict=True):
        publish(rotation, by=marin)
        rotation.published_at = began + timedelta(hours=hours)
        rotation.save(update_fields=["published_at"])

    assert baseline_of(event) == made[1]
    event.rotations.filter(number__in=[1, 2]).update(published_at=None)
    assert baseline_of(event) is None  # what was published while it ran is no plan


def test_a_station_that_was_removed_can_be_brought_back(event, esker, boss):
    """With its equipment, hours and place; once, and by its own line."""
    equipment, hours = esker.equipment.count(), esker.hours.count()
    places = Place.objects.filter(station_key=esker.pk).count()
    url = reverse("plan:station_delete", args=[event.pk, esker.pk])
    assert "can bring it back" in boss.post(url, follow=True).content.decode()
    assert not event.stations.filter(pk=esker.pk).exists()

    line = event.change_notes.exclude(removed="").get()
    page = boss.get(reverse("plan:change_log", args=[event.pk])).content.decode()
    assert "Bring it back" in page
    back = reverse("plan:bring_back", args=[event.pk, line.pk])
    assert (
        "Brought back: station Esker removed"
        in boss.post(back, follow=True).content.decode()
    )
    again = event.stations.get(pk=esker.pk)
    assert (again.equipment.count(), again.hours.count()) == (equipment, hours)
    assert Place.objects.filter(station_key=esker.pk).count() == places
    assert again.site is not None
    page = boss.post(back, follow=True).content.decode()
    assert "can&#x27;t be brought back any more" in page


def test_what_was_removed_is_let_go_after_a_week(event, esker, marin):
    """Then it is neither offered nor kept."""
    remove_station(esker, by=marin)
    line = event.change_notes.exclude(removed="").get()
    assert line.can_come_back
    event.change_notes.update(made_at=real_now() - KEPT - timedelta(minutes=1))
    line.refresh_from_db()
    assert not line.can_come_back

    assert forget_old() == 1
    assert not event.change_notes.exclude(removed="").exists()
