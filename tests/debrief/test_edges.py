"""The debrief of events at the edges of what the forms allow: a page, no error page."""

from datetime import timedelta

import pytest
from django.urls import reverse

from hollow_kettle.clock import real_now
from hollow_kettle.debrief import tasks
from hollow_kettle.debrief.causes.services import attribution_of
from hollow_kettle.debrief.models import Causes
from hollow_kettle.field import services as field
from hollow_kettle.log.services import rebuild
from hollow_kettle.plan.events.services import save_event, set_state
from hollow_kettle.plan.models import Event, OperatingPattern
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.rotation.services import publish
from hollow_kettle.plan.stations.services import add_equipment, add_hours, save_station
from hollow_kettle.plan.yard.services import add_bay, add_crew, add_source
from hollow_kettle.shelf.assets.services import save_battery
from hollow_kettle.shelf.models import EquipmentType
from tests.conftest import NOON, set_clock

PAGES = (
    "event", "causes", "causes_results", "actuals", "contacts", "action_list",
    "learned", "report", "report_print", "agency_print", "power_log_print",
    "report_text", "report_package",
)  # fmt: skip


def walk(client, event):
    """Open every page of an event's debrief, and the two over all events."""
    for name in PAGES:
        answer = client.get(reverse(f"debrief:{name}", args=[event.pk]))
        assert answer.status_code == 200, name
    for name in ("years", "backtest"):
        assert client.get(reverse(f"debrief:{name}")).status_code == 200
    assert client.get(reverse("field:tear_down", args=[event.pk])).status_code == 200


def empty(name="Nothing", minutes=45):
    """An event without stations, batteries or a yard."""
    return save_event(
        None, name=name, zone="UTC", starts=NOON, ends=NOON + timedelta(minutes=minutes)
    )


def test_an_event_without_anything_has_a_debrief(stocked, boss):
    """Not begun, under way, and closed."""
    made = empty()
    set_clock(made, -600)
    walk(boss, made)
    set_state(made, state=Event.State.RUNNING)
    set_clock(made, 10)
    walk(boss, made)
    set_state(made, state=Event.State.CLOSED)
    walk(boss, made)


def test_a_station_without_a_battery_is_off_the_air_all_the_while(stocked, boss, marin):
    """45 min asked, none given; no plan can be made, so there are no causes."""
    made = empty()
    station = save_station(made, name="Bare", tier=1, walk_min=5)
    add_equipment(station, equipment=EquipmentType.objects.get(pk="hf-40w"))
    add_hours(
        station, starts=NOON, ends=NOON + timedelta(minutes=45),
        pattern=OperatingPattern.objects.get(pk="calling-cw"),
    )  # fmt: skip
    set_state(made, state=Event.State.RUNNING)
    set_clock(made, 45)
    field.log_station(
        made, station, what="off_air", by=marin, at=made.starts_at, refresh=False
    )
    rebuild(made.pk)

    walk(boss, made)
    report = boss.get(reverse("debrief:report", args=[made.pk])).content.decode()
    assert "<b>0.0</b> given on the air: <b>0%</b>" in " ".join(report.split())
    said = boss.post(reverse("debrief:causes_add", args=[made.pk]), follow=True)
    assert "nothing to compare" in said.content.decode()


@pytest.mark.parametrize("chemistry", ["agm", "lifepo4"])
def test_a_24_volt_event_is_shared_out_in_its_own_numbers(
    chemistry, stocked, marin, boss
):
    """
    A 24 V repeater on one battery at a time; the first holds half of what it says.

    Planned 3 h on a full 40 Ah pack; it ends after 90 min and the relief is on time.
    """
    made = empty("Relay", 360)
    cells = 12 if chemistry == "agm" else 8
    shelf = [
        save_battery(
            None, by=marin, tag=tag, chemistry=chemistry, series=cells,
            nameplate_ah=40.0, tested_ah=40.0, mass_kg=12.0,
        )
        for tag in ("Y1", "Y2")
    ]  # fmt: skip
    made.batteries.set([one.pk for one in shelf])
    own = EquipmentType.objects.create(
        key="relay", name="24 V relay", min_v=21.0, max_v=30.0
    )
    own.steps.create(step="full", receive_a=20.0, transmit_idle_a=20.0, key_down_a=20.0)
    station = save_station(made, name="Ridge", tier=1, walk_min=5)
    add_equipment(station, equipment=own)
    add_hours(
        station, starts=NOON, ends=NOON + timedelta(hours=6),
        pattern=OperatingPattern.objects.get(pk="calling-cw"),
    )  # fmt: skip
    source = add_source(
        made, name="mains", kind="mains", max_w=500, energy_wh=None, starts=NOON,
        ends=NOON + timedelta(hours=6),
    )  # fmt: skip
    add_bay(made, name="Bay 1", source=source, max_w=300, chemistries=[chemistry])
    for name in ("walks", "yard"):
        add_crew(
            made, name=name, does=name, starts=NOON, ends=NOON + timedelta(hours=6)
        )
    set_clock(made, -600)
    publish(make_rotation(made, by=marin), by=marin)
    made.rotations.update(published_at=real_now() - timedelta(hours=30))
    set_state(made, state=Event.State.RUNNING)
    set_clock(made, 360)
    quiet = {"by": marin, "refresh": False}

    def at(minutes):
        return made.starts_at + timedelta(minutes=minutes)

    for one in shelf:
        field.note(
            made, "reading", at=at(-10), battery=one.pk, gauge_pct=100.0, **quiet
        )
    field.log_swap(made, station, battery=shelf[0], at=at(0), **quiet)
    field.log_station(made, station, what="off_air", at=at(90), **quiet)
    field.log_swap(
        made, station, battery=shelf[1], battery_out=shelf[0], at=at(180), **quiet
    )
    field.log_station(made, station, what="back", at=at(180), **quiet)
    rebuild(made.pk)
    set_state(made, state=Event.State.CLOSED)

    boss.post(reverse("debrief:causes_add", args=[made.pk]))
    row = Causes.objects.get(event=made)
    tasks.causes(row.pk)

    walk(boss, made)
    row.refresh_from_db()
    found = attribution_of(row)
    shares = {part.cause: part.time.exact / 60_000 for part in found.total.parts}
    assert sum(shares.values()) + found.total.planned[1] / 60_000 == pytest.approx(90)
    assert shares["load"] + shares["capacity"] > 45  # one or the other: nobody counted
    assert found.holds[str(shelf[0].pk)].low < 0.8
