"""What is due, what may charge what, the drawing of a battery's years, attachments."""

from datetime import timedelta

import pytest
from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase

from hollow_kettle.field import services as field
from hollow_kettle.log.models import BatteryNow, FieldEntry, Kind, PlaceKind
from hollow_kettle.people.club import club_now, today
from hollow_kettle.people.models import Actor, Club
from hollow_kettle.shelf.assets import attachments
from hollow_kettle.shelf.assets.services import (
    add_port,
    record_capacity,
    save_asset,
    save_battery,
)
from hollow_kettle.shelf.charge.evidence import evidence_from
from hollow_kettle.shelf.charge.history import history_of
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.due.queries import due_list, gates_of
from hollow_kettle.shelf.fits.queries import fits_for, matrix
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.kits import services as kits
from hollow_kettle.shelf.kits.bridge import kit_of, rows_of_kit
from hollow_kettle.shelf.kits.page import kit_page
from hollow_kettle.shelf.models import Asset, PathPart


def lines():
    """Every line of the due list: tag, what, how late."""
    return {
        (line.asset.tag, line.due.what): line
        for _, found in due_list()
        for line in found
    }


def test_what_is_lent_is_due_back_and_late_after_its_day(shelf, marin):
    """A person, a return date, and then the date is past."""
    heron = custody.place_named(PlaceKind.PERSON, "Heron")
    now = club_now()
    custody.check_out(
        [shelf["K01"]], to=heron, by=marin,
        due_at=now + timedelta(days=2), at=now - timedelta(days=1),
    )  # fmt: skip
    custody.check_out(
        [shelf["K02"]], to=heron, by=marin,
        due_at=now - timedelta(days=3), at=now - timedelta(days=9),
    )  # fmt: skip
    found = lines()

    assert found["K01", "return"].when == "in 2 days"
    assert found["K02", "return"].when == "3 days ago"
    assert found["K02", "return"].is_late
    custody.check_in(shelf["K02"], by=marin)
    assert ("K02", "return") not in lines()


def test_meters_parts_and_tests_fall_due_by_their_dates(kit, shelf, marin):
    """A meter of two years ago, one of last month, a temporary part, an old test."""
    for tag, days in (("A01", 700), ("A02", 30)):
        save_asset(
            KINDS["meter"], None, by=marin, tag=tag,
            checked_on=today() - timedelta(days=days),
        )  # fmt: skip
    kits.add_note(
        kit, what="temporary", words="tape", due_on=today() + timedelta(days=5)
    )
    record_capacity(
        shelf["K02"], tested_ah=18.9, origin="x", by=marin,
        at=club_now() - timedelta(days=500),
    )  # fmt: skip
    found = lines()

    assert found["A01", "compare"].is_late
    assert ("A02", "compare") not in found
    assert found["Q01", "temporary"].when == "in 5 days"
    assert found["Q01", "spare"].due.words == "fuse 25 A: 1 of 3"
    assert found["K02", "test"].when == "135 days ago"
    assert ("K01", "test") not in found


@pytest.mark.parametrize(
    ("soc", "days", "what"),
    [(0.95, 40, "storage"), (0.28, 0, "top up"), (0.55, 40, None)],
)
def test_lithium_at_rest_is_due_for_what_its_charge_asks(shelf, soc, days, what):
    """Neither full nor empty for long."""
    BatteryNow.objects.create(
        battery=shelf["K01"].pk, soc_typical=soc, soc_low=soc, soc_high=soc,
        as_of=club_now() - timedelta(days=days), evidence="x",
    )  # fmt: skip
    found = {due for tag, due in lines() if tag == "K01"}

    assert found == ({what} if what else set())


def test_the_matrix_and_a_battery_s_page_say_the_same(kit, shelf, boss):
    """K01 fits C01 as it is set; what is on hold never charges."""
    rows = matrix().rows
    cells = {
        (asset.tag, cell.charger.tag): cell.fit
        for row in rows
        for asset in row.assets
        for cell in row.cells
    }

    assert cells["K01", "C01"].verdict == "fits"
    assert cells["K04", "C01"].why == "on hold: swollen"
    assert fits_for(shelf["K01"])[0][1] == cells["K01", "C01"]
    page = boss.get(reverse("shelf:matrix")).content.decode()
    assert "never: on hold: swollen" in page
    # Alike in one row, with the hours of the least and the most; one on hold.
    (alike,) = [row for row in rows if len(row.assets) > 1]
    (cell,) = [one for one in alike.cells if one.charger.tag == "C01"]
    hours = [fits_for(asset)[0][1].hours for asset in alike.assets]
    assert (cell.least_h, cell.most_h) == (min(hours), max(hours))
    assert shelf["K04"] not in alike.assets


def test_years_of_tests_are_drawn_in_time_and_judged(shelf, marin):
    """Later is further right, more is higher; a fall asks for a retest."""
    for years, ah in ((3, 19.6), (2, 19.1), (1, 16.0)):
        record_capacity(
            shelf["K02"], tested_ah=ah, sd=0.4, origin=f"test {years}", by=marin,
            at=club_now() - timedelta(days=365 * years),
        )  # fmt: skip
    found = history_of(shelf["K02"])
    dots = [dot for dot in found.dots if dot.words != "19.0"]

    assert [dot.words for dot in dots] == ["19.6 ±0.4", "19.1 ±0.4", "16.0 ±0.4"]
    assert sorted(dot.x for dot in dots) == [dot.x for dot in dots]
    assert sorted(dot.y for dot in dots) == [dot.y for dot in dots]
    assert all(dot.top < dot.y < dot.bottom for dot in dots)
    assert found.retire_y > found.printed_y


def test_evidence_is_what_counts_since_the_charge(shelf, marin):
    """A reading before the charge proves nothing; handing out undoes a look-over."""
    asset = shelf["K01"]
    now = club_now()
    custody.note_reading(
        asset, by=marin, volts=13.4, unplugged_min=60, at=now - timedelta(days=3)
    )
    custody.note_charged(
        asset, by=marin, volts=14.4, amps=0.4, at=now - timedelta(days=2)
    )
    custody.note_checked(asset, by=marin, switches_off=True, load_off=False)
    entries = list(FieldEntry.objects.filter(asset=asset.pk).order_by("effective_at"))

    found = evidence_from(entries, now, used_at=now - timedelta(days=1))
    assert found.rested is None
    assert found.charge_end.volts == 14.4
    assert found.charge_end.days == pytest.approx(2, abs=0.01)
    assert [seen.words for seen in found.seen] == ["it was used", ""]
    assert (found.switches_off, found.load_off) == (True, False)


def test_a_reading_at_an_event_closes_the_gate_until_it_is_charged(event, shelf, marin):
    """Proved full at the shelf, then its gauge at an event: it is charged again."""
    Club.objects.update(clock_offset=event.clock_offset)
    asset, before = shelf["K01"], club_now() - timedelta(hours=5)
    custody.note_charged(asset, by=marin, volts=14.4, amps=0.4, at=before)
    custody.note_checked(asset, by=marin, switches_off=True, load_off=True)
    assert gates_of([asset])[asset.pk].is_full
    field.note(
        event, Kind.READING, by=marin, at=event.clock.now(), battery=asset.pk,
        gauge_pct=40.0,
    )  # fmt: skip
    entry = FieldEntry.objects.get(event_key=event.pk)

    found = gates_of([asset])[asset.pk]
    assert "since it was charged its gauge showed 40%" in found.missing
    field.strike(event, entry, because="of K02", by=marin, at=event.clock.now())
    assert gates_of([asset])[asset.pk].is_full


def test_a_reading_at_check_in_is_a_reading(shelf, marin):
    """Volts typed when it came back are believed like any others."""
    custody.check_in(shelf["K01"], by=marin, volts=12.67)

    assert FieldEntry.objects.get(kind=Kind.READING).volts == 12.67
    assert BatteryNow.objects.get(battery=shelf["K01"].pk).soc_typical < 0.4


def test_a_vehicle_is_a_place_of_its_own(shelf, boss):
    """Twice by one name is one vehicle."""
    for tag in ("K01", "K02"):
        boss.post(
            reverse("shelf:check_out"),
            {"tags": tag, "to_kind": "vehicle", "to_name": "green trailer "},
        )
    page = boss.get(reverse("shelf:out_list")).content.decode()

    assert page.count("<h2>green trailer") == 1
    assert BatteryNow.objects.filter(place__kind=PlaceKind.VEHICLE).count() == 2


def test_an_asset_keeps_at_most_twenty_papers_and_gives_one_back(kit, marin, boss):
    """The twenty-first is refused; removing makes room; text is never run."""
    for number in range(19):
        file = SimpleUploadedFile(f"n{number}.txt", b"note")
        attachments.attach(kit, file=file, words="", by=marin)
    with pytest.raises(ValidationError, match="has 20 already"):
        attachments.attach(
            kit, file=SimpleUploadedFile("x.txt", b"one more"), words="", by=marin
        )
    first = kit.attachments.first()

    given_back = boss.get(reverse("shelf:attachment", args=[first.pk]))
    assert given_back["Content-Disposition"].startswith("attachment; ")
    boss.post(reverse("shelf:attachment_delete", args=[first.pk]))
    assert kit.attachments.count() == 19


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"connector": "vehicle"}, "say plug or socket"),
        ({"connector": "ring", "gender": "plug"}, "has no plug and socket"),
        ({"connector": "ring", "low_v": 14.0, "high_v": 12.0}, "Highest voltage"),
        ({"connector": "genderless-45", "name": "out"}, "has a port out already"),
    ],
)
def test_a_port_that_can_t_be_is_refused(kit, values, words):
    """Gender by family, volts in order, each name once."""
    with pytest.raises(ValidationError, match=words):
        add_port(kit, **{"name": "second"} | values)


def test_every_page_of_the_demo_s_shelf_opens_and_says_nothing_undefined(demo, client):
    """Each asset and each list, as the coordinator sees them."""
    client.force_login(Actor.objects.get(name="Marin").user)
    pages = [asset.get_absolute_url() for asset in Asset.objects.all()]
    names = "due_list out_list gate_list matrix lead_finder labels charge_by check_out"
    pages += [reverse(f"shelf:{name}") for name in names.split()]
    for kit in Asset.objects.filter(kind="kit"):
        pages += [
            reverse(f"shelf:{name}", args=[kit.pk])
            for name in ("kit_path", "kit_contents", "kit_records", "packing")
        ]
    for url in pages:
        response = client.get(url)
        assert response.status_code == 200, url
        text = response.content.decode()
        for wrong in (">None<", " nan ", "inf V", "<Asset", "{{", "__"):
            assert wrong not in text.replace("__all__", ""), (url, wrong)


def test_the_demo_s_kit_has_what_was_planted(demo):
    """The faults a newcomer should find, and those it left with all the same."""
    page = kit_page(Asset.objects.get(tag="Q01"))
    found = {one.finding.rule.id for one in (*page["shown"], *page["more"])}

    assert {
        "device-min-volts", "voltage-drop", "temporary-overdue", "meter-offset",
        "pd-shared", "charge-behind-switch",
    } <= found  # fmt: skip
    assert {one.finding.rule.id for one in page["accepted"]} == {
        "antenna-power", "charge-chemistry", "fuse-open", "fuse-above-wire",
        "meter-unchecked",
    }  # fmt: skip
    hours = [one.hours for one in page["gives"]]
    assert hours == sorted(hours)  # less power lasts longer, receiving longest


what = st.sampled_from(["add", "between", "delete", "move"])


class PathEditing(TestCase):
    """Whatever is done to a path, it stays a tree that the core can read."""

    @given(st.lists(st.tuples(what, st.integers(0, 9), st.integers(0, 9)), max_size=9))
    def test_a_path_stays_a_tree(self, steps):
        """Add, put between, take out, hang elsewhere, in any order."""
        Club.objects.get_or_create(pk=1, defaults={"name": "x"})
        by = Actor.objects.create(name="x")
        battery = save_battery(
            None, by=by, tag="K1", chemistry="lifepo4", series=4, nameplate_ah=20.0
        )
        radio = save_asset(KINDS["device"], None, by=by, tag="R1", receive_a=1.0)
        kit = save_asset(KINDS["kit"], None, by=by, tag="Q1")
        kits.start_path(
            kit, battery=battery, load=radio, fuse_a=5.0, awg=14, length_m=1.0,
            connector="genderless-15",
        )  # fmt: skip
        for do, one, other in steps:
            parts = list(kit.path.exclude(what=PathPart.What.BATTERY))
            if not parts:
                break
            first, second = parts[one % len(parts)], parts[other % len(parts)]
            if do == "delete":
                kits.delete_part(first)
            elif do == "move":
                try:
                    kits.save_part(kit, first, what=first.what, after=second)
                except ValidationError:
                    kit.refresh_from_db()
            else:
                kits.save_part(
                    kit, None, what="fuse", amps=5.0, after=first,
                    is_between=do == "between",
                )  # fmt: skip

        core = kit_of(rows_of_kit(kit), today())
        assert len(core.parts) == kit.path.count() - 1
        assert all(core.way_to(part.key)[-1] is part for part in core.parts)
