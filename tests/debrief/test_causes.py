"""Causes of an event, from its log to the page."""

from datetime import timedelta

import numpy as np
import pytest
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.debrief import tasks
from hollow_kettle.debrief.causes import services
from hollow_kettle.debrief.causes.page import page_of
from hollow_kettle.debrief.history import baseline_of
from hollow_kettle.debrief.models import Causes, Shortfall
from hollow_kettle.field import services as field
from hollow_kettle.log.services import rebuild
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.rotation.services import publish
from tests.conftest import set_clock


@pytest.fixture
def over(event, shelf, esker, drumlin, marin):
    """A plan of the evening before; then Drumlin's plug out from 60 to 105."""
    set_clock(event, -600)
    publish(make_rotation(event, by=marin), by=marin)
    set_clock(event, 480)
    event.rotations.update(published_at=real_now() - timedelta(hours=18))
    quiet = {"by": marin, "refresh": False}

    def at(minutes):
        return event.starts_at + timedelta(minutes=minutes)

    for leg in event.rotations.get(state="published").legs.filter(kind="serve"):
        station = event.stations.get(pk=leg.place)
        battery = event.batteries.get(pk=leg.battery)
        field.note(
            event, "reading", at=at(0), battery=battery.pk, gauge_pct=100.0, **quiet
        )
        field.log_swap(event, station, battery=battery, at=at(leg.start_min), **quiet)
    field.note(
        event, "fault", at=at(70), station_key=drumlin.pk, symptom="no_power",
        cause="plug", note="no power", **quiet,
    )  # fmt: skip
    field.log_station(event, drumlin, what="off_air", at=at(60), **quiet)
    field.log_station(event, drumlin, what="back", at=at(105), **quiet)
    rebuild(event.pk)
    return event


def test_a_plug_takes_its_minutes_and_the_page_adds_up(over, client_of, drumlin):
    """45 min off the air: all of it the plug's; asked for by the button."""
    url = reverse("debrief:causes", args=[over.pk])
    asked = client_of("coordinator").post(reverse("debrief:causes_add", args=[over.pk]))
    assert asked.status_code == 302
    assert "0 % done" in client_of("observer").get(url).content.decode()

    tasks.causes(Causes.objects.get(event=over).pk)

    ledger = next(one for one in page_of(over).ledgers if one.name == "Drumlin")
    by_name = {row.name: row for row in ledger.rows}
    assert by_name["Connection or equipment"].minutes == pytest.approx(45, abs=1)
    assert by_name["Connection or equipment"].words == "plug, lead or terminal, 45 min"
    assert by_name["What happened"].minutes == 45
    shares = [row.minutes for row in ledger.rows[:-1]]
    assert sum(shares) == 45
    text = client_of("observer").get(url).content.decode()
    assert "plug, lead or terminal, 45 min" in text
    assert "has changed since" not in text
    field.log_station(
        over, drumlin, what="off_air", by=over.rotations.first().made_by,
        at=over.starts_at + timedelta(minutes=400), refresh=False,
    )  # fmt: skip
    assert "has changed since" in client_of("observer").get(url).content.decode()


def test_without_a_plan_from_before_it_says_what_it_lacks(over, client_of):
    """What ran short is found all the same."""
    over.rotations.update(published_at=real_now())
    assert baseline_of(over) is None

    boss = client_of("coordinator")
    said = boss.post(reverse("debrief:causes_add", args=[over.pk]), follow=True)

    assert "No plan was published before it began" in said.content.decode()
    page = boss.get(reverse("debrief:event", args=[over.pk])).content.decode()
    assert "<b>45</b>" in page


def test_what_changed_since_the_plan_is_taken_as_it_is_now(over, client_of, esker):
    """A station taken out, a result of another version, a shortfall of other days."""
    boss = client_of("coordinator")
    boss.post(reverse("debrief:causes_add", args=[over.pk]))
    row = Causes.objects.get(event=over)
    tasks.causes(row.pk)
    esker.delete()
    Shortfall.objects.create(
        event=over, station=over.stations.get(), what="off_air",
        starts_at=over.starts_at - timedelta(days=9),
        ends_at=over.starts_at - timedelta(days=8),
    )  # fmt: skip
    boss.post(reverse("debrief:causes_add", args=[over.pk]))
    tasks.causes(row.pk)

    (ledger,) = page_of(over).ledgers
    assert (ledger.name, ledger.rows[-1].minutes) == ("Drumlin", 45)
    Causes.objects.update(content={"total": "otherwise"})
    page = boss.get(reverse("debrief:causes", args=[over.pk])).content.decode()
    assert "The causes are not worked out yet." in page
    assert boss.get(reverse("debrief:years")).status_code == 200


@pytest.mark.usefixtures("demo")
def test_the_demos_exercise_is_shared_out():
    """Drumlin draws 30 % more than planned there, which is most of what ran short."""
    from hollow_kettle.plan.models import Event

    event = Event.objects.get(name="High Water exercise")
    found = services.attribution_of(event.causes)

    drumlin = str(event.stations.get(name="Drumlin").pk)
    (ledger,) = (one for one in found.stations if one.station == drumlin)
    shares = {part.cause: part.time.exact for part in ledger.parts}
    assert max(shares, key=shares.get) == "load"
    assert found.draws[drumlin].low < 1.6
    assert found.draws[drumlin].high > 1.3
    assert ledger.planned[1] + sum(shares.values()) == ledger.actual[1]
    assert np.isfinite([part.energy.low for part in ledger.parts]).all()
