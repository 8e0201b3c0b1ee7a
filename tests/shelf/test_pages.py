"""The Shelf's pages as people use them: every kind, the list, records, the drawing."""

import re
from datetime import timedelta
from itertools import pairwise
from uuid import uuid4

import pytest
from django.db import IntegrityError, transaction
from django.urls import reverse

from hollow_kettle.field import services as field
from hollow_kettle.field.beliefs import work_out
from hollow_kettle.log.models import BatteryNow, FieldEntry, Kind, PlaceKind
from hollow_kettle.people.club import club_now
from hollow_kettle.shelf.assets.services import save_asset, save_battery
from hollow_kettle.shelf.browse.queries import PAGE_ROWS, listing
from hollow_kettle.shelf.charge.queries import shelf_batteries_of
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.due.look import worth_a_look
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.kits.drawing import WIDTH, draw_path
from hollow_kettle.shelf.kits.page import kit_page
from hollow_kettle.shelf.models import Asset, Estimate, Spare
from powercore.gear.checks import findings_of
from powercore.values import as_counted
from tests.powercore.gear.kits import PANEL, charged, good, part

#: Kind: what makes a good one, what makes it bad, the words that say why.
FORMS = {
    "battery": (
        {"chemistry": "agm", "series": "6", "nameplate_ah": "35"},
        {"charge_v": "16,5"},
        "Charging voltage must be between",
    ),
    "bank": ({"cell_mah": "10000"}, {"levels": "5x"}, "volts × amps like 20x3"),
    "panel": (
        {"voc_v": "22", "isc_a": "6", "vmp_v": "18", "imp_a": "5,5"},
        {"vmp_v": "23"},
        "it lies below the open-circuit voltage",
    ),
    "controller": (
        {"max_a": "10", "max_v": "50"},
        {"max_v": "5000"},
        "must be between 5 and 600 V",
    ),
    "charger": ({"max_a": "10"}, {"settings": "lifepo5"}, "is not one of lifepo4"),
    "generator": ({"rated_w": "2000"}, {"quiet_from": "late"}, "like 22:00"),
    "converter": (
        {"out_v": "20", "max_w": "60"},
        {"in_min_v": "40"},
        "Lowest input must be between",
    ),
    "device": (
        {"receive_a": "1", "key_down_a": "20"},
        {"min_v": "17"},
        "it lies above the lowest",
    ),
    "meter": ({"zero_a": "0,04"}, {"gain": "3"}, "Reads, over true must be between"),
    "lead": (
        {"a_connector": "ring", "b_connector": "vehicle", "b_gender": "plug"},
        {"b_gender": ""},
        "say plug or socket",
    ),
    "guard": ({"amps": "30"}, {"amps": "a lot"}, "must be a plain number"),
    "antenna": ({"max_w": "200"}, {"max_w": "0"}, "between 0.1 and 10000 W"),
    "kit": ({"purpose": "a trial"}, {"low_c": "-300"}, "between -50 and 60 °C"),
}


def test_every_kind_has_its_case():
    """A new kind needs a line."""
    assert set(FORMS) == set(KINDS)


@pytest.mark.parametrize("kind", sorted(FORMS))
def test_a_thing_of_each_kind_is_added_changed_and_refused(kind, stocked, boss):
    """Through its form: a slip keeps what was typed and saves nothing."""
    fine, slip, words = FORMS[kind]
    url = reverse("shelf:asset_add", args=[kind])

    refused = boss.post(url, {"tag": "Z7", "note": "kept"} | fine | slip)
    text = refused.content.decode()
    assert refused.status_code == 422
    assert words in text
    assert "kept" in text
    assert not Asset.objects.exists()

    boss.post(url, {"tag": "Z7", "name": "first"} | fine, follow=True)
    asset = Asset.objects.get(tag="Z7")
    changed = reverse("shelf:asset_edit", args=[asset.pk])
    boss.post(changed, {"tag": "Z7", "name": "second", "owner": "Heron"} | fine)
    asset.refresh_from_db()
    assert (asset.name, asset.owner, asset.kind) == ("second", "Heron", kind)
    page = boss.get(asset.get_absolute_url()).content.decode()
    assert "second" in page


@pytest.fixture
def many(stocked, marin):
    """Sixty batteries and a meter."""
    for number in range(60):
        save_battery(
            None,
            by=marin,
            tag=f"B{number + 10}",
            chemistry="agm" if number % 2 else "lifepo4",
            nominal_v=12.0 if number % 2 else 12.8,
            series=None,
            nameplate_ah=35.0,
            owner=f"member {number % 3}",
        )
    save_asset(KINDS["meter"], None, by=marin, tag="A01", name="watt meter")


def test_the_list_is_searched_paged_and_grouped(many, marin):
    """All words must occur, anywhere; batteries come first; the last page is short."""
    assert listing().count == 61
    assert [len(listing(page=n).rows) for n in (1, 2, 99)] == [PAGE_ROWS, 11, 11]
    assert listing(page=2).rows[-1].asset.tag == "A01"
    assert listing(words="agm member").count == 30
    assert listing(words="meter").count == 1
    assert listing(words="nothing like it").count == 0
    assert listing(kind="meter").rows[0].asset.tag == "A01"

    asset = Asset.objects.get(tag="A01")
    custody.check_out(
        [asset], to=custody.place_named(PlaceKind.PERSON, "Heron"), by=marin
    )
    assert listing(words="heron").count == 1
    groups = dict(listing(group="where").groups)
    assert [row.asset.tag for row in groups["Heron"]] == ["A01"]


def test_the_shelf_adds_up_what_its_batteries_give(shelf):
    """Energy of all that is not on hold, by hand from the mean voltage."""
    look = worth_a_look()

    # 19 + 19 + 18 Ah above a reserve of 20 %, K04 is on hold: 56 × 0.8 Ah at about
    # 13.1 V less 30 mV of sag; and what the batteries' own pages say.
    kinds = shelf_batteries_of([shelf[tag] for tag in ("K01", "K02", "K03")])
    assert look.total_wh == pytest.approx(sum(one.usable_full_wh for one in kinds))
    assert look.total_wh == pytest.approx(56 * 0.8 * 13.15, rel=0.01)
    assert [asset.tag for asset in look.untested] == ["K03"]
    assert [asset.tag for asset in look.on_hold] == ["K04"]


def test_results_alone_are_the_list_of_the_page(many, boss):
    """What htmx swaps is what the page shows, and foreign input is harmless."""
    alone = boss.get(reverse("shelf:list_results"), {"q": "<b>agm", "page": "x"})
    assert "&lt;b&gt;agm" in alone.content.decode()
    assert "<html" not in alone.content.decode()
    assert alone.status_code == 200


def test_ticked_rows_go_to_labels_check_out_or_charges(shelf, boss):
    """Nothing ticked asks for it; the tags are carried along."""
    url = reverse("shelf:bulk")
    ticked = [shelf["K01"].pk, shelf["K02"].pk, "nonsense"]

    for do, page in (
        ("labels", "labels"),
        ("charged", "charged_many"),
        ("check_out", "check_out"),
    ):
        response = boss.post(url, {"asset": ticked, "do": do})
        assert response["Location"] == reverse(f"shelf:{page}") + "?tags=K01+K02"
    empty = boss.post(url, {"do": "labels"}, follow=True)
    assert "Tick something" in empty.content.decode()


def test_several_charges_are_noted_in_one_go(shelf, boss):
    """A line left empty did not end; a wrong number is named and nothing is kept."""
    url = reverse("shelf:charged_many") + "?tags=K01+K02"
    data = {"form-TOTAL_FORMS": "2", "form-INITIAL_FORMS": "2"}

    wrong = boss.post(url, data | {"form-0-volts": "14,4", "form-0-amps": "-1"})
    assert wrong.status_code == 422
    assert "must be between 0 and 500 A" in wrong.content.decode()
    assert not FieldEntry.objects.filter(kind=Kind.CHARGED).exists()

    boss.post(url, data | {"form-0-volts": "14,4", "form-0-amps": "0,5"})
    (entry,) = FieldEntry.objects.filter(kind=Kind.CHARGED)
    assert (entry.asset, entry.volts) == (shelf["K01"].pk, 14.4)


def test_the_log_itself_refuses_entries_that_make_no_sense(shelf, marin):
    """A check-out without a place or thing, a swap without an event."""
    common = {
        "device": "x", "payload_hash": "0", "actor": marin,
        "effective_at": club_now(),
    }  # fmt: skip
    for values in (
        {"kind": Kind.CHECK_OUT, "asset": shelf["K01"].pk},
        {"kind": Kind.HOLD},
        {"kind": Kind.OFF_AIR, "asset": shelf["K01"].pk},
    ):
        with pytest.raises(IntegrityError), transaction.atomic():
            FieldEntry.objects.create(**common, **values)


def test_an_event_believes_what_the_shelf_noted_just_before(event, shelf, marin):
    """A charge that ended the evening before; one of last month says nothing."""
    early, late = event.starts_at - timedelta(days=30), event.starts_at
    for tag, at in (("K01", late - timedelta(hours=9)), ("K02", early)):
        custody.note_charged(shelf[tag], by=marin, volts=14.4, amps=0.4, at=at)
    BatteryNow.objects.all().delete()

    work_out(event)

    found = {
        row.battery: row.soc_high - row.soc_low for row in BatteryNow.objects.all()
    }
    assert found[shelf["K01"].pk] < 0.1
    assert found[shelf["K02"].pk] > 0.5


def test_a_battery_swapped_in_after_a_check_out_leaves_where_it_was(
    event, esker, shelf, marin
):
    """One thing is in one place: custody and swaps fold together."""
    heron = custody.place_named(PlaceKind.PERSON, "Heron")
    before = event.starts_at - timedelta(hours=2)
    custody.check_out([shelf["K01"]], to=heron, by=marin, at=before)
    field.log_swap(event, esker, battery=shelf["K01"], by=marin, at=event.clock.now())

    (row,) = [r for r in listing(words="K01").rows if r.asset.tag == "K01"]
    assert row.where == "Esker"


def test_spares_versions_and_noise_are_kept_through_their_pages(kit, boss):
    """One used, one more; a version; a noise that was cured."""
    spare = kit.spares.get()
    for step in ("less", "less", "more"):
        boss.post(reverse("shelf:spare_count", args=[spare.pk]), {"step": step})
    spare.refresh_from_db()
    assert spare.have == 1

    boss.post(reverse("shelf:version_add", args=[kit.pk]), {"why": "new tin"})
    version = kit.versions.first()
    page = boss.get(reverse("shelf:version_detail", args=[version.pk]))
    assert "new tin" in page.content.decode()

    noise = kit.noises.get()
    boss.post(reverse("shelf:noise_state", args=[noise.pk]), {"state": "cured"})
    boss.post(reverse("shelf:noise_state", args=[noise.pk]), {"state": "quiet"})
    noise.refresh_from_db()
    assert noise.state == "cured"
    records = boss.get(reverse("shelf:kit_records", args=[kit.pk])).content.decode()
    assert "1 of 3" in records
    assert Spare.objects.count() == 1


def test_an_item_is_moved_to_another_box_or_taken_out(kit, boss):
    """Its place changes; a bad count changes nothing."""
    item = kit.items.get(name="spare 25 A fuses")
    url = reverse("shelf:item_edit", args=[item.pk])

    boss.post(url, {"count": "many", "container": "Bag"}, follow=True)
    item.refresh_from_db()
    assert (item.count, item.container) == (3, "Box 1")
    boss.post(url, {"count": "4", "container": "Bag", "place": "front"})
    item.refresh_from_db()
    assert (item.count, item.container, item.is_must) == (4, "Bag", False)
    boss.post(reverse("shelf:item_delete", args=[item.pk]))
    assert not kit.items.filter(name="spare 25 A fuses").exists()


def test_an_empty_kit_offers_the_usual_path_and_lays_it(shelf, marin, boss):
    """With a slip on the way: an outlet of no gauge."""
    kit = save_asset(KINDS["kit"], None, by=marin, tag="Q05")
    radio = save_asset(KINDS["device"], None, by=marin, tag="R05", receive_a=0.5)
    page = boss.get(kit.get_absolute_url()).content.decode()
    assert "Lay the usual path" in page

    url = reverse("shelf:kit_start", args=[kit.pk])
    data = {
        "battery": shelf["K02"].pk, "load": radio.pk, "fuse_a": "5", "awg": "16",
        "length_m": "1,2", "connector": "genderless-15",
    }  # fmt: skip
    slip = boss.post(url, data | {"awg": "99"})
    assert slip.status_code == 422
    assert "between 0 and 30 AWG" in slip.content.decode()
    boss.post(url, data)

    assert [p.what for p in kit.path.all()] == [
        "battery", "fuse", "cable", "joint", "load",
    ]  # fmt: skip
    assert kit.items.count() == 2


def test_a_way_of_charging_is_added_and_judged(kit, shelf, marin, boss):
    """A panel straight on: a stop on the kit's page; taken out it is gone."""
    panel = save_asset(
        KINDS["panel"], None, by=marin, tag="P01",
        voc_v=22.0, isc_a=6.0, vmp_v=18.0, imp_a=5.5,
    )  # fmt: skip
    boss.post(reverse("shelf:way_add", args=[kit.pk]), {"source": panel.pk})

    rules = {one.finding.rule.id for one in kit_page(kit)["shown"]}
    assert "panel-no-controller" in rules
    way = kit.charge_ways.get(source=panel)
    boss.post(reverse("shelf:way_delete", args=[way.pk]))
    assert kit.charge_ways.count() == 1


def drawn(kit):
    """A kit's drawing with its findings."""
    return draw_path(kit, findings_of(kit))


def test_the_drawing_runs_from_battery_to_loads_without_overlap():
    """Boxes of one row never meet; each later part lies further right."""
    kit = good(**charged(PANEL))
    drawing = drawn(kit)
    boxes = {box.part.key: box for box in drawing.boxes}

    for box in drawing.boxes:
        assert 0 < box.x < box.end <= WIDTH
        assert 0 < box.top < box.y < drawing.height
        before = boxes.get(box.part.after)
        assert before is None or before.end <= box.x + 0.11
    rows = sorted((box.y, box.x, box.end) for box in drawing.boxes)
    for (y, _, end), (next_y, start, _) in pairwise(rows):
        assert next_y > y or start >= end - 0.11
    assert boxes["radio"].y < boxes["laptop"].y
    assert boxes["block"].y == pytest.approx((boxes["radio"].y + boxes["laptop"].y) / 2)


def test_the_drawing_says_the_volts_that_the_core_found():
    """End volts as text, a falling line, the table the same for every part."""
    drawing = drawn(good())
    volts = drawing.volts

    assert volts.load == "R1"
    ends = [float(y) for y in re.findall(r",(\d+\.\d)", volts.full)]
    assert ends == sorted(ends)  # downwards on the page is lower in volts
    line = next(one for one in drawing.table if one.part.key == "radio")
    assert volts.end_words == f"{line.full_v:.2f} V"
    assert line.reserve_v < line.full_v


@pytest.mark.parametrize(
    ("changes", "shape"),
    [(part("f-radio", amps=None), "missing"), (part("feed", wire=None), "cable")],
)
def test_what_is_missing_is_drawn_as_missing(changes, shape):
    """A missing fuse has its own shape; a wire nobody measured says so."""
    box = next(
        box
        for box in drawn(good(**changes)).boxes
        if box.part.key in ("f-radio", "feed") and box.shape == shape
    )

    assert box.title in ("no fuse", "not measured")


def test_how_long_a_battery_takes_to_charge_with_a_load_beside_it(shelf, boss):
    """A charger or panels, a load or none; both at once and nonsense are refused."""
    battery = shelf["K01"]
    where = reverse("shelf:asset_recharge", args=[battery.pk])
    page = boss.get(battery.get_absolute_url()).content.decode()

    def said(**asked):
        answer = boss.get(where, asked)
        return answer.status_code, " ".join(answer.content.decode().split())

    assert where in page
    status, alone = said(amps="5")
    assert status == 200
    assert "With 5.0 A left for it: 90 % in" in alone
    assert "of full sun" in said(watts="100", load_w="20")[1]
    assert "Never: the load takes all of it." in said(amps="1", load_w="100")[1]
    status, words = said(amps="5", watts="100")
    assert (status, "Say either what the charger gives" in words) == (422, True)
    status, words = said(amps="0")
    assert (status, "between 0.01 and 500 A" in words) == (422, True)
    assert boss.get(reverse("shelf:asset_recharge", args=[uuid4()])).status_code == 404


def test_a_battery_s_age_counts_until_it_is_tested(shelf, boss):
    """Built ten years ago and never tested: four fifths of what a new one is."""
    battery = shelf["K01"]
    battery.tests.all().delete()
    Estimate.objects.filter(subject=battery.pk).delete()
    Asset.objects.filter(pk=battery.pk).update(
        made_on=club_now().date() - timedelta(days=3655)
    )
    page = boss.get(battery.get_absolute_url()).content.decode()

    assert "80% of that at 10 years" in " ".join(page.split())


def test_a_new_battery_is_asked_four_things_and_says_what_is_assumed(stocked, boss):
    """The rest is folded; a menu of words has no codes under it."""
    url = reverse("shelf:asset_add", args=["battery"])
    form = boss.get(url).context["form"]
    page = boss.get(url).content.decode()
    asked = {"chemistry": "lifepo4", "nameplate_ah": "40"}
    said = boss.get(reverse("shelf:assumed"), asked).content.decode()

    assert [field.name for field in form.plain] == [
        *("tag", "chemistry", "series", "nominal_v", "nameplate_ah"),
    ]
    assert "Choose its chemistry to see what will be assumed" in page
    assert "lifepo4, nmc" not in page
    assert said == (
        "Assumed, as usual for LiFePO4: a reserve of 20%, at most 40 A out, 20 A in, "
        "36 Ah until it is tested, its protection not noted: nothing is promised of it."
    )
    four = {"tag": "B9", "chemistry": "agm", "nominal_v": "12", "nameplate_ah": "35"}
    boss.post(url, four)
    assert Asset.objects.get(tag="B9").battery.series == 6


def test_tags_come_in_the_order_in_which_people_count(stocked, boss, marin):
    """K2 before K11, wherever tags are listed."""
    for tag in ("K11", "K2", "B10", "K2b"):
        save_battery(None, by=marin, tag=tag, chemistry="agm", series=6, nameplate_ah=7)
    page = boss.get(reverse("shelf:asset_list")).content.decode()
    places = [page.index(f">{tag}<") for tag in ("B10", "K2", "K2b", "K11")]

    assert list(Asset.objects.values_list("tag", flat=True)) == [
        *("B10", "K2", "K2b", "K11"),
    ]
    assert places == sorted(places)
    assert sorted(["K11", "K2", "B10"], key=as_counted) == ["B10", "K2", "K11"]
