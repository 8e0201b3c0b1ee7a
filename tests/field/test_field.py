"""The field: log what is seen, see who runs short, nothing lost."""

from dataclasses import replace
from datetime import timedelta
from uuid import uuid4

import pytest
from django.urls import reverse

from hollow_kettle.field import beliefs, queries, services
from hollow_kettle.field.physics import EventPhysics
from hollow_kettle.log.models import (
    BatteryNow,
    Conflict,
    FieldEntry,
    Place,
    Placement,
    StationDraw,
)
from hollow_kettle.plan.bridge.scenario import scenario_of
from hollow_kettle.plan.events.services import set_state
from hollow_kettle.plan.files.export import export_scenario
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.rotation.making import make_rotation
from hollow_kettle.plan.rotation.moves import moves_of
from hollow_kettle.plan.rotation.queries import holds_of
from hollow_kettle.plan.rotation.services import publish
from hollow_kettle.shelf.assets.services import save_battery
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.models import Asset, Battery
from powercore.values import TimeGrid
from tests.conftest import set_clock


def board(event):
    """The board at the event's now."""
    return queries.board_of(event, event.clock.now())


def line_of(event, name):
    """One station's line."""
    return next(line for line in board(event).stations if line.station.name == name)


def test_use_since_the_last_reading_is_counted_by_plan(under_way):
    """Two hours of 40 W calling: about 2.24 A of 19 Ah (arithmetic by hand)."""
    mean_a = 0.6 * 0.7 + 0.4 * (1.6 + 0.4 * 7.4)
    line = line_of(under_way, "Esker")

    assert line.battery.tag == "K01"
    assert line.battery.soc.typical == pytest.approx(0.975 - 2 * mean_a / 19, abs=0.03)
    assert line.reserve.bad_h < line.reserve.typical_h


def test_every_battery_is_accounted_for(under_way, shelf):
    """The counts add up to all there are, hold and never-seen included."""
    found = board(under_way)

    assert dict(found.counts) == {"serving": 2, "ready": 1, "hold": 1}
    assert sum(count for _, count in found.counts) == len(shelf)


def test_a_swap_moves_both_batteries_and_the_move_is_done(
    under_way, shelf, esker, client_of
):
    """Logged by a runner on the page; the old one is on its way, then on the rack."""
    url = reverse("field:entry_add", args=[under_way.pk, "swap"])
    data = {"uid": uuid4(), "station": esker.pk, "tag": "k3", "tag_out": "K01"}

    response = client_of("runner").post(url, data)

    assert response.status_code == 302
    states = {b.tag: b.state for b in board(under_way).batteries}
    assert (states["K03"], states["K01"]) == ("serving", "on the way")


def test_two_people_log_one_swap_and_one_press_twice(
    under_way, shelf, esker, client_of
):
    """Two reports within minutes are one swap; a double press is one entry."""
    url = reverse("field:entry_add", args=[under_way.pk, "swap"])
    data = {"uid": str(uuid4()), "station": esker.pk, "tag": "K03", "tag_out": "K01"}
    for _ in range(2):
        client_of("runner").post(url, data | {"taken": "2026-06-27T13:50"})
    client_of("logger").post(
        url,
        {
            "uid": uuid4(),
            "station": esker.pk,
            "tag": "K03",
            "taken": "2026-06-27T13:54",
        },
    )

    assert FieldEntry.objects.filter(kind="swap", battery=shelf["K03"].pk).count() == 2
    assert (
        Placement.objects.filter(
            battery=shelf["K03"].pk, place__station_key=esker.pk
        ).count()
        == 1
    )
    assert not Conflict.objects.exists()


def test_an_unknown_tag_is_kept_aside_and_said(under_way, client_of):
    """Nothing that somebody saw is refused."""
    url = reverse("field:entry_add", args=[under_way.pk, "reading"])

    response = client_of("logger").post(
        url,
        {"uid": uuid4(), "tag": "K99", "volts": "13,1", "how": "receiving"},
        follow=True,
    )

    assert "no battery K99 on the shelf" in response.content.decode()
    entry = FieldEntry.objects.get(standing="quarantine")
    assert (entry.volts, entry.raw["tag"]) == (13.1, "K99")
    assert board(under_way).kept_aside == 1


@pytest.fixture
def waiting(under_way, client_of):
    """A reading of K99, which the club has not, and its entry."""
    url = reverse("field:entry_add", args=[under_way.pk, "reading"])
    said = {"uid": uuid4(), "tag": "K99", "gauge_pct": "31", "how": "receiving"}
    client_of("logger").post(url, said)
    return FieldEntry.objects.get(standing="quarantine")


def test_what_waits_is_used_as_it_was_meant(under_way, shelf, boss, waiting):
    """K99 was K03: a further entry answers, the first stays and waits no more."""
    url = reverse("field:entry_answer", args=[under_way.pk, waiting.pk])
    page = boss.get(url)
    assert "no battery K99 on the shelf" in page.content.decode()
    sent = {"gauge_pct": page.context["form"]["gauge_pct"].value(), "how": "receiving"}
    sent |= {"uid": uuid4(), "taken": page.context["form"]["taken"].value()}

    silent = boss.post(url, sent | {"tag": "K03"})
    assert silent.status_code == 422
    again = boss.post(url, sent | {"tag": "K98", "because": "misheard"})
    assert "It would wait again: no battery K98" in again.content.decode()
    assert FieldEntry.objects.filter(kind="reading", gauge_pct=31).count() == 1
    far = boss.post(url, sent | {"tag": "K03", "because": "misheard"})
    assert "31 % is far from the" in far.content.decode()
    boss.post(url, sent | {"tag": "K03", "because": "misheard", "sure": "on"})

    used = FieldEntry.objects.get(answers=waiting.uid)
    assert (used.battery, used.gauge_pct, used.standing) == (
        shelf["K03"].pk, 31, "kept"
    )  # fmt: skip
    assert used.effective_at.replace(second=0, microsecond=0) == (
        waiting.effective_at.replace(second=0, microsecond=0)
    )
    assert queries.log_state(under_way).quarantined == 0
    assert BatteryNow.objects.get(battery=shelf["K03"].pk).soc_typical < 0.5
    log = boss.get(reverse("field:log_list", args=[under_way.pk])).content.decode()
    assert "answered: misheard" in log
    late = boss.post(url, sent | {"uid": uuid4(), "tag": "K03", "because": "x"})
    assert late.status_code == 302
    assert FieldEntry.objects.filter(answers=waiting.uid).count() == 1


def test_what_waits_is_left_out_with_a_reason(under_way, boss, waiting):
    """A struck entry waits no more, nor does one whose strike is not its own."""
    assert queries.log_state(under_way).quarantined == 1
    url = reverse("field:entry_strike", args=[under_way.pk, waiting.pk])

    boss.post(url, {"because": "another club's"})

    assert queries.log_state(under_way).quarantined == 0
    assert not any("waits" in words for words in board(under_way).worth_a_look)


@pytest.mark.parametrize(("do", "is_struck"), [("use", True), ("leave", False)])
def test_a_strike_that_waits_strikes_or_not(
    under_way, shelf, boss, marin, people, do, is_struck
):
    """A logger struck after the event was closed; a coordinator decides."""
    at = under_way.clock.now()
    first = services.note(under_way, "note", by=marin, at=at, note="rain")
    target = FieldEntry.objects.get(uid=first.uid)
    set_state(under_way, state=Event.State.CLOSED)
    services.strike(under_way, target, because="dry", by=people["logger"], at=at)
    waits = FieldEntry.objects.get(kind="strike")
    assert queries.log_state(under_way).quarantined == 1

    url = reverse("field:entry_answer", args=[under_way.pk, waits.pk])
    assert boss.get(url).status_code == 200
    assert boss.post(url, {"do": do}).status_code == 422
    boss.post(url, {"do": do, "because": "seen to"})

    assert queries.log_state(under_way).quarantined == 0
    (entry,) = [e for e in queries.entries_of(under_way) if e.uid == target.uid]
    assert entry.is_struck is is_struck


def test_a_charge_that_spoils_own_power_is_asked_about(event, shelf, client_of):
    """Mains at an event of own power only: asked once, then kept."""
    bay = event.bays.get()
    url = reverse("field:entry_add", args=[event.pk, "move"])
    data = {"uid": uuid4(), "tag": "K01", "to": bay.pk}
    event.is_own_power = True
    event.save()

    asked = client_of("logger").post(url, data)
    kept = client_of("logger").post(url, data | {"sure": "on"})

    assert asked.status_code == 422
    assert "which breaks “own power only”" in asked.content.decode()
    assert kept.status_code == 302


@pytest.mark.parametrize("volts", ["15,2", "0"])
def test_an_odd_reading_is_asked_about_once_then_kept(
    under_way, shelf, client_of, volts
):
    """15.2 V, or 0 V of a tripped protection, which says nothing of its charge."""
    url = reverse("field:entry_add", args=[under_way.pk, "reading"])
    data = {"uid": uuid4(), "tag": "K03", "volts": volts, "how": "unplugged"}
    before = BatteryNow.objects.get(battery=shelf["K03"].pk).soc_typical
    client = client_of("logger")

    asked = client.post(url, data)
    assert asked.status_code == 422
    assert "is odd" in asked.content.decode()
    assert client.post(url, data | {"sure": "on"}).status_code == 302

    after = BatteryNow.objects.get(battery=shelf["K03"].pk).soc_typical
    assert volts != "0" or after == pytest.approx(before)


@pytest.mark.parametrize(
    ("what", "data", "words"),
    [
        ("reading", {"tag": "K01"}, "Enter volts, amp-hours or a gauge"),
        ("reading", {"tag": "K01", "volts": "12,94,1"}, "Volts must be a plain number"),
        (
            "reading",
            {"tag": "K01", "gauge_pct": "140"},
            "Gauge must be between 0 and 100",
        ),
        ("reading", {"tag": "K01", "volts": "1e9"}, "Volts must be a plain number"),
        ("swap", {"tag": "K01", "tag_out": "k1"}, "go in and come out"),
        ("swap", {"tag": "K03", "tag_out": "K77"}, "There is no battery K77"),
        ("move", {"tag": "K01"}, "This field is required"),
        ("reading", {"tag": "K01", "taken": "25:70"}, "Write the time like 23:24"),
    ],
)
def test_bad_input_keeps_what_was_typed(under_way, esker, client_of, what, data, words):
    """Each message names its field; nothing is logged."""
    before = FieldEntry.objects.count()
    url = reverse("field:entry_add", args=[under_way.pk, what])
    data = {"uid": uuid4(), "how": "receiving", "station": esker.pk} | data

    response = client_of("logger").post(url, data)

    page = response.content.decode().replace("&#x27;", "'")
    assert response.status_code == 422
    assert words in page
    assert f'value="{data["tag"]}"' in page
    assert FieldEntry.objects.count() == before


def test_the_set_up_is_noted_in_one_press(event, shelf, marin, client_of):
    """Where the published plan begins, and full; only once, and not what is on hold."""
    url = reverse("field:set_up", args=[event.pk])
    client = client_of("coordinator")
    assert "Publish a rotation first" in client.post(url, follow=True).content.decode()
    publish(make_rotation(event, by=marin))

    said = client.post(url, follow=True).content.decode()

    assert "3 batteries are logged" in said
    assert dict(board(event).counts) == {"serving": 2, "ready": 1, "hold": 1}
    client.post(url)
    assert FieldEntry.objects.filter(kind="reading").count() == 3


def test_all_in_place_is_one_entry_with_its_time_that_one_strike_undoes(
    event, marin, boss, client_of
):
    """Nothing of it is left, and it may be noted again; nonsense notes nothing."""
    publish(make_rotation(event, by=marin), by=marin)
    url = reverse("field:set_up", args=[event.pk])
    boss.post(url, {"taken": "25:90"})
    boss.post(url, {"taken": "23:59"})
    boss.post(url, {"taken": "2026-06-24 23:59"})
    assert not FieldEntry.objects.exists()

    boss.post(url, {"taken": "13:05"})
    (entry,) = queries.entries_of(event)
    assert entry.effective_at.isoformat() == "2026-06-27T13:05:00+00:00"
    assert entry.note == "all in place as planned, batteries full: 3"
    assert Placement.objects.filter(ended_at=None).count() == 3

    boss.post(
        reverse("field:entry_strike", args=[event.pk, entry.pk]),
        {"because": "too soon"},
    )
    assert not Placement.objects.filter(ended_at=None).exists()
    assert len(queries.entries_of(event)) == 2
    boss.post(url)
    assert Placement.objects.filter(ended_at=None).count() == 3


def test_an_event_followed_as_planned_contradicts_nothing(event, shelf, marin):
    """People log swaps and what they put on bays, no more; nothing is asked back."""
    for station in event.stations.all():
        station.equipment.update(count=4)
    set_clock(event, 0)
    rotation = make_rotation(event, by=marin)
    publish(rotation, by=marin)
    services.note_set_up(event, by=marin)
    set_clock(event, event.span_min)
    batteries = {asset.pk: asset for asset in event.batteries.all()}
    stations = {station.pk: station for station in event.stations.all()}
    legs = sorted(rotation.legs.all(), key=lambda leg: leg.start_min)
    assert sum(leg.kind == "serve" for leg in legs) > 2
    assert any(leg.kind == "charge" for leg in legs)

    for leg in legs:
        at, asset = event.moment_of(leg.start_min), batteries[leg.battery]
        if leg.kind == "serve" and leg.start_min:
            services.log_swap(
                event, stations[leg.place], battery=asset, by=marin, at=at
            )
        elif leg.kind == "charge" and leg.start_min:
            services.log_move(
                event, asset, to=Place.objects.get(pk=leg.place), by=marin, at=at
            )

    assert not Conflict.objects.exists()
    for leg in legs:
        if leg.kind == "serve" and leg.end_min == event.span_min:
            here = Placement.objects.get(
                place=services.position_of(stations[leg.place]), ended_at=None
            )
            assert here.battery == leg.battery


@pytest.mark.parametrize(
    ("typed", "utc"),
    [
        ("13:50", "2026-06-27 13:50"),  # ten minutes ago
        ("8:36", "2026-06-27 08:36"),
        ("1345", "2026-06-27 13:45"),
        ("1315z", "2026-06-27 13:15"),
        ("14:01", "2026-06-27 14:01"),  # a clock that is a little ahead
        ("2026-06-27 12:30", "2026-06-27 12:30"),
        ("2026-06-26 23:50", "2026-06-26 23:50"),
    ],
)
def test_an_hour_alone_means_its_latest_one(under_way, client_of, typed, utc):
    """At 14:00 by the event's clock."""
    url = reverse("field:entry_add", args=[under_way.pk, "note"])
    client_of("logger").post(url, {"uid": uuid4(), "text": "rain", "taken": typed})

    entry = FieldEntry.objects.get(note="rain")
    assert f"{entry.effective_at:%Y-%m-%d %H:%M}" == utc


@pytest.mark.parametrize(
    ("what", "typed", "words"),
    [
        ("note", {"taken": "23:50"}, "23:50 is 14 hours ago, before the event"),
        ("note", {"taken": "2561"}, "Write the time like 23:24, 0105z"),
        ("reading", {"tag": "K01", "amp_hours": "90"}, "90 Ah of a battery of 20 Ah?"),
        ("reading", {"tag": "K03", "gauge_pct": "5"}, "5 % is far from the"),
        ("reading", {"tag": "02", "volts": "12.9"}, "Do you mean battery 2?"),
    ],
)
def test_what_can_hardly_be_so_is_asked_about_once(
    under_way, client_of, marin, what, typed, words
):
    """Kept when it is meant; nothing before."""
    lead = save_battery(
        None, by=marin, tag="2", chemistry="lifepo4", series=4, nameplate_ah=20.0
    )
    under_way.batteries.add(lead)
    url = reverse("field:entry_add", args=[under_way.pk, what])
    sent = {"uid": uuid4(), "text": "x", "how": "receiving"} | typed
    count = FieldEntry.objects.count()
    asked = client_of("logger").post(url, sent)
    assert words in asked.content.decode()
    assert FieldEntry.objects.count() == count

    client_of("logger").post(url, sent | {"sure": "on"})
    is_kept = "2561" not in typed.values()
    assert FieldEntry.objects.count() == count + is_kept


def test_off_the_air_comes_first_and_back_ends_it(under_way, drumlin, client_of):
    """One tap puts a station at the top of the board."""
    url = reverse("field:entry_add", args=[under_way.pk, "station"])
    client = client_of("logger")

    client.post(url, {"uid": uuid4(), "station": drumlin.pk, "what": "off_air"})
    first = board(under_way).stations[0]
    assert (first.station, first.is_off, board(under_way).off_air) == (drumlin, True, 1)

    set_clock(under_way, 121)
    client.post(url, {"uid": uuid4(), "station": drumlin.pk, "what": "back"})
    assert board(under_way).off_air == 0


def test_off_the_air_draws_nothing_and_low_power_less(under_way, drumlin, esker, marin):
    """An hour off saves what the plan would have drawn then."""
    physics = beliefs.EventPhysics(under_way)
    start, end = under_way.starts_at, under_way.starts_at + timedelta(hours=2)
    full_wh = physics.drawn_wh(str(drumlin.pk), start, end)
    hour = {"by": marin, "at": start + timedelta(minutes=30)}
    services.log_station(under_way, drumlin, what="off_air", **hour)
    services.log_station(under_way, esker, what="power_step", step="low", **hour)
    back = start + timedelta(minutes=90)
    services.log_station(under_way, drumlin, what="back", by=marin, at=back)

    physics = beliefs.EventPhysics(under_way)

    assert physics.drawn_wh(str(drumlin.pk), start, end) == pytest.approx(full_wh / 2)
    assert full_wh / 2 < physics.drawn_wh(str(esker.pk), start, end) < full_wh


def test_a_source_switched_off_charges_nothing_meanwhile(under_way, marin):
    """Mains off for half an hour of two."""
    source = under_way.sources.get()
    bay = str(under_way.bays.get().pk)
    start = under_way.starts_at
    for minute, is_on in ((30, False), (60, True)):
        services.log_source(
            under_way,
            source,
            is_on=is_on,
            by=marin,
            at=start + timedelta(minutes=minute),
        )

    physics = beliefs.EventPhysics(under_way)

    assert physics.power_hours(bay, start, start + timedelta(hours=2)) == 1.5


def test_a_source_that_is_off_drives_board_ledger_and_replan(
    under_way, shelf, marin, boss
):
    """Nothing that a plan assumed outlives an entry that says otherwise."""
    bay = under_way.bays.get()
    now = under_way.clock.now()
    for station in under_way.stations.all():
        station.equipment.update(count=4)
    services.log_move(
        under_way, shelf["K03"], to=Place.objects.get(pk=bay.pk), by=marin, at=now
    )
    charging = {
        leg.kind for leg in make_rotation(under_way, at=now, by=marin).legs.all()
    }
    before = board(under_way).bays[0]
    planned = export_scenario(under_way)
    assert "charge" in charging
    assert (before.has_power, before.off_since) == (True, None)

    services.log_source(under_way, bay.source, is_on=False, by=marin, at=now)

    off = board(under_way).bays[0]
    assert (off.has_power, off.off_since, off.hours_to_90) == (False, now, None)
    page = boss.get(reverse("field:board", args=[under_way.pk])).content.decode()
    assert "switched off since" in page
    assert "mains is off since 14:00: nothing charges on it" in page
    rotation = make_rotation(under_way, at=now, by=marin)
    # K03 stays on the dead bay until a crew can fetch it; nothing else goes there.
    on_bays = [leg for leg in rotation.legs.all() if leg.kind == "charge"]
    assert all(leg.start_min == rotation.from_min for leg in on_bays)
    assert export_scenario(under_way) == planned

    set_clock(under_way, under_way.minute_of(now) + 30)
    again = under_way.clock.now()
    services.log_source(under_way, bay.source, is_on=True, by=marin, at=again)
    assert board(under_way).bays[0].has_power
    rotation = make_rotation(under_way, at=again, by=marin)
    assert "charge" in {leg.kind for leg in rotation.legs.all()}


def test_a_pin_that_has_become_impossible_lapses_and_is_listed(
    under_way, shelf, esker, drumlin, marin, boss
):
    """K01 was to stay at Esker; somebody put it in at Drumlin. The replan goes on."""
    now = under_way.clock.now()
    for battery, place in (("K01", esker), ("K03", under_way.bays.get())):
        under_way.pins.create(
            kind="stays",
            battery=shelf[battery],
            place=place.pk,
            starts_at=now - timedelta(minutes=30),
            ends_at=now + timedelta(hours=2),
            made_by=marin,
        )
    services.log_swap(under_way, esker, battery=shelf["K02"], by=marin, at=now)
    services.log_swap(under_way, drumlin, battery=shelf["K01"], by=marin, at=now)
    to = Place.objects.get(pk=under_way.bays.get().pk)
    services.log_move(under_way, shelf["K03"], to=to, by=marin, at=now)

    answer = boss.post(reverse("plan:rotation_add", args=[under_way.pk]), follow=True)

    page = answer.content.decode().replace("&#x27;", "'")
    assert "K01 stays at Esker" in page
    assert "This plan does without the pin" in page
    made = under_way.rotations.first()
    assert made.legs.filter(battery=shelf["K03"].pk, kind="charge").exists()


def test_a_station_that_draws_more_than_planned_is_forecast_and_replanned_so(
    under_way, esker, drumlin, shelf, marin, boss
):
    """By its counter Esker draws 1.4 times its plan; Drumlin says nothing."""
    now = under_way.clock.now()
    physics = beliefs.EventPhysics(under_way)
    planned = physics.drawn_wh(str(esker.pk), under_way.starts_at, now) / 12.8
    before = line_of(under_way, "Esker").reserve

    services.note(
        under_way, "reading", by=marin, at=now, battery=shelf["K01"].pk,
        amp_hours=1.4 * planned,
    )  # fmt: skip

    row = StationDraw.objects.get()
    assert (row.station_key, row.turns) == (esker.pk, 1)
    assert 1.25 < row.factor < 1.4
    words = " ".join(board(under_way).worth_a_look)
    assert f"Esker draws {row.factor:.2f} × its plan" in words
    after = line_of(under_way, "Esker").reserve
    assert after.typical_h is None or after.typical_h < 0.9 * before.typical_h
    scenario = scenario_of(under_way, now)
    draws = {station.name: station.draws for station in scenario.stations}
    assert draws == {"Esker": pytest.approx(row.factor), "Drumlin": 1.0}
    assert all(one.draws == 1 for one in scenario_of(under_way).stations)
    grid = TimeGrid.covering(60)
    watts = [one.demand_w(grid).sum() for one in scenario.stations]
    plain = [replace(one, draws=1.0).demand_w(grid).sum() for one in scenario.stations]
    assert watts[0] == pytest.approx(row.factor * plain[0])

    page = boss.post(reverse("plan:rotation_add", args=[under_way.pk]), follow=True)
    assert f"Esker counts at {row.factor:.2f} × its plan" in page.content.decode()

    entry = FieldEntry.objects.get(amp_hours__isnull=False)
    services.strike(under_way, entry, because="misread", by=marin, at=now)
    assert not StationDraw.objects.exists()


def test_a_replan_says_what_it_takes_unlogged_batteries_for(under_way, shelf, boss):
    """K02 and K03 were logged; K01 too; who was not is named, with what is assumed."""
    fresh = shelf["K04"]
    Asset.objects.filter(pk=fresh.pk).update(hold="")
    under_way.batteries.add(fresh)
    url = reverse("plan:rotation_add", args=[under_way.pk])

    page = boss.post(url, follow=True).content.decode()

    assert "Nobody noted here, and counted K04 at 10 %." in page
    board = boss.get(reverse("plan:rotation", args=[under_way.pk])).content.decode()
    assert "by what was last seen, in the yard: K04 at 10 %." in " ".join(board.split())


def test_charging_on_a_bay_fills_the_belief(under_way, shelf, marin):
    """A flat battery on a bay rises, and the board says when it is at 90 %."""
    start = under_way.starts_at + timedelta(minutes=40)
    for minute in (0, 1, 2):  # one against a full charge might be a slip
        services.note(
            under_way,
            "reading",
            by=marin,
            battery=shelf["K03"].pk,
            gauge_pct=20.0,
            at=start + timedelta(minutes=minute),
        )
    bay = Place.objects.get(event_key=under_way.pk, kind="bay")
    services.log_move(
        under_way, shelf["K03"], to=bay, by=marin, at=start + timedelta(minutes=5)
    )

    found = next(bay for bay in board(under_way).bays if bay.battery)

    assert found.battery.tag == "K03"
    assert found.battery.soc.typical > 0.6
    assert 0 < found.hours_to_90 < 2


def test_a_strike_undoes_and_only_one_s_own(under_way, shelf, esker, client_of, people):
    """Loggers strike their own entries, coordinators any; a reason is needed."""
    services.log_swap(
        under_way,
        esker,
        battery=shelf["K03"],
        by=people["logger"],
        at=under_way.starts_at + timedelta(minutes=100),
    )
    entry = FieldEntry.objects.get(battery=shelf["K03"].pk, kind="swap")
    url = reverse("field:entry_strike", args=[under_way.pk, entry.pk])

    assert client_of("runner").post(url, {"because": "no"}).status_code == 403
    client_of("logger").post(url, {"because": ""})
    assert line_of(under_way, "Esker").battery.tag == "K03"

    client_of("logger").post(url, {"because": "it was K02"})
    assert line_of(under_way, "Esker").battery.tag == "K01"
    page = client_of("observer").get(reverse("field:log_list", args=[under_way.pk]))
    assert 'class="struck"' in page.content.decode()


def test_what_is_noted_after_the_end_waits_in_quarantine(under_way, marin, people):
    """A closed event and a time ahead of now are kept aside, with the reason."""
    ahead = services.note(
        under_way,
        "note",
        by=marin,
        note="later",
        at=under_way.clock.now() + timedelta(hours=2),
    )
    set_state(under_way, state=Event.State.CLOSED)
    closed = services.note(
        under_way, "note", by=people["logger"], note="late", at=under_way.starts_at
    )

    assert "later than now" in ahead.why
    assert closed.why == "the event is closed"


def test_a_poll_with_nothing_new_is_empty_and_news_is_not(under_way, client_of, marin):
    """204 for the version that is shown; the version moves with each entry."""
    client = client_of("observer")
    url = reverse("field:board_poll", args=[under_way.pk])
    version = queries.version_of(under_way, under_way.clock.now())

    assert client.get(url, {"v": version}).status_code == 204
    services.note(under_way, "note", by=marin, at=under_way.clock.now(), note="rain")
    assert client.get(url, {"v": version}).status_code == 200


def test_board_and_plan_tell_one_chance_until_a_station_has_evidence(
    under_way, drumlin, shelf, marin
):
    """As planned and all full nothing is red; a station that draws double is."""
    before = board(under_way)
    for line in before.stations:
        if line.move is not None:
            planned = line.progress.move.slack.chance
            # A gauge's 100 % is a little less sure than the plan's "full".
            assert line.slack.chance == pytest.approx(planned, abs=0.08)
        assert not line.is_news
    assert before.alarms == []

    # Four times what was planned by its counter: what was published counted on less.
    set_clock(under_way, 150)
    line = next(s for s in before.stations if s.station == drumlin)
    drawn_wh = EventPhysics(under_way).drawn_wh(
        str(drumlin.pk), under_way.starts_at, under_way.clock.now()
    )
    services.note(
        under_way, "reading", by=marin, at=under_way.clock.now(),
        battery=line.battery.uid, amp_hours=min(15.0, 4 * drawn_wh / 12.8),
    )  # fmt: skip
    line = next(s for s in board(under_way).stations if s.station == drumlin)
    assert line.slack.chance > line.planned_chance
    assert line.is_news


def test_a_station_off_the_air_says_since_when_and_what_brings_it_back(
    under_way, drumlin, marin
):
    """No hours to its reserve: off is off."""
    now = under_way.clock.now()
    services.log_station(under_way, drumlin, what="off_air", by=marin, at=now)

    line = next(s for s in board(under_way).stations if s.station == drumlin)
    assert (line.lasts.words, line.lasts.at) == ("off the air since", now)
    assert line.ends.startswith("soonest: K03, there ")
    assert not line.shows_slack


def test_the_board_is_read_in_a_bounded_number_of_queries(
    under_way, client_of, marin, django_assert_max_num_queries
):
    """A thousand more entries cost no more queries."""
    for number in range(60):
        services.note(
            under_way,
            "note",
            by=marin,
            note=f"note {number}",
            refresh=False,
            at=under_way.starts_at + timedelta(minutes=number),
        )
    client = client_of("observer")

    url = reverse("field:board", args=[under_way.pk])
    client.get(url)  # what rests on the plan alone is kept

    with django_assert_max_num_queries(12):
        response = client.get(url)

    assert "All batteries" in response.content.decode()


def test_the_yard_s_troubles_are_worth_a_look(under_way, shelf, marin):
    """A bay that idles, a source about to end, a charger that must not charge."""
    now, bay = under_way.clock.now(), under_way.bays.get()
    here = {"by": marin, "at": now}
    services.note(under_way, "reading", battery=shelf["K03"].pk, gauge_pct=10.0, **here)
    assert "Bay 1 is free and has power: K03 waits, empty." in (
        board(under_way).worth_a_look
    )

    to = Place.objects.get(pk=bay.pk)
    services.log_move(under_way, shelf["K03"], to=to, **here)
    bay.source.windows.update(ends_at=now + timedelta(minutes=30))
    (words,) = [w for w in board(under_way).worth_a_look if "ends at" in w]
    assert words.startswith("mains ends at 14:30: K03 on Bay 1 will be at")
    # By hand: half of 20 Ah an hour, for half an hour, into the 18 of K03.
    held = 100 * board(under_way).bays[0].battery.soc.typical
    then = int(words.rpartition("be at ")[2].rstrip("%."))
    assert then - held == pytest.approx(100 * 5 * 0.99 / 18, abs=1)

    bay.chemistries = "agm"
    bay.save()
    first = board(under_way).worth_a_look[0]
    assert first.startswith("K03 is on Bay 1: the charger of Bay 1 is not set for")
    assert first.endswith("Take it off.")


def test_the_finder_finds_batteries_and_only_own_events(under_way, client_of):
    """Part of a tag or a name; a stranger does not learn of the event's stations."""
    url = reverse("field:find")

    assert "K01" in client_of("observer").get(url, {"q": "k01"}).content.decode()
    assert "Drumlin" in client_of("observer").get(url, {"q": "drum"}).content.decode()
    assert (
        "Bog Walk" not in client_of("stranger").get(url, {"q": "drum"}).content.decode()
    )


def test_the_same_form_sent_twice_counts_once_and_says_so(under_way, client_of):
    """With the time left empty, minutes apart; another payload is a conflict."""
    url = reverse("field:entry_add", args=[under_way.pk, "reading"])
    data = {"uid": uuid4(), "tag": "K01", "gauge_pct": "60", "how": "receiving"}
    client = client_of("logger")
    assert "Reading is saved." in client.post(url, data, follow=True).content.decode()
    set_clock(under_way, 125)

    again = client.post(url, data, follow=True).content.decode()
    assert "Reading was saved before; it counts once." in again
    assert FieldEntry.objects.filter(gauge_pct=60).count() == 1
    other = client.post(url, data | {"gauge_pct": "61"}, follow=True).content.decode()
    assert "Kept aside (conflict)" in other


@pytest.mark.parametrize(
    ("taken", "words"),
    [
        ("2025-06-27 13:50", "The event goes from 2026-06-27 12:00"),
        ("0001-01-01 00:00", "The year must be between 1970 and 2099, not 1."),
        ("9999-12-31 23:59", "The year must be between 1970 and 2099, not 9999."),
    ],
)
def test_a_time_far_outside_the_event_is_asked_about(
    under_way, client_of, shelf, esker, taken, words
):
    """And waits for a coordinator when it is meant; pages go on as quickly."""
    url = reverse("field:entry_add", args=[under_way.pk, "swap"])
    data = {"uid": uuid4(), "station": esker.pk, "tag": "K03", "taken": taken}
    answer = client_of("runner").post(url, data)
    assert answer.status_code == 422
    assert words in answer.content.decode()
    sure = client_of("runner").post(url, data | {"sure": "on"})
    if taken.startswith("2025"):
        assert sure.status_code == 302
        entry = FieldEntry.objects.get(battery=shelf["K03"].pk, kind="swap")
        assert entry.standing == "quarantine"
        assert "more than a day outside the event" in entry.standing_why
    else:
        assert sure.status_code == 422


def test_a_swap_with_an_unknown_tag_that_came_out_waits_when_it_is_meant(
    under_way, client_of, esker
):
    """Asked once; then kept for a coordinator."""
    url = reverse("field:entry_add", args=[under_way.pk, "swap"])
    data = {"uid": uuid4(), "station": esker.pk, "tag": "K03", "tag_out": "K77"}
    client = client_of("runner")
    assert "There is no battery K77" in client.post(url, data).content.decode()

    said = client.post(url, data | {"sure": "on"}, follow=True).content.decode()
    assert "Kept aside (quarantine): no battery K77 on the shelf" in said


@pytest.mark.parametrize("series", [4, 8])
def test_what_is_odd_hangs_on_the_pack(under_way, shelf, client_of, series):
    """26 V are usual for eight cells in series and odd for four."""
    Battery.objects.filter(pk=shelf["K01"].pk).update(series=series)
    url = reverse("field:entry_add", args=[under_way.pk, "reading"])
    data = {"uid": uuid4(), "tag": "K01", "volts": "26.1", "how": "receiving"}

    answer = client_of("logger").post(url, data)

    assert answer.status_code == (422 if series == 4 else 302)


def test_a_pack_at_0_v_comes_first_and_is_not_counted_on(under_way, shelf, client_of):
    """Not 69 %: tripped?, at the board's top; a later reading wakes it."""
    url = reverse("field:entry_add", args=[under_way.pk, "reading"])
    data = {"uid": uuid4(), "tag": "K02", "volts": "0", "how": "receiving"}
    client = client_of("logger")
    client.post(url, data | {"sure": "on"})

    first = board(under_way).stations[0]
    assert first.station.name == "Drumlin"
    assert first.battery.state == "tripped?"
    assert sum(count for _, count in board(under_way).counts) == len(shelf)
    page = client.get(reverse("field:board", args=[under_way.pk])).content.decode()
    assert "tripped?" in page
    assert "K02 read 0 V" in page
    plan = scenario_of(under_way, under_way.clock.now())
    charge = {one.tag: one.start_soc for one in plan.batteries}
    assert charge["K02"] == 0 < charge["K01"]
    client.post(url, data | {"uid": uuid4(), "volts": "13.2"})
    assert not board(under_way).stations[0].has_trouble


def test_a_hold_shows_at_once_on_board_plan_and_next_moves(
    under_way, shelf, marin, boss, client_of
):
    """Noted by a logger: on hold until somebody releases it."""
    poll = reverse("field:board_poll", args=[under_way.pk])
    version = board(under_way).version
    assert boss.get(poll, {"v": version}).status_code == 204
    note = reverse("field:entry_add", args=[under_way.pk, "note"])
    said = client_of("logger").post(
        note, {"uid": uuid4(), "text": "k1 looks swollen, K02 not"}, follow=True
    )
    assert "On hold until somebody releases it: K01." in said.content.decode()
    shelf["K01"].refresh_from_db()
    assert shelf["K01"].hold == "a note says swollen"

    now = boss.get(poll, {"v": board(under_way).version})
    assert now.status_code == 204
    page = boss.get(reverse("field:board", args=[under_way.pk])).content.decode()
    assert "K01 ON HOLD" in page
    assert "K01 at Esker is on hold: a note says swollen" in page
    rotation = boss.get(reverse("plan:rotation", args=[under_way.pk])).content.decode()
    assert "K01 is on hold: a note says swollen" in rotation
    assert "Don't carry it out as it is" in rotation
    custody.release(shelf["K01"], how="it was the bag", by=marin)
    assert "ON HOLD" not in boss.get(poll).content.decode()


def test_a_move_with_a_held_battery_says_so(under_way, shelf, marin):
    """Next moves, slips and round sheet go by it."""
    rotation = under_way.rotations.get()
    tags = {asset.pk: tag for tag, asset in shelf.items()}
    leg = rotation.legs.filter(kind="serve").first()
    custody.put_on_hold(Asset.objects.get(pk=leg.battery), because="wet", by=marin)

    for move in moves_of(under_way, rotation, tags):
        assert move.hold == ("wet" if move.battery == leg.battery else "")
    assert holds_of(under_way)[leg.battery] == "wet"


def test_a_bay_that_charges_with_nobody_there_is_worth_a_look(
    under_way, shelf, marin, boss
):
    """Unless that was allowed on purpose, with its reason."""
    bay = under_way.bays.get()
    to = Place.objects.get(pk=bay.pk)
    at = under_way.clock.now()
    services.log_move(under_way, shelf["K03"], to=to, by=marin, at=at)
    assert not any("nobody watches" in one for one in board(under_way).worth_a_look)
    under_way.crews.filter(does="yard").update(ends_at=at - timedelta(minutes=5))
    look = board(under_way).worth_a_look
    assert "Bay 1 charges K03, and nobody watches the yard." in look

    url = reverse("plan:bay_edit", args=[under_way.pk, bay.pk])
    sent = {
        "name": "Bay 1", "source": bay.source.pk, "max_w": "200",
        "chemistries": ["lifepo4"], "unwatched_why": "steel box, smoke alarm",
    }  # fmt: skip
    assert boss.post(url, sent | {"max_w": "0"}).status_code == 422
    assert boss.post(url, sent).status_code == 302
    assert not any("nobody watches" in one for one in board(under_way).worth_a_look)
    for page in ("plan:yard", "plan:rotation", "field:board"):
        text = boss.get(reverse(page, args=[under_way.pk])).content.decode()
        assert "steel box, smoke alarm" in text
