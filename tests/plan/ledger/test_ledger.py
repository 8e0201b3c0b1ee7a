"""The event sheet and what stands beside it, as a coordinator reads it."""

from __future__ import annotations

from datetime import UTC, time, timedelta

import pytest
from django.core.exceptions import ValidationError
from django.urls import reverse

from hollow_kettle.plan.events.services import choose_batteries
from hollow_kettle.plan.files.copies import copy_event
from hollow_kettle.plan.ledger.compare import compare, requests_of
from hollow_kettle.plan.ledger.demand import set_page, station_page
from hollow_kettle.plan.ledger.page import ledger_page
from hollow_kettle.plan.ledger.whatif import what_if_page
from hollow_kettle.plan.models import Event, OperatingPattern, Station
from hollow_kettle.plan.policy import POLICIES, reserve_of
from hollow_kettle.plan.rotation import making
from hollow_kettle.plan.rotation import services as rotations
from hollow_kettle.plan.stations.services import (
    add_equipment,
    add_hours,
    remove_station,
    save_station,
)
from hollow_kettle.plan.sun import services as sun
from hollow_kettle.plan.yard.page import little_map, source_strip
from hollow_kettle.plan.yard.services import add_source, check_source, place_site
from hollow_kettle.shelf.models import EquipmentType
from powercore.futures.whatif import Change
from tests.conftest import NOON
from tests.plan.test_pages import text


@pytest.fixture
def generator(event):
    """A generator with little fuel, quiet from 18:00, and a kettle on it."""
    return add_source(
        event,
        name="generator",
        kind="generator",
        max_w=1600,
        energy_wh=None,
        starts=NOON,
        ends=NOON + timedelta(hours=8),
        other_w=400,
        max_va=1600,
        quiet_from=time(18),
        quiet_until=time(6),
        quarter_l_h=0.4,
        full_l_h=1.0,
        tank_l=1.2,
        on_hand_l=1.4,
    )


@pytest.mark.parametrize(
    ("limits", "words"),
    [
        ({"quiet_from": time(22)}, "both ends of the quiet hours"),
        ({"energy_wh": 500.0, "capacity_wh": 300.0}, "at least that"),
        ({"tank_l": 4.0}, "the tank and both fuel uses"),
        ({"tank_l": 4.0, "quarter_l_h": 1.0, "full_l_h": 0.5}, "no less than at a"),
    ],
)
def test_a_source_that_does_not_fit_together_is_refused(limits, words):
    """Each half of a pair asks for the other."""
    with pytest.raises(ValidationError, match=words):
        check_source(limits)


def test_the_strip_shows_quiet_hours_stops_and_the_end_of_the_fuel(
    event, generator, boss
):
    """As drawn, and as the planner counts on it."""
    strip = source_strip(event)
    row = next(row for row in strip.rows if row.source == generator)
    page = text(boss.get(reverse("plan:yard", args=[event.pk])))

    assert row.words.startswith(f"{1200 * 0.65:.0f} W for chargers")
    assert len(row.quiet) == 1
    assert row.dry is not None
    assert "780 W for chargers" in page
    assert ">dry<" in page


def test_a_bank_is_filled_by_day(event, generator, boss):
    """From the generator at 120 W; half a statement is refused, and a copy keeps it."""
    bank = add_source(
        event,
        name="bank",
        kind="buffer",
        max_w=300,
        energy_wh=100,
        starts=NOON,
        ends=NOON + timedelta(hours=8),
    )
    url = reverse("plan:source_edit", args=[event.pk, bank.pk])
    data = {
        "max_w": "300",
        "other_w": "0",
        "energy_wh": "100",
        "capacity_wh": "600",
        "fill_w": "120",
    }
    half = boss.post(url, data)
    kept = boss.post(url, data | {"filled_from": generator.pk})
    copy = copy_event(event, name="Again", starts=NOON + timedelta(days=7))

    assert "Say both what charges it" in text(half)
    assert kept.status_code == 302
    runs = ledger_page(event, "none").total.runs
    assert runs.store_wh[0, -1].max() > 300
    assert copy.sources.get(name="bank").filled_from.event == copy


def test_fuel_that_ends_is_asked_for(event, generator):
    """The ledger says when it runs dry; the request says how much and by when."""
    page = ledger_page(event)
    lines = requests_of(event).lines

    assert page.fuel[0].dry_at is not None
    assert page.fuel[0].line.missing_l > 0
    petrol = next(line for line in lines if "petrol" in line.what)
    assert petrol.by < page.fuel[0].dry_at


def test_who_runs_short_is_asked_for_in_packs(event, shelf, esker):
    """One battery for two stations: the other is short, in Wh and packs."""
    choose_batteries(event, [shelf["K01"].pk])
    page = ledger_page(event, "none")
    short = page.short[0]

    assert short.station.name == "Drumlin"
    assert short.off_at == event.starts_at
    assert short.budget.first_battery is None
    lines = requests_of(event).lines
    assert any("more at Drumlin" in line.what for line in lines)
    assert "not covered" in [words for _, words in page.legend]


def test_the_first_tier_is_judged_by_the_sky_it_counts_on(event, esker, shelf, boss):
    """One small battery and a large panel: short without sun, not on a clear day."""
    place_site(
        event.sites.get(is_yard=True), latitude=46.0, longitude=0.0, altitude_m=0
    )
    sun.add_array(event, station=esker, watts=400, tilt=0, azimuth=0)
    choose_batteries(event, [shelf["K03"].pk])
    shelf["K03"].battery.nameplate_ah = 10.0
    shelf["K03"].battery.save()

    by_sky = {}
    for sky in ("none", "clear"):
        event.first_tier_sky = sky
        event.save()
        by_sky[sky] = ledger_page(event)

    assert [one.name for one, _ in by_sky["none"].first_short] == ["Esker"]
    assert by_sky["clear"].first_short == []
    page = text(boss.get(event.get_absolute_url()))
    assert "First tier, counting on a clear sky" in page


def test_a_bad_day_is_never_better_than_the_plan(event):
    """Of every station: fewer hours, earlier off, more into reserve."""
    for line in ledger_page(event).lines:
        assert line.budget.on_air_bad_h <= line.budget.on_air_h
        assert line.budget.reserve_bad_min >= line.budget.reserve_min
        if line.off_at is not None:
            assert line.off_bad_at <= line.off_at


def test_equipment_stops_when_full_and_is_shed(event, esker):
    """Handhelds that fill up, a lamp that is shed at half: the day needs less."""
    before = station_page(event, esker).need_wh
    charger = EquipmentType.objects.get(pk="handheld-charger")
    add_equipment(esker, equipment=charger, fills_wh=10)
    filled = station_page(event, esker).need_wh - before

    # 10 Wh, then a tenth of 0.4 A for the rest of eight hours.
    assert filled == pytest.approx(10 + 0.1 * 5.12 * (8 - 10 / 5.12), rel=0.01)
    with pytest.raises(ValidationError, match="end after it starts"):
        add_equipment(
            esker,
            equipment=charger,
            used_from=NOON + timedelta(hours=2),
            used_until=NOON,
        )


def test_listening_windows_multiply_life(event, drumlin, boss):
    """Ten minutes an hour: a sixth of the energy, and the page says so."""
    hours = drumlin.hours.get()
    whole = station_page(event, drumlin).need_wh
    pattern = hours.pattern
    hours.delete()
    add_hours(
        drumlin,
        starts=NOON,
        ends=NOON + timedelta(hours=8),
        pattern=pattern,
        on_for_min=10,
        every_min=60,
    )

    assert station_page(event, drumlin).need_wh == pytest.approx(whole / 6)
    assert "lasts 6 times as long" in text(boss.get(drumlin.get_absolute_url()))
    with pytest.raises(ValidationError, match="before the next one begins"):
        add_hours(
            drumlin,
            starts=NOON + timedelta(hours=9),
            ends=NOON + timedelta(hours=10),
            pattern=pattern,
            on_for_min=30,
            every_min=10,
        )


def test_power_steps_say_what_each_draws(event, esker):
    """Low draws less than full, watch less than low; each lasts longer."""
    save_station(
        event, esker, name="Esker", tier=1, walk_min=5, low_words="Esker, one zero"
    )
    full, low, watch = station_page(event, esker).steps

    assert full.mean_w > low.mean_w > watch.mean_w
    assert full.lasts_h < low.lasts_h < watch.lasts_h
    assert low.say == "Esker, one zero"


def test_a_station_fed_from_afar_loses_volts(event, esker, boss):
    """40 m of AWG 10 at 9 A: 2.36 V, by 3.277 mΩ a metre both ways."""
    save_station(
        event, esker, name="Esker", tier=1, walk_min=5, feed_m=40.0, feed_awg=10
    )
    page = station_page(event, esker)

    assert page.drop_v == pytest.approx(9.0 * (2 * 40 * 0.003277 + 0.012), rel=0.01)
    assert any("are lost at Esker" in one.words for one in page.advice)
    assert "Lost on the way" in text(boss.get(esker.get_absolute_url()))


@pytest.mark.parametrize(
    ("kind", "values"),
    [
        ("watch", {}),
        ("off", {"what": "Logging laptop, 20 W"}),
        ("duty", {"amount": 0.5}),
        ("reserve", {"amount": 0.1}),
        ("panels", {"amount": 1}),
    ],
)
def test_every_what_if_is_answered(event, esker, kind, values):
    """Energy or hours change the way they must; reserve never adds hours."""
    place_site(
        event.sites.get(is_yard=True), latitude=46.0, longitude=0.0, altitude_m=0
    )
    add_equipment(esker, equipment=EquipmentType.objects.get(pk="laptop"))
    page = what_if_page(event, esker, "clear", Change(words="own", kind=kind, **values))
    gain = page.gains[0]

    assert page.trouble == ""
    assert gain.change.words == "own"
    if kind in ("watch", "off", "duty"):
        assert gain.saved_wh > 0
        assert gain.on_air_h >= 0
    elif kind == "reserve":
        assert gain.on_air_h == pytest.approx(0, abs=1e-9)
        assert gain.reserve_min <= 0
    else:
        assert gain.after.sun_wh > 0


def test_what_if_of_something_that_is_not_there_is_said(event, esker):
    """A load that the station doesn't have."""
    change = Change(words="own", kind="off", what="kettle")

    assert "has no kettle" in what_if_page(event, esker, "none", change).trouble


def test_a_set_in_parallel(event, esker, shelf, boss):
    """Two packs share alike; one alone is no set."""
    keys = [str(shelf[tag].pk) for tag in ("K01", "K02")]
    page = set_page(event, esker, keys)
    url = reverse("plan:parallel_set", args=[event.pk, esker.pk])

    a, b = page.report.members
    assert a.mean_a == pytest.approx(b.mean_a)
    assert page.sets >= 2
    assert "Tick at least two" in text(boss.get(url, {"set": keys[:1]}))


def test_own_power_is_warned_of(event, marin, boss):
    """Every bay hangs on the mains here, so a rotation that charges spoils it."""
    event.is_own_power = True
    event.save()
    rotations.publish(making.make_rotation(event, by=marin))
    page = ledger_page(event)

    assert all("from mains" in one.spoilt.words for one in page.spoilt)
    assert "Own power only" in text(boss.get(event.get_absolute_url()))


def test_policy_sets_the_reserve_where_a_battery_has_none(event, shelf):
    """30 % for the event; a battery's own wins; every policy says why."""
    event.lithium_reserve_pct = 30
    event.save()
    shelf["K02"].battery.reserve_pct = 10
    shelf["K02"].battery.save()
    from hollow_kettle.plan.bridge.scenario import scenario_of

    reserve = {one.tag: one.pack.reserve_soc for one in scenario_of(event).batteries}

    assert reserve["K01"] == pytest.approx(0.3)
    assert reserve["K02"] == pytest.approx(0.1)
    # Usual for an exercise, and for what is neither lithium nor lead.
    assert reserve_of(event, "agm") == pytest.approx(0.5)
    assert reserve_of(event, "nimh") is None
    assert all(policy.why.endswith(".") for policy in POLICIES.values())


def test_two_events_side_by_side(event, esker, boss):
    """A copy with one station less: what differs is shown."""
    copy = copy_event(event, name="Smaller", starts=NOON + timedelta(days=364))
    remove_station(copy.stations.get(name="Drumlin"))
    found = compare(event, copy)
    by_words = {figure.words: figure for figure in found.figures}

    assert by_words["stations"].more == 1
    assert by_words["length"].more == 0
    assert {name: there for name, _, there in found.stations}["Drumlin"] is None
    url = reverse("plan:event_compare", args=[copy.pk])
    assert "Bog Walk" in text(boss.get(url, {"with": event.pk}))


def test_a_way_of_operating_of_the_club_s_own(event, esker, boss):
    """Kept once; shares beyond the whole time and a taken name are refused."""
    url = reverse("plan:pattern_add", args=[event.pk, esker.pk])
    data = {
        "name": "Our beacon",
        "transmit_pct": "25",
        "duty_pct": "100",
        "standby_pct": "0",
    }

    assert boss.post(url, data).status_code == 302
    assert OperatingPattern.objects.get(name="Our beacon").transmit_share == 0.25
    assert "in the library already" in text(boss.post(url, data))
    wrong = boss.post(url, data | {"name": "Other", "standby_pct": "90"})
    assert "Standby share" in text(wrong)


def test_the_map_takes_the_near_way_over_the_date_line(event):
    """Fiji's two sides of 180° are neighbours, north is up."""
    sites = list(event.sites.all())
    places = ((-17.0, 179.99), (-17.0, -179.99), (-16.99, 179.99))
    for site, (latitude, longitude) in zip(sites, places, strict=True):
        place_site(site, latitude=latitude, longitude=longitude)
    drawn = little_map(list(event.sites.all()))
    at = {spot.site.pk: (spot.x, spot.y) for spot in drawn.spots}
    west, east, north = (at[site.pk] for site in sites)

    assert west[0] < east[0]
    assert north[1] < west[1]
    assert little_map(sites[:1]) is None


def test_sun_fills_what_the_station_did_not_use(event, esker):
    """At noon a 100 W panel gives more than a receiving station draws: spilled."""
    place_site(
        event.sites.get(is_yard=True), latitude=46.0, longitude=0.0, altitude_m=0
    )
    sun.add_array(event, station=esker, watts=400, tilt=0, azimuth=0)
    line = ledger_page(event, "clear").lines[0].budget

    assert line.spilled_wh > 0
    assert line.sun_wh > 0.5 * line.need_wh
    reached = line.kit_wh + line.carried_wh + line.sun_wh + line.supplied_wh
    assert reached + line.uncovered_wh == pytest.approx(line.need_wh, rel=1e-6)


def test_the_ledger_rests_on_a_rotation_with_pins_and_its_low_power(
    event, esker, marin, boss
):
    """It needs less while on low power, and its page says for how long."""
    usual = ledger_page(event).total.line(str(esker.pk)).need_wh
    starts = NOON.replace(tzinfo=UTC)
    hours = {"starts_at": starts, "ends_at": starts + timedelta(hours=2)}
    event.pins.create(kind="low", place=esker.pk, made_by=marin, **hours)
    made = making.make_rotation(event, by=marin)
    page = ledger_page(event)

    assert page.rotation == made
    (line,) = [one for one in page.lines if one.station == esker]
    assert line.low_min == pytest.approx(120, abs=5)
    assert line.budget.need_wh < usual
    assert "120 min on low power" in text(boss.get(event.get_absolute_url()))


def test_a_ledger_goes_on_showing_its_rotation_and_says_what_changed_since(
    event, esker, shelf, marin, boss
):
    """Changes are named, a gone station has no dead link, and a new plan settles it."""
    made = making.make_rotation(event, by=marin)
    rotations.publish(made, by=marin)
    before = ledger_page(event)
    drumlin = event.stations.get(name="Drumlin")
    key = str(drumlin.pk)
    whole = before.total.line(key).need_wh
    event.batteries.remove(shelf["K03"])
    event.crews.filter(does="yard").delete()
    Station.objects.filter(pk=esker.pk).update(tier=3)
    remove_station(drumlin)

    page = ledger_page(event)
    html = text(boss.get(event.get_absolute_url()))

    assert before.changed == []
    assert page.rotation == made
    assert page.total.line(key).need_wh == whole
    assert "Esker: tier" in page.changed
    assert {"Drumlin is gone", "K03 is gone"} <= set(page.changed)
    assert any("(yard) is gone" in words for words in page.changed)
    assert "Changed since: Esker: tier" in html
    assert "Drumlin</a>" not in html

    anew = making.make_rotation(event, by=marin)
    rotations.publish(anew, by=marin)
    assert ledger_page(event).changed == []
    assert len(ledger_page(event).lines) == len(page.lines) - 1


def test_once_replanned_ledger_and_request_speak_of_the_replan(event, marin, boss):
    """From its moment on, in the event's own times."""
    event.state = Event.State.RUNNING
    event.save()
    rotations.publish(making.make_rotation(event, by=marin), by=marin)
    at = event.starts_at + timedelta(hours=3)
    replan = making.make_rotation(event, by=marin, at=at)
    rotations.publish(replan, by=marin)

    page = ledger_page(event)
    lost = next(line for line in page.lines if line.off_at)

    assert page.rotation == replan
    assert page.starts == at
    assert lost.off_at >= at
    assert "on, by " in text(boss.get(event.get_absolute_url()))
    (asked,) = {
        one.by for one in requests_of(event).lines if one.where == lost.station.name
    }
    assert asked == lost.off_at


def test_cold_shortens_and_stands_on_the_sheet(event, esker, boss):
    """At -20 °C a first battery lasts 0.7 times as long; -70 °C is refused."""
    page = reverse("plan:station_edit", args=[event.pk, esker.pk])
    given = {"name": "Esker", "tier": "1", "changeover_s": "120", "walk_min": "5"}
    refused = boss.post(page, given | {"cold_c": "-70"})
    assert refused.status_code == 422
    assert "between -60 and 60 °C, not -70" in text(refused)
    warm = station_page(event, esker).batteries[0][1].to_reserve_h

    boss.post(page, given | {"cold_c": "-20"})

    cold = station_page(event, esker).batteries[0][1].to_reserve_h
    assert cold == pytest.approx(0.7 * warm)
    assert "batteries at -20 °C" in text(boss.get(event.get_absolute_url()))
