"""Sun, sources, copies and files of an event, through services and pages."""

from __future__ import annotations

import json
from datetime import datetime, time, timedelta
from pathlib import Path

import numpy as np
import pandas as pd
import pvlib
import pytest
from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from icalendar import Calendar
from pvlib.location import Location

from hollow_kettle.clock import local
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.bridge.scenario import scenario_of
from hollow_kettle.plan.bridge.sources import quiet_windows
from hollow_kettle.plan.events.services import save_event
from hollow_kettle.plan.files.copies import copy_event
from hollow_kettle.plan.files.export import export_scenario
from hollow_kettle.plan.files.imports import import_scenario
from hollow_kettle.plan.files.preview import preview_scenario
from hollow_kettle.plan.ledger.page import ledger_page
from hollow_kettle.plan.models import Event, SkyHour
from hollow_kettle.plan.rotation import making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.stations.services import add_supply
from hollow_kettle.plan.sun import services as sun
from hollow_kettle.plan.sun.weather import InventedWeather
from hollow_kettle.plan.yard.services import add_source, change_source, place_site
from hollow_kettle.shelf.assets.services import save_asset
from hollow_kettle.shelf.kinds import KINDS
from powercore.event.scenario import encode
from powercore.sun.weather import UnreadableWeather, read_weather
from tests.conftest import NOON
from tests.plan.test_pages import text

#: Wall-clock times: the zone is the event's.
NOVEMBER = datetime(2026, 11, 14, 7)  # noqa: DTZ001
LEAF_FALL = datetime(2026, 10, 24, 12)  # noqa: DTZ001
HOURS = [f"2026-06-27 {12 + h:02d}:00" for h in range(9)]


@pytest.fixture
def sunny(event, esker):
    """The event on the map, with a 100 W panel at Esker and trees to its west."""
    place_site(
        event.sites.get(is_yard=True), latitude=46.1, longitude=-0.5, altitude_m=400
    )
    sun.add_array(event, station=esker, watts=100, tilt=30, azimuth=180)
    sun.set_horizon(esker.site, [(90, 5), (270, 30)])
    sun.forecast_by_service(event)
    return event


def post(client, event, name, data, *args):
    """Send a form of the plan."""
    return client.post(reverse(f"plan:{name}", args=[event.pk, *args]), data)


def test_the_sun_sheet_shows_path_horizon_and_harvest(sunny, esker, boss):
    """Sunrise, the trees as points, and the day's watt-hours under both skies."""
    page = text(
        boss.get(reverse("plan:sun", args=[sunny.pk]) + f"?site={esker.site_id}")
    )
    clear_wh = problem_for(sunny).suns["clear"][0][0].sum() / 12

    assert "up <time" in page
    assert 'data-azimuth="270.0"' in page
    assert f"{clear_wh:,.0f}" in page
    assert 250 < clear_wh < 600


def test_the_ledger_counts_the_sky_that_is_chosen(sunny, boss):
    """Under each sky Esker's line has its sun; without sun it has none."""
    by_sky = {
        sky: ledger_page(sunny, sky).lines[0].budget.sun_wh
        for sky in ("none", "forecast", "clear")
    }
    url = reverse("plan:event_detail", args=[sunny.pk])

    assert by_sky["none"] == 0
    assert by_sky["forecast"] > 50 < by_sky["clear"]
    assert "Runs on its panels alone?" in text(boss.get(url))
    assert "No sun at all" not in text(boss.get(url + "?sky=none"))


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("array_add", {"watts": "", "count": "1", "method": "mppt"}, "state its watts"),
        ("array_add", {"watts": "-5", "count": "1"}, "between 1 and 5000 W"),
        ("sky_edit", {"by": "oktas", "oktas": "3 4 9"}, "0 to 8 eighths, not 9"),
        ("sky_edit", {"by": "oktas", "oktas": "3 x"}, "'x' is no number"),
        ("sky_edit", {"by": "days", "day-0": "rain"}, "what kind of day"),
        ("yard_place", {"latitude": "95", "longitude": "3"}, "between -90 and 90"),
        ("yard_place", {"latitude": "46"}, "both its coordinates"),
    ],
)
def test_impossible_sun_is_refused_by_name(sunny, esker, boss, name, data, words):
    """The page names the field and the range, and nothing changes."""
    before = encode(scenario_of(sunny))

    response = post(boss, sunny, name, data | {"feeds": f"station-{esker.pk}"})

    assert response.status_code == 422
    assert words in text(response)
    assert encode(scenario_of(sunny)) == before


@pytest.mark.parametrize(
    ("points", "words"),
    [
        ("90 12\n135", "Line 2"),
        ("400 10", "between 0 and 360"),
        ("90 95", "between 0 and 90"),
        ("90 5\n90 6", "twice"),
    ],
)
def test_an_impossible_horizon_is_given_back(sunny, esker, boss, points, words):
    """What was typed stands in the field again."""
    response = post(boss, sunny, "horizon_edit", {"points": points}, esker.site_id)

    assert response.status_code == 422
    assert words in text(response)
    assert points in response.content.decode()
    assert esker.site.horizon.count() == 2


@pytest.mark.parametrize(
    ("name", "of", "box", "mine", "theirs"),
    [
        ("horizon_edit", "horizon_form", "points", "90 40", "180 7"),
        ("sky_edit", "cloud_form", "oktas", "1 1 1", "6 6 6"),
    ],
)
def test_two_who_type_over_one_box_are_told(
    sunny, esker, boss, name, of, box, mine, theirs
):
    """Who saves second sees what the first saved, and keeps what was typed."""
    keys = [esker.site_id] if name == "horizon_edit" else []
    page = boss.get(reverse("plan:sun", args=[sunny.pk]), {"site": esker.site_id})
    seen = {"seen": page.context[of]["seen"].value(), "by": "oktas"}

    assert post(boss, sunny, name, seen | {box: theirs}, *keys).status_code == 302
    late = post(boss, sunny, name, seen | {box: mine}, *keys)

    assert late.status_code == 422
    assert "Somebody else saved this" in text(late)
    assert mine in late.content.decode()
    again = {"seen": late.context[of]["seen"].value(), "by": "oktas"}
    assert post(boss, sunny, name, again | {box: mine}, *keys).status_code == 302


def test_a_noon_reading_sets_a_panel_right(sunny, esker, boss):
    """Half of what the model says halves its harvest; twice as much is refused."""
    array = esker.arrays.get()
    before = problem_for(sunny).suns["clear"][0][0].sum()
    reading = {"at": "2026-06-27 12:00", "volts": "13.4", "oktas": "0"}

    refused = post(boss, sunny, "array_noon", reading | {"amps": "14"}, array.pk)
    kept = post(boss, sunny, "array_noon", reading | {"amps": "3,0"}, array.pk)
    array.refresh_from_db()

    assert "the time, the sky or the panel" in text(refused)
    assert kept.status_code == 302
    assert 0.4 < array.factor < 0.6
    after = problem_for(sunny).suns["clear"][0][0].sum()
    assert after == pytest.approx(before * array.factor, rel=0.01)


def test_what_if_answers_at_once_and_names_what_it_cannot(sunny, esker, boss):
    """Low power for some hours saves energy; a stretch half typed is asked about."""
    url = reverse("plan:what_if", args=[sunny.pk, esker.pk])
    low = text(boss.get(url, {"kind": "low", "from": "14:00", "until": "16:00"}))
    half = text(boss.get(url, {"kind": "low", "from": "14:00"}))
    spare = text(boss.get(url, {"kind": "spare", "battery": "nothing"}))

    assert "low power from 14:00 to 16:00" in low
    assert "Wh less" in low
    assert "both times of day" in half
    assert "Choose a battery" in spare


# --- weather ---------------------------------------------------------------------


def csv(*lines: str) -> bytes:
    """A weather file."""
    return "\n".join(lines).encode()


def read(content: bytes):
    """Read a file for the event's eight hours."""
    start = datetime.fromisoformat("2026-06-27T12:00:00+00:00")
    return read_weather(
        content, zone="Europe/Helsinki", start=start, end=start + timedelta(hours=8)
    )


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        (["time,oktas", *(f"{at},3" for at in HOURS)], "no zone: taken as Europe"),
        (["time,cloud_pct", *(f"{at}Z,50" for at in HOURS[::4])], "every 240 min"),
        (["time,oktas", *(f"2026-06-{d} 00:00Z,4" for d in (26, 27, 28))], "a day"),
        (
            ["time,oktas", *(f"{at}Z,3" for at in (*HOURS[:3], *HOURS[6:]))],
            "a gap of 4.0 h after 2026-06-27 14:00 UTC",
        ),
        (["time,ghi", *(f"{at}Z,400" for at in HOURS)], "the light counts as it is"),
    ],
)
def test_what_a_file_leaves_open_is_said(lines, words):
    """Zone, step, gap: named in the preview with what is assumed."""
    assert any(words in one for one in read(csv(*lines)).assumed)


@pytest.mark.parametrize(
    ("lines", "words"),
    [
        (["when,oktas", "2026-06-27 12:00,3"], "No column is named time"),
        (["time,rain", "2026-06-27 12:00,3"], "oktas, cloud_pct or global_w"),
        (["time,oktas", "noon,3"], "Line 2: 'noon' is not a time"),
        (
            ["time,oktas", "2026-06-27 12:00,11"],
            "Line 2: oktas must be between 0 and 8",
        ),
        (["time,oktas", "2025-06-27 12:00,1"], "ends before or begins after"),
        (["time,oktas", *["2026-06-27 12:00,1"] * 2], "twice"),
        (["time,oktas"], "no hours"),
        (["time,oktas", "0001-01-01 00:00,1"], "Line 2: date value out of range"),
        (["time,oktas", f"{'x' * 140_000},1"], "Line 2: field larger than"),
    ],
)
def test_a_file_that_cannot_be_read_names_its_line(lines, words):
    """The line and the reason."""
    with pytest.raises(UnreadableWeather, match=words):
        read(csv(*lines))


def test_a_typical_year_stands_for_any_year():
    """A TMY3 file of the library's own test data: the same hours of another year."""
    file = Path(pvlib.__file__).parent / "data" / "703165TY.csv"
    found = read(file.read_bytes())

    assert found.kind == "TMY3"
    assert len(found.rows) == 8
    assert "a typical year" in found.assumed[0]
    assert all(row.global_w is not None for row in found.rows)


def test_the_light_of_a_typical_year_is_that_of_its_hour():
    """TMY3 labels hours at their end: over months, light is even about solar noon."""
    file = Path(pvlib.__file__).parent / "data" / "703165TY.csv"
    start, end = (pd.Timestamp(f"2026-{m:02}-01", tz="UTC") for m in (4, 9))
    found = read_weather(file.read_bytes(), zone="UTC", start=start, end=end)
    middles = pd.DatetimeIndex([row.at for row in found.rows]) + pd.Timedelta("30min")
    # Sand Point, as the file's first line says.
    sun = Location(55.317, -160.517).get_solarposition(middles)
    hours = (sun["azimuth"] - 180) / 15  # early is below 0, late above
    light = np.array([row.global_w for row in found.rows])
    is_up = sun["elevation"] > 15

    uneven = np.average(np.sign(hours[is_up]), weights=light[is_up])
    assert abs(uneven) < 0.1  # 0.14 with hours labelled at their beginning


def test_an_epw_file_in_its_own_zone():
    """Hours end at the hour, six hours behind UTC; cloud is in tenths."""
    # The form of an EnergyPlus weather file; place and values invented.
    head = ["LOCATION,Cold Tarn,-,XXX,invented,999999,46.12,-95.40,-6.0,410.0"]
    head += ["DESIGN CONDITIONS,0", "TYPICAL/EXTREME PERIODS,0"]
    head += ["GROUND TEMPERATURES,0", "HOLIDAYS/DAYLIGHT SAVINGS,No,0,0,0"]
    head += ["COMMENTS 1,", "COMMENTS 2,", "DATA PERIODS,1,1,Data,Sunday, 1/ 1,12/31"]
    rows = [
        f"2005,6,{day},{hour},60,?,20,10,50,97000,0,0,300,{40 * hour},400,200,0,0,0,0,"
        "180,3,5,5,20,77777,9,999999999,0,0.1,0,88,0.2,0,0"
        for day in (27, 28)
        for hour in range(1, 25)
    ]
    found = read("\n".join([*head, *rows, ""]).encode())
    noon = next(row for row in found.rows if row.at.hour == 18)

    assert found.kind == "EPW"
    # 18:00 UTC is 12:00 there: the hour from noon on, the file's thirteenth.
    assert noon.global_w == 40 * 13
    assert noon.oktas == 4.0


def test_a_weather_file_is_seen_before_it_counts(sunny, boss):
    """The preview keeps nothing; taking it replaces the forecast."""
    file = SimpleUploadedFile(
        "sky.csv", csv("time,oktas", *(f"{at}Z,6" for at in HOURS))
    )
    before = SkyHour.objects.count()
    page = post(boss, sunny, "sky_import", {"file": file})
    upload = page.context["upload"]
    assert SkyHour.objects.count() == before

    post(boss, sunny, "sky_import_apply", {}, upload.pk)

    assert set(sunny.sky.values_list("oktas", flat=True)) == {6.0}


def test_the_stand_in_for_a_weather_service_is_the_same_each_time():
    """Invented from a seed: bounded, the same twice, another for another place."""
    start = datetime.fromisoformat("2026-06-27T12:00:00+00:00")
    span = (start, start + timedelta(hours=30))
    first = InventedWeather().hourly(46, -95, *span)

    assert first == InventedWeather().hourly(46, -95, *span)
    assert first != InventedWeather().hourly(-33, 151, *span)
    assert all(0 <= hour.oktas <= 8 for hour in first)


# --- copies and files ------------------------------------------------------------


def test_the_service_asks_before_it_replaces_what_was_typed(sunny, boss):
    """Its own forecast it renews unasked."""
    url = reverse("plan:sky_edit", args=[sunny.pk])
    boss.post(url, {"by": "oktas", "oktas": "3 3 4"})
    typed = sunny.sky.count()

    asked = boss.post(url, {"by": "service"})
    words = " ".join(asked.content.decode().split())

    assert asked.status_code == 422
    assert "typed: cloud in eighths, 3 entries; the service’s would replace it" in words
    assert sunny.sky.count() == typed == 3
    assert boss.post(url, {"by": "service", "sure": "yes"}).status_code == 302
    assert sunny.sky.count() > typed
    assert boss.post(url, {"by": "service"}).status_code == 302


@pytest.mark.parametrize(
    ("latitude", "azimuth"), [(46.0, 180), (-37.0, 0), (None, 180)]
)
def test_panels_face_the_equator_unless_somebody_says_otherwise(
    event, esker, marin, latitude, azimuth
):
    """North of it to the south, south of it to the north."""
    event.sites.update(latitude=latitude, longitude=None if latitude is None else 5.0)
    event.refresh_from_db()

    row = sun.add_array(event, station=esker, watts=100, by=marin)

    assert row.azimuth == azimuth
    aimed = sun.add_array(event, station=esker, watts=100, azimuth=90, by=marin)
    assert aimed.azimuth == 90


def test_a_copy_keeps_every_time_of_day(sunny, esker, marin):
    """Copied over a change of clocks, hours read the same on the wall."""
    sunny.zone = "America/Chicago"
    sunny.save()
    add_supply(
        esker, kind="vehicle", max_w=60, starts=NOON, ends=NOON + timedelta(hours=1)
    )
    copy = copy_event(sunny, name="Bog Walk again", starts=NOVEMBER)

    def walls(one: Event):
        hours = [
            (h.starts_at, h.ends_at) for s in one.stations.all() for h in s.hours.all()
        ]
        return [
            tuple(local(at, one.zone).strftime("%H:%M") for at in pair)
            for pair in hours
        ]

    assert walls(copy) == walls(sunny)
    assert copy.span_min == sunny.span_min
    assert copy.copied_from == sunny
    assert copy.arrays.count() == sunny.arrays.count()
    assert copy.sky.count() == 0
    assert copy.stations.get(name="Esker").site.horizon.count() == 2


def test_a_scenario_file_makes_the_same_event_again(sunny, esker, marin):
    """Out, in, out: the same needs, the same sun and cold, the same ledger."""
    sunny.stations.filter(pk=esker.pk).update(cold_c=-4)
    sunny.yard_cold_c = 3
    sunny.save()
    add_supply(
        esker, kind="mains", max_w=60, starts=NOON, ends=NOON + timedelta(hours=1)
    )
    source = sunny.sources.get()
    change_source(source, max_w=400, other_w=50, quiet_from=None)
    battery = sunny.batteries.first()
    for kind, who in (("stays", battery), ("no_walk", None)):
        sunny.pins.create(
            kind=kind,
            battery=who,
            place=esker.pk,
            starts_at=sunny.moment_of(60),
            ends_at=sunny.moment_of(120),
        )
    content = export_scenario(sunny)
    again = import_scenario(content, by=marin)
    first, second = ledger_page(sunny, "forecast"), ledger_page(again, "forecast")

    own = again.stations.get(name="Esker")
    assert (own.cold_c, again.yard_cold_c) == (-4, 3)
    assert {
        (pin.kind, pin.battery, pin.place, again.minute_of(pin.ends_at))
        for pin in again.pins.all()
    } == {("stays", battery, own.pk, 120), ("no_walk", None, own.pk, 120)}
    for a, b in zip(first.lines, second.lines, strict=True):
        assert a.station.name == b.station.name
        assert b.budget.need_wh == pytest.approx(a.budget.need_wh, rel=1e-9)
        assert b.budget.sun_wh == pytest.approx(a.budget.sun_wh, rel=1e-6)
        assert b.budget.on_air_bad_h == pytest.approx(a.budget.on_air_bad_h, rel=1e-6)


def test_a_scenario_file_of_other_batteries_is_refused(sunny, marin):
    """The same tag for another battery: named, and nothing is made."""
    found = json.loads(export_scenario(sunny))
    found["batteries"][0]["pack"]["nameplate_ah"] = 100.0
    with pytest.raises(ValidationError, match="other batteries than in the file"):
        import_scenario(json.dumps(found).encode(), by=marin)
    assert Event.objects.count() == 1


def test_a_scenario_file_whose_tags_are_taken_is_refused(sunny, marin):
    """A tag that something else has, or that reads alike, is named before all."""
    found = json.loads(export_scenario(sunny))
    save_asset(KINDS["kit"], None, by=marin, tag="Z01", mass_kg=1.0)
    found["batteries"][0]["tag"], found["batteries"][1]["tag"] = "Z01", "z1"
    content = json.dumps(found).encode()
    preview = preview_scenario(content)
    assert preview.taken == ["Z01 (for Z01)", "z1 (for Z01)"]
    assert "Z01" not in preview.new
    with pytest.raises(ValidationError, match="mistaken for what has that tag"):
        import_scenario(content, by=marin)
    assert Event.objects.count() == 1


@pytest.mark.parametrize("key", ["field-day", "high-water-shelter", "ridge-walk"])
def test_an_example_is_a_template_for_an_event_here(shelf, boss, key):
    """With this shelf's batteries; loads, hours, sun and policy from the example."""
    page = boss.post(reverse("plan:scenario_import"), {"example": key})
    upload = page.context["upload"]
    made = boss.post(
        reverse("plan:scenario_import_apply", args=[upload.pk]), {"as": "template"}
    )
    event = Event.objects.get()

    assert made["Location"] == event.get_absolute_url()
    assert set(event.batteries.all()) == set(shelf.values())
    assert boss.get(event.get_absolute_url()).status_code == 200
    assert ledger_page(event).total.need_wh > 0


def test_a_file_with_what_the_tables_refuse_makes_nothing(sunny, marin):
    """A station's name of 200 letters: said, and no event is left half made."""
    found = json.loads(export_scenario(sunny))
    found["stations"][0]["name"] = "E" * 200
    with pytest.raises(ValidationError, match="can't be saved"):
        import_scenario(json.dumps(found).encode(), by=marin)
    assert Event.objects.count() == 1


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b'{"name": "x", "span_min": "long"}', "$.span_min"),
        (b'{"name": "\xff\xfe"}', "not in UTF-8"),
        ('{"name": "x"}'.encode("utf-16"), "malformed"),
        (b'{"a": ' + b"[" * 100_000, "brackets are too deep"),
    ],
)
def test_a_file_that_is_no_scenario_names_what_is_wrong(shelf, boss, content, words):
    """A word where a number belongs is named by its path; other files in words."""
    file = SimpleUploadedFile("event.json", content)
    response = boss.post(reverse("plan:scenario_import"), {"file": file})

    assert response.status_code == 422
    assert words in text(response)


def test_a_scenario_file_of_an_unknown_purpose_is_refused(sunny, marin):
    """Nothing is kept, and the words that are known are named."""
    found = json.loads(export_scenario(sunny)) | {"purpose": "picnic"}

    with pytest.raises(ValidationError, match="Purpose 'picnic' is unknown"):
        import_scenario(json.dumps(found).encode(), by=marin)
    assert Event.objects.count() == 1


def test_hours_and_places_go_out_in_open_forms(sunny, boss):
    """iCalendar that another library reads; GeoJSON with longitude first."""
    calendar = Calendar.from_ical(
        boss.get(reverse("plan:hours_export", args=[sunny.pk])).content
    )
    places = json.loads(
        boss.get(reverse("plan:places_export", args=[sunny.pk])).content
    )

    entries = calendar.walk("VEVENT")
    assert {str(one["summary"]).split(":")[0] for one in entries} >= {
        "Esker",
        "Drumlin",
    }
    assert all("dtstamp" in one and "uid" in one for one in entries)
    # RFC 7946: positions are longitude, latitude.
    assert places["features"][0]["geometry"]["coordinates"] == [-0.5, 46.1]


def test_clocks_that_change_inside_an_event(shelf, stocked):
    """A night of 25 hours: quiet hours by the wall, energy by real hours."""
    event = save_event(
        None,
        name="Leaf Fall",
        zone="Europe/Helsinki",
        starts=LEAF_FALL,
        ends=LEAF_FALL + timedelta(days=1),
    )
    source = add_source(
        event,
        name="generator",
        kind="generator",
        max_w=500,
        energy_wh=None,
        starts=LEAF_FALL,
        ends=LEAF_FALL + timedelta(days=1),
        quiet_from=time(22),
        quiet_until=time(6),
    )
    quiet = quiet_windows(event, source, 0)

    assert event.span_min == 25 * 60
    assert [(one.start_min, one.end_min) for one in quiet] == [(600, 600 + 9 * 60)]


def test_the_forecast_does_not_make_a_rotation_stale(sunny, marin):
    """A rotation is made for loads and batteries; new weather leaves it standing."""
    rotations.publish(making.make_rotation(sunny, by=marin))
    sun.forecast_by_oktas(sunny, [(NOON, 8.0)])
    sunny.refresh_from_db()

    assert ledger_page(sunny).rotation is not None
