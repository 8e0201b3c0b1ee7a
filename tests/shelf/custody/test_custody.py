"""Who has what, what is due, what may leave; bench tests through the page."""

from datetime import timedelta

import pytest
from django.core.exceptions import ValidationError
from django.urls import reverse

from hollow_kettle.log.models import BatteryNow, FieldEntry, Kind, Place, PlaceKind
from hollow_kettle.people.club import club_now
from hollow_kettle.plan.events.services import set_state
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.assets.services import save_asset
from hollow_kettle.shelf.browse.queries import listing
from hollow_kettle.shelf.charge.queries import shelf_batteries_of
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.due.queries import due_list, gates_of
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.models import Asset, BenchTest


def where(tag):
    """Where the list says something is."""
    return next(row.where for row in listing(words=tag).rows if row.asset.tag == tag)


def due_of(tag):
    """What something is due for."""
    return {
        line.due.what
        for _, lines in due_list()
        for line in lines
        if line.asset.tag == tag
    }


def test_a_kit_goes_out_with_its_contents_and_comes_back_with_them(kit, event, boss):
    """To a station, through the page; what is missing stays out."""
    station = Place.objects.get(kind=PlaceKind.STATION, name__startswith="Drumlin")
    back = (club_now() + timedelta(days=2)).strftime("%Y-%m-%d %H:%M")

    boss.post(
        reverse("shelf:check_out"),
        {"tags": "q01 C01", "station": station.pk, "due_at": back},
    )
    assert {where(tag) for tag in ("Q01", "K01", "R01", "C01")} == {"Drumlin, Bog Walk"}

    boss.post(
        reverse("shelf:check_in", args=[kit.pk]),
        {"missing": "R01, a pencil", "is_wet": "on"},
    )
    assert where("K01") == "the shelf"
    assert where("R01") == "Drumlin, Bog Walk"
    kit.refresh_from_db()
    assert kit.hold == "came back wet"
    assert due_of("Q01") == {"repair", "spare"}


def test_the_list_groups_by_what_is_due(kit, boss):
    """Only what is due, under its heading, with the words of the due list."""
    page = boss.get(reverse("shelf:list_results"), {"group": "due"}).content.decode()

    assert page.index("Repairs") < page.index("Capacity tests")
    assert "never tested" in page
    assert ">K01<" not in page  # tested, free, at home


def test_what_is_lent_out_of_a_kit_neither_goes_nor_comes_with_it(kit, marin, boss):
    """R01 is with Heron: the kit goes without it, and its return leaves it there."""
    heron = custody.place_named(PlaceKind.PERSON, "Heron")
    custody.check_out([Asset.objects.get(tag="R01")], to=heron, by=marin)

    said = boss.post(
        reverse("shelf:check_out"),
        {"tags": "Q01", "to_kind": "person", "to_name": "Wren"},
        follow=True,
    ).content.decode()
    assert "Out elsewhere, so left: R01" in said
    assert (where("R01"), where("K01"), where("Q01")) == ("Heron", "Wren", "Wren")

    custody.check_in(kit, by=marin)
    assert (where("R01"), where("K01")) == ("Heron", "the shelf")


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"tags": "K01 K77"}, "Not on the shelf: K77"),
        (
            {"tags": "K04", "to_name": "Heron"},
            "On hold, so it stays here: K04: swollen",
        ),
        ({"tags": "K01"}, "Say which station, person or vehicle"),
        (
            {"tags": "K01", "to_name": "Heron", "due_at": "2001-01-01 10:00"},
            "due back before it goes",
        ),
        ({"tags": "K01", "to_name": "x", "due_at": "soon"}, "like 2026-06-27 14:00"),
    ],
)
def test_what_can_t_go_out_is_refused_and_nothing_goes(kit, boss, data, words):
    """The whole list stays, not only the one at fault."""
    response = boss.post(reverse("shelf:check_out"), {"to_kind": "person"} | data)

    assert response.status_code == 422
    assert words in response.content.decode()
    assert not FieldEntry.objects.filter(kind=Kind.CHECK_OUT).exists()


def test_a_wrong_check_out_is_struck_and_stays_visible(kit, marin, boss):
    """The placement goes back; the entry is there, crossed out."""
    heron = custody.place_named(PlaceKind.PERSON, "Heron")
    custody.check_out([kit], to=heron, by=marin)
    entry = FieldEntry.objects.get(kind=Kind.CHECK_OUT, asset=kit.pk)

    boss.post(
        reverse("shelf:strike", args=[kit.pk]), {"entry": entry.uid, "why": "wrong kit"}
    )

    assert where("Q01") != "Heron"
    battery = Asset.objects.get(tag="K01")
    assert where("K01") == "Heron"  # each thing has its own entry
    assert FieldEntry.objects.filter(uid=entry.uid).exists()
    with pytest.raises(ValidationError, match="no such entry"):
        custody.strike(battery, entry.uid, why="not its own", by=marin)


def test_gear_can_go_to_stations_of_open_events_only(event, boss):
    """Closing an event takes its stations off the form."""
    assert "Drumlin, Bog Walk" in boss.get(reverse("shelf:check_out")).content.decode()

    set_state(event, state=Event.State.CLOSED)

    page = boss.get(reverse("shelf:check_out")).content.decode()
    assert "Drumlin, Bog Walk" not in page


def test_a_hold_is_a_ticket_until_it_is_released(shelf, marin, boss):
    """Who sees to it and by when; releasing answers it."""
    asset = shelf["K01"]
    boss.post(
        reverse("shelf:hold", args=[asset.pk]),
        {"because": "loose post", "who": "Wren", "due_at": "2031-01-01 12:00"},
    )
    lines = [line for _, found in due_list() for line in found]
    ticket = next(line for line in lines if line.asset.tag == "K01")
    assert (ticket.due.what, ticket.due.words) == ("repair", "loose post, for Wren")

    boss.post(reverse("shelf:release", args=[asset.pk]), {"how": "new post"})
    asset.refresh_from_db()
    assert asset.hold == ""
    hold, release = FieldEntry.objects.filter(asset=asset.pk).order_by("id")
    assert release.answers == hold.uid


def test_what_was_noted_at_the_shelf_is_believed_and_proves_full(shelf, marin):
    """A charge that ended at absorption and tail, looked over: it may leave."""
    asset = shelf["K01"]
    assert shelf_batteries_of([asset])[0].soc is None
    custody.note_charged(asset, by=marin, volts=14.4, amps=0.5)

    now = BatteryNow.objects.get(battery=asset.pk)
    assert now.soc_typical > 0.97
    assert not gates_of([asset])[asset.pk].is_full
    custody.note_checked(asset, by=marin, switches_off=True, load_off=True)
    assert gates_of([asset])[asset.pk].is_full

    custody.check_in(asset, by=marin)  # whoever had it may have switched it on
    assert "switches" in " ".join(gates_of([asset])[asset.pk].missing)


def test_a_pack_that_loses_charge_at_rest_is_suspected(stocked, marin):
    """AGM: 12.85 V, three weeks later 12.30 V, never used."""
    asset = save_asset(
        KINDS["battery"], None, by=marin, tag="A7", chemistry="agm", series=6,
        nameplate_ah=35.0,
    )  # fmt: skip
    now = club_now()
    for days, volts in ((22, 12.85), (1, 12.30)):
        at = now - timedelta(days=days)
        custody.note_reading(asset, by=marin, volts=volts, unplugged_min=600, at=at)

    assert {"drain", "top up", "test"} <= due_of("A7")


def test_what_an_event_left_is_where_the_shelf_goes_on(event, shelf, marin):
    """After the event closes, a rested reading moves the belief from there."""
    asset = shelf["K01"]
    BatteryNow.objects.create(
        battery=asset.pk, soc_typical=0.5, soc_low=0.45, soc_high=0.55, evidence="x",
        base_typical=0.5, base_low=0.45, base_high=0.55,
        base_at=club_now() - timedelta(hours=2),
    )  # fmt: skip

    custody.note_reading(asset, by=marin, volts=13.07, unplugged_min=60)

    now = BatteryNow.objects.get(battery=asset.pk)
    assert 0.44 < now.soc_typical < 0.56  # 13.07 V says 41 to 72 %: little is learnt
    assert now.evidence.startswith("13.07 V")


def test_a_typed_run_down_becomes_trusted_only_when_accepted(shelf, boss, marin):
    """Rows through the page: 18 Ah by the trapezoid; a bound says "at least"."""
    asset = shelf["K03"]
    url = reverse("shelf:bench_add", args=[asset.pk])
    rows = "min;A;V\n0;6,0;13,2\n90;6,0;13,0\n180;6,0;11,4"

    boss.post(url, {"what": "run_down", "rows": rows, "was_full": "on", "temp_c": "25"})

    test = BenchTest.objects.get()
    assert (test.result, test.is_bound, test.rows.count()) == (18.0, False, 3)
    assert shelf_batteries_of([asset])[0].pack.tested_ah is None
    boss.post(reverse("shelf:bench_accept", args=[test.pk]))
    assert shelf_batteries_of([asset])[0].pack.tested_ah == 18.0

    boss.post(url, {"what": "counter", "shown_ah": "12", "hours": "4"})
    bound = BenchTest.objects.exclude(pk=test.pk).get()
    assert bound.is_bound
    assert "not proved full" in bound.words


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"what": "counter", "hours": "4"}, "What the meter counted is needed"),
        ({"what": "counter", "shown_ah": "0", "hours": "4"}, "the test says nothing"),
        ({"what": "timed", "rows": "0 5 13\nlater 5 12"}, "Line 2: write minutes"),
        ({"what": "timed", "rows": "0 5 13"}, "two lines or more"),
        (
            {"what": "sag", "amps": "5", "start_v": "12", "end_v": "12.5"},
            "must be lower",
        ),
        ({"what": "counter", "shown_ah": "9", "hours": "0"}, "between 0.01 and 2000 h"),
    ],
)
def test_a_test_that_says_nothing_is_refused_by_its_field(shelf, boss, data, words):
    """Nothing is kept."""
    response = boss.post(reverse("shelf:bench_add", args=[shelf["K03"].pk]), data)

    assert response.status_code == 422
    assert words in response.content.decode()
    assert not BenchTest.objects.exists()


def test_a_sag_test_measures_the_resistance(kit, shelf, boss):
    """0.3 V at 10 A: 30 mΩ, used once accepted."""
    test = BenchTest.objects.get(what="sag")
    assert test.result == 30.0

    boss.post(reverse("shelf:bench_accept", args=[test.pk]))

    shelf["K01"].battery.refresh_from_db()
    assert shelf_batteries_of([shelf["K01"]])[0].pack.resistance_ohm == pytest.approx(
        0.03
    )


def test_the_lead_finder_and_charge_by_answer_through_their_pages(kit, shelf, boss):
    """A chain by name; a timetable; and what is wrong with the question."""
    port = kit.ports.get()
    radio = Asset.objects.get(tag="R01").ports.create(
        name="DC", connector="radio-t", gender="socket", flow="in", high_v=15
    )
    found = boss.get(
        reverse("shelf:lead_finder"), {"source": port.pk, "load": radio.pk}
    ).content.decode()
    assert "The club owns no leads that join them" in found
    assert "T-shaped radio plug plug" in found

    start = club_now()
    departs, opens = (
        (start + timedelta(hours=h)).strftime("%Y-%m-%d %H:%M") for h in (10, 1)
    )
    url = reverse("shelf:charge_by")
    asked = {"departs": departs, "tags": "K01", "watches": f"{opens} to {departs}"}
    table = boss.get(url, asked).content.decode()
    assert "C01" in table
    assert "as it is set" in table

    past = boss.get(url, asked | {"departs": "2001-01-01 10:00"})
    assert "must lie ahead" in past.content.decode()
    bad = boss.get(url, asked | {"watches": "all night"})
    assert "is not like" in bad.content.decode()
