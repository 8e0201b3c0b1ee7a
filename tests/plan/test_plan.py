"""Events: set-up that says what is wrong, the ledger, rotations made and published."""

from datetime import timedelta

import pytest
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.db.models import F
from django.urls import reverse

from hollow_kettle.clock import Clock, from_local, local, real_now
from hollow_kettle.field import services as field
from hollow_kettle.plan.bridge.chosen import published as published_of
from hollow_kettle.plan.bridge.places import walk_minutes
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.bridge.scenario import scenario_of
from hollow_kettle.plan.events.services import choose_batteries, save_event
from hollow_kettle.plan.ledger.page import ledger_page
from hollow_kettle.plan.models import (
    Bay,
    Crew,
    Event,
    OpenHours,
    OperatingPattern,
    Rotation,
    Site,
    Source,
    Station,
    StationEquipment,
)
from hollow_kettle.plan.rotation import making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.stations import tables
from hollow_kettle.plan.stations.services import add_hours, remove_station
from hollow_kettle.plan.yard.services import add_crew, place_site, state_walk
from hollow_kettle.shelf.assets.services import record_capacity, set_hold
from powercore.event.scenario import UnreadableScenario, decode, encode, sha256_of
from powercore.rotation.verify import verify
from tests.conftest import NOON, set_clock

STATIONS = "name,tier,equipment,pattern,opens,closes,walk_min\n"


@pytest.mark.parametrize(
    ("of", "values"),
    [
        (Event, {"lateness_min": 121}),
        (Event, {"lithium_reserve_pct": 91}),
        (Event, {"ends_at": F("starts_at") + timedelta(days=14, minutes=1)}),
        (Station, {"tier": 10}),
        (Station, {"disconnect_v": 4.9}),
        (Station, {"main_fuse_a": 501}),
        (StationEquipment, {"efficiency_pct": 4}),
        (StationEquipment, {"shed_pct": 101}),
        (Source, {"refuel_min": 241}),
        (Source, {"max_va": 0.5}),
        (Source, {"kind": "buffer", "energy_wh": None}),
        (Bay, {"max_w": 20_001}),
        (Crew, {"people": 0}),
        (OperatingPattern, {"duty": 1.01}),
        (Site, {"altitude_m": 9001}),
    ],
)
def test_the_database_itself_refuses_the_impossible(event, of, values):
    """What forms refuse no code can write either; what is left empty is no number."""
    with pytest.raises(IntegrityError), transaction.atomic():
        of.objects.update(**values)
    Event.objects.update(ends_at=F("starts_at") + timedelta(days=14))


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"ends": "2026-06-27T11:00"}, "must end after it starts"),
        ({"ends": "2026-07-27T11:00"}, "14 days is the longest"),
        ({"zone": "Mars/Olympus"}, "There is no time zone 'Mars/Olympus'"),
        ({"starts": "yesterday"}, "Write the date and the time like 2026-06-27 14:00"),
        ({"lateness_min": "-1"}, "between 0 and 120 min, not -1"),
        ({"settle_min": "9000"}, "between 0 and 1440 min, not 9000"),
        ({"yard_cold_c": "-100"}, "between -60 and 60 °C, not -100"),
    ],
)
def test_an_impossible_event_is_refused_with_its_field(boss, shelf, values, words):
    """An event that ends before it starts, an unknown zone, a nonsense time."""
    data = {
        "name": "Bog Walk",
        "zone": "America/Chicago",
        "starts": "2026-06-27T12:00",
        "ends": "2026-06-27T20:00",
        "lateness_min": "10",
        "purpose": "contest",
        "first_tier_sky": "none",
        "other_sky": "forecast",
        "yard_sky": "none",
        "settle_min": "30",
    }

    response = boss.post(reverse("plan:event_add"), data | values)

    assert response.status_code == 422
    assert words in response.content.decode().replace("&#x27;", "'")
    assert not Event.objects.exists()


def test_local_hours_expand_to_utc_across_a_clock_change():
    """Chicago leaves daylight time on 1 November 2026 at 02:00 (IANA tz database)."""
    before = from_local(NOON.replace(month=10, day=31), "America/Chicago")
    after = from_local(NOON.replace(month=11, day=1), "America/Chicago")

    assert (after - before) == timedelta(hours=25)
    assert local(after, "America/Chicago").hour == 12


def test_clocks_can_be_shifted_sped_up_and_frozen():
    """An event's now is derived from real time and nothing else."""
    real = real_now()
    fast = Clock(rate=60, started_at=real)

    assert Clock(offset=timedelta(hours=2)).at(real) == real + timedelta(hours=2)
    assert fast.at(real + timedelta(minutes=1)) == real + timedelta(hours=1)
    assert Clock(frozen_at=real).at(real + timedelta(days=1)) == real


def test_a_scenario_round_trips_and_equal_events_have_equal_digests(event):
    """The snapshot is canonical; a change of anything changes its digest."""
    scenario = scenario_of(event)
    digest = sha256_of(scenario)

    assert decode(encode(scenario)) == scenario
    assert sha256_of(scenario_of(event)) == digest

    add_crew(
        event,
        name="late crew",
        does="walks",
        starts=NOON,
        ends=NOON + timedelta(hours=1),
    )
    assert sha256_of(scenario_of(event)) != digest


def test_a_kept_problem_is_dropped_when_anything_it_rests_on_changes(
    event, esker, shelf, marin, django_assert_num_queries
):
    """Unchanged it costs one query; each kind of change is seen at once."""
    first = problem_for(event)
    with django_assert_num_queries(1):
        assert problem_for(event) is first

    changes = [
        lambda: save_event(
            event,
            name="Bog Walk",
            zone="UTC",
            starts=NOON,
            ends=NOON + timedelta(hours=9),
        ),
        lambda: state_walk(event.sites.get(is_yard=True), esker.site, minutes=31),
        lambda: esker.equipment.update(count=2),
        lambda: esker.hours.update(pattern_id="digital"),
        lambda: event.bays.update(max_w=111),
        lambda: event.crews.first().delete(),
        lambda: event.sources.get().windows.all().delete(),
        lambda: set_hold(shelf["K02"], because="swollen"),
        lambda: record_capacity(shelf["K01"], tested_ah=9.0, origin="test", by=marin),
        lambda: choose_batteries(event, [shelf["K01"].pk]),
    ]
    before = first
    for change in changes:
        change()
        after = problem_for(event)
        assert after.problem.scenario != before.problem.scenario
        assert after.problem.scenario == scenario_of(event)
        before = after


def test_an_unreadable_scenario_names_the_path(event):
    """A misspelt or missing field is named by where it stands."""
    broken = encode(scenario_of(event)).replace(b'"walk_min":5', b'"walk_min":"five"')

    with pytest.raises(UnreadableScenario, match=r"stations\[0\]\.walk_min"):
        decode(broken)


def test_from_now_on_batteries_are_where_the_log_has_them(event, shelf, esker, marin):
    """Two hours in, minutes count from now and the serving battery stays."""
    from hollow_kettle.field import services as field

    at = event.starts_at + timedelta(minutes=5)
    field.note(
        event, "reading", by=marin, at=at, battery=shelf["K01"].pk, gauge_pct=90.0
    )
    field.log_swap(event, esker, battery=shelf["K01"], by=marin, at=at)

    now = scenario_of(event, event.clock.now())

    battery = next(b for b in now.batteries if b.tag == "K01")
    assert now.span_min == pytest.approx(360, abs=1)
    assert battery.start_place == str(esker.pk)
    assert battery.start_soc < 0.95


def test_hours_of_a_station_must_not_overlap(event, esker):
    """Two patterns at once would count twice."""
    hours = OpenHours.objects.get(station=esker)

    with pytest.raises(ValidationError, match="open then already"):
        add_hours(
            esker,
            starts=NOON + timedelta(hours=7),
            ends=NOON + timedelta(hours=9),
            pattern=hours.pattern,
        )


def test_walks_come_from_the_map_until_somebody_knows_better(event, esker):
    """500 m north: 10 min at 4 km/h with a third's detour; stated minutes win."""
    yard = event.sites.get(is_yard=True)
    place_site(yard, latitude=46.0, longitude=-95.0)
    place_site(esker.site, latitude=46.0 + 0.5 / 111.195, longitude=-95.0)
    state_walk(yard, esker.site, minutes=None)
    assert walk_minutes(event)[yard.pk, esker.site.pk] == 10

    state_walk(esker.site, yard, minutes=17)

    assert walk_minutes(event)[yard.pk, esker.site.pk] == 17


@pytest.mark.parametrize(
    ("row", "column", "words"),
    [
        ("Kame,1,hf-900w,calling-cw,,,", "equipment", "there is no 'hf-900w'"),
        ("Kame,1,hf-20w,dancing,,,", "pattern", "there is no 'dancing'"),
        ("Kame,1,hf 20w!,calling-cw,,,", "equipment", "is not like"),
        ("Kame,0,hf-20w,calling-cw,,,", "tier", "between 1 and 9"),
        ("Kame,1,hf-20w,calling-cw,tomorrow,,", "opens", "like 2026-06-27 14:00"),
        (
            "Kame,1,hf-20w,calling-cw,2026-06-27 14:00,2026-06-27 13:00,",
            "closes",
            "after",
        ),
        ("Kame,1,hf-20w,calling-cw,,,\nkame,1,hf-20w,calling-cw,,,", "name", "row 2"),
    ],
)
def test_each_fault_of_a_station_list_is_named(event, row, column, words):
    """Row, column and reason."""
    preview, _ = tables.preview_stations(event, (STATIONS + row).encode())

    (fault,) = preview.faults
    assert fault.column == column
    assert words in fault.reason


def test_a_station_list_goes_in_and_out_and_in_again(event):
    """Import, export, import: the event is the same."""
    rows = STATIONS + "Kame,1,hf-100w low; laptop x2,calling-cw,2026-06-27 13:00,,7\n"
    tables.apply_stations(event, rows.encode())
    before = encode(scenario_of(event))
    kame = Station.objects.get(name="Kame")
    assert [(e.equipment_id, e.count, e.step) for e in kame.equipment.all()] == [
        ("hf-100w", 1, "low"),
        ("laptop", 2, "full"),
    ]

    tables.apply_stations(event, tables.export_stations(event).encode())

    assert encode(scenario_of(event)) == before


def test_a_rotation_is_a_draft_until_published_and_then_the_only_one(event, marin):
    """Publishing supersedes the one before; every one passes the verifier."""
    first = making.make_rotation(event, by=marin)
    second = making.make_rotation(event, by=marin)
    assert (first.state, second.number) == (Rotation.State.DRAFT, 2)

    rotations.publish(first)
    rotations.publish(second)

    first.refresh_from_db()
    assert first.state == Rotation.State.SUPERSEDED
    assert published_of(event) == second
    problem, legs = problem_of(second)
    report = verify(problem, legs)
    assert report.is_valid
    assert report.outcome.walks == second.walks


def test_the_ledger_says_that_a_battery_of_its_rotation_is_on_hold_by_now(
    event, marin, shelf
):
    """Put on hold after planning: the rotation is still shown, and that is named."""
    rotations.publish(making.make_rotation(event, by=marin))
    assert ledger_page(event).changed == []

    set_hold(shelf["K01"], because="swollen")

    page = ledger_page(event)
    assert page.rotation is not None
    assert page.changed == ["K01: the hold"]


def test_replanning_from_now_keeps_minutes_of_the_event(event, marin, shelf, esker):
    """Legs of a plan made two hours in begin at minute 120."""
    set_clock(event, 120)

    rotation = making.make_rotation(event, by=marin, at=event.clock.now())

    starts = [leg.start_min for leg in rotation.legs.all()]
    assert min(starts) == rotation.from_min == pytest.approx(120, abs=1)
    assert max(leg.end_min for leg in rotation.legs.all()) == event.span_min


@pytest.mark.parametrize("case", ["no stations", "all on hold"])
def test_nothing_to_plan_is_said_not_planned(event, marin, shelf, case):
    """An empty rotation is not a plan."""
    if case == "no stations":
        event.stations.all().delete()
    else:
        for asset in shelf.values():
            set_hold(asset, because="recalled")

    with pytest.raises(ValidationError, match=r"Add a station|at least one battery"):
        making.make_rotation(event, by=marin)


def test_a_buffer_bank_must_say_what_it_holds(event, boss):
    """It runs dry; mains does not."""
    data = {
        "name": "bank",
        "kind": "buffer",
        "max_w": "300",
        "energy_wh": "",
        "starts": "2026-06-27T12:00",
        "ends": "2026-06-27T20:00",
    }

    response = boss.post(reverse("plan:source_add", args=[event.pk]), data)

    assert response.status_code == 422
    assert "say how much energy is in it" in response.content.decode()


def test_a_station_with_a_log_stays(event, shelf, esker, marin):
    """What was logged there keeps its place."""
    from hollow_kettle.field import services as field

    field.log_swap(event, esker, battery=shelf["K01"], by=marin, at=event.clock.now())

    with pytest.raises(ValidationError, match="can't be removed"):
        remove_station(esker)


def test_every_page_of_the_plan_reads(event, boss, marin, esker):
    """Ledger, station, yard, walks, batteries, people, board, before and after."""

    def read():
        pages = [
            reverse("plan:event_list"),
            esker.get_absolute_url(),
            *(
                reverse(f"plan:{name}", args=[event.pk])
                for name in (
                    "event_detail",
                    "yard",
                    "places",
                    "batteries",
                    "duties",
                    "rotation",
                    "station_export",
                )
            ),
        ]
        return {page: boss.get(page).status_code for page in pages}

    assert set(read().values()) == {200}
    made = boss.post(reverse("plan:rotation_add", args=[event.pk]), follow=True)
    assert "is complete and breaks no rule" in made.content.decode()
    published = boss.post(
        reverse("plan:rotation_publish", args=[event.pk, 1]), follow=True
    )
    assert "Next moves" in published.content.decode()
    assert set(read().values()) == {200}


def test_an_event_that_begins_anew_takes_its_hours_along(event, esker, marin):
    """A week later and two hours earlier by the clock; once logged, nothing moves."""
    add_hours(
        esker, starts=NOON + timedelta(hours=8), ends=NOON + timedelta(hours=9),
        pattern=OperatingPattern.objects.get(pk="calling-cw"),
    )  # fmt: skip
    rows = [*event.crews.all(), *esker.hours.all(), *event.sources.get().windows.all()]
    later = timedelta(days=7) - timedelta(hours=2)
    new = {"name": event.name, "zone": event.zone, "by": marin}
    save_event(
        event, starts=NOON + later, ends=NOON + later + timedelta(hours=8), **new
    )
    for row in rows:
        was = row.starts_at, row.ends_at
        row.refresh_from_db()
        assert (row.starts_at, row.ends_at) == (was[0] + later, was[1] + later)

    field.note(event, "note", by=marin, at=event.starts_at, note="rain")
    save_event(event, starts=NOON, ends=NOON + timedelta(hours=8), **new)
    rows[0].refresh_from_db()
    assert rows[0].starts_at == event.starts_at + later
