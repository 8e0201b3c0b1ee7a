"""Lists of every kind, in and out: CSV, XLSX, the zip, remembered headings."""

import csv
import io
import json
import zipfile
from datetime import date

import openpyxl
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase

from hollow_kettle.demo.gear import LISTS
from hollow_kettle.exchange.files import TableFault
from hollow_kettle.exchange.services import headings_of, remember_headings
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf import fields
from hollow_kettle.shelf.assets.services import save_asset
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.lists import tables
from hollow_kettle.shelf.models import Asset


@pytest.fixture
def demo_lists(stocked, marin):
    """The demo's lists of every kind but batteries, brought in."""
    for kind in KINDS.values():
        path = LISTS / f"{kind.key}.csv"
        if path.exists():
            tables.apply_list(kind, path.read_bytes(), by=marin)


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_every_kind_goes_out_and_comes_back_unchanged(kind, demo_lists, shelf, marin):
    """Every row is unchanged, and applying it changes nothing."""
    content = tables.export_list(KINDS[kind]).encode()

    preview, planned = tables.preview_list(KINDS[kind], content)

    assert preview.faults == []
    assert planned
    assert {row.what for row in planned} == {"unchanged"}
    assert tables.apply_list(KINDS[kind], content, by=marin) == (0, 0)


def test_the_zip_is_a_data_package_that_fits_its_files(demo_lists, shelf):
    """Each resource's fields are the columns of its CSV, in order."""
    with zipfile.ZipFile(io.BytesIO(tables.export_all())) as package:
        described = json.loads(package.read("datapackage.json"))
        for resource in described["resources"]:
            text = package.read(resource["path"]).decode()
            head = next(csv.reader(io.StringIO(text)))
            assert head == [f["name"] for f in resource["schema"]["fields"]]

    assert {resource["name"] for resource in described["resources"]} == set(KINDS)


def workbook(*rows):
    """An XLSX file of these rows."""
    book = openpyxl.Workbook()
    for row in rows:
        book.active.append(row)
    out = io.BytesIO()
    book.save(out)
    return SimpleUploadedFile("meters.xlsx", out.getvalue())


def test_a_workbook_with_its_own_headings_is_explained_once(stocked, boss):
    """Left out at first, read after it is said what they mean, remembered."""
    url = reverse("shelf:import", args=["meter"])
    rows = [["Label", "Reads at rest", "When"], ["A9", 0.25, date(2026, 3, 1)]]
    seen = boss.post(url, {"file": workbook(*rows)})
    assert "“reads at rest” is" in seen.content.decode().lower()

    upload = seen.context["upload"]
    boss.post(
        reverse("shelf:import_columns", args=["meter", upload.pk]),
        {"heading": ["Reads at rest", "When"], "column": ["zero_a", "checked_on"]},
    )
    again = boss.post(url, {"file": workbook(*rows)})
    upload = again.context["upload"]
    boss.post(reverse("shelf:import_apply", args=["meter", upload.pk]))

    meter = Asset.objects.get(tag="A9").meter
    assert (meter.zero_a, meter.checked_on) == (0.25, date(2026, 3, 1))


def test_a_list_whose_headings_are_all_its_own_can_be_explained(stocked, boss):
    """Not one heading is known: each is asked for, then the list is read."""
    url = reverse("shelf:import", args=["guard"])
    file = SimpleUploadedFile("x.csv", b"Nr;Ampere\nF7;25\n")
    seen = boss.post(url, {"file": file})
    assert "is missing from the headings" in seen.content.decode()

    again = boss.post(
        reverse("shelf:import_columns", args=["guard", seen.context["upload"].pk]),
        {"heading": ["Nr", "Ampere"], "column": ["tag", "amps"]},
    )

    assert [row.values["tag"] for row in again.context["planned"]] == ["F7"]
    boss.post(reverse("shelf:import_apply", args=["guard", seen.context["upload"].pk]))
    assert Asset.objects.get(tag="F7").guard.amps == 25


CLUB_LIST = """Batterie-Liste, Stand März\r
;;\r
Tag;Type;Cells;Ah;Mass;Max_charge_a\r
B1;LFP 4S;;100Ah;12,5 kg;50 A\r
B2;SLA/AGM;6;35 @ 20 h;11;\r
B3;LiPo;3S1P;2300 mAh;180 g;\r
B4;AGM 12 V;;7000 mAh;2.5;\r
B5;flooded;2x6;80;24;\r
6;LiFePO4;4;1000;3;\r
"""


@pytest.mark.parametrize(
    ("encoding", "named"),
    [("cp1252", "Windows-1252"), ("utf-16", "UTF-16"), ("utf-8", "UTF-8")],
)
def test_a_list_as_clubs_keep_them_is_understood_and_says_how(
    stocked, boss, encoding, named
):
    """Under a title, in any encoding, with units, cells and two names of one kind."""
    file = SimpleUploadedFile("x.csv", CLUB_LIST.encode(encoding))
    seen = boss.post(reverse("shelf:import", args=["battery"]), {"file": file})
    found = {row.values["tag"]: row.values for row in seen.context["planned"]}
    page = " ".join(seen.content.decode().split())

    assert not seen.context["preview"].faults
    assert {
        tag: (row["chemistry"], row["series"], row["nameplate_ah"], row["mass_kg"])
        for tag, row in found.items()
    } == {
        "B1": ("lifepo4", 4, 100, 12.5),
        "B2": ("agm", 6, 35, 11),
        "B3": ("lipo", 3, 2.3, 0.18),
        "B4": ("agm", 6, 7, 2.5),
        "B5": ("flooded", 12, 80, 24),
        "6": ("lifepo4", 4, 1000, 3),
    }
    assert found["B1"]["max_charge_a"] == 50
    assert f"Read as {named}" in page
    assert "The headings are in row 3" in page
    assert '<b>7 Ah</b> <span class="soft">from “7000 mAh”</span>' in page
    assert "row 9, nameplate_ah is 1000 Ah; the others are about" in page
    assert "&#x27;6&#x27; is digits alone" in page


def test_sheets_that_are_left_out_are_named(stocked, boss):
    """Only the first sheet of a workbook is read."""
    book = openpyxl.Workbook()
    book.active.append(["tag", "cell_mah"])
    book.active.append(["U1", "10 Ah"])
    book.create_sheet("Loans").append(["who", "what"])
    book.create_sheet("Empty")
    out = io.BytesIO()
    book.save(out)
    file = SimpleUploadedFile("x.xlsx", out.getvalue())

    seen = boss.post(reverse("shelf:import", args=["bank"]), {"file": file})

    assert "left out: Loans." in " ".join(seen.content.decode().split())
    assert seen.context["planned"][0].values["cell_mah"] == 10_000


def test_remembered_headings_can_be_changed_and_forgotten(stocked, boss):
    """On a page of their own, by kind of thing."""
    url = reverse("shelf:headings")
    remember_headings("shelf-guard", {"Ampere": "amps", "Nr": "name"})
    assert "Ampere" in boss.get(url).content.decode()
    boss.post(url, {"kind": "guard", "heading": "Nr", "column": "tag"})
    boss.post(url, {"kind": "guard", "heading": "Ampere", "column": ""})
    boss.post(url, {"kind": "guard", "heading": "Nr", "column": "nonsense"})

    assert headings_of("shelf-guard") == {"nr": "tag"}


def test_a_workbook_that_unpacks_to_too_much_is_refused(stocked):
    """A small file of zeros is not read at all."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as package:
        package.writestr("xl/workbook.xml", bytes(120 * 1024 * 1024))

    with pytest.raises(TableFault, match="more than 100 MB"):
        tables.preview_list(KINDS["meter"], out.getvalue())


def test_a_list_changes_only_the_columns_it_has(shelf, marin):
    """Owner and hold stay when the list is silent about them."""
    Asset.objects.filter(tag="K04").update(owner="Heron")

    content = b"tag,chemistry,nameplate_ah,mass\nK04,lifepo4,20,2.75\n"
    assert tables.apply_list(KINDS["battery"], content, by=marin) == (0, 1)

    asset = Asset.objects.get(tag="K04")
    assert (asset.mass_kg, asset.owner, asset.hold) == (2.75, "Heron", "swollen")


@pytest.mark.parametrize(
    ("kind", "content", "column", "words"),
    [
        ("panel", "tag,voc,isc,vmp,imp\nP1,20,6,22,5", "the row", "Voltage at maximum"),
        ("charger", "tag,max_a,settings\nC1,9,lifepo4 plus", "settings", "is not one"),
        ("converter", "tag,out_v,max_w,levels\nU1,20,60,20", "levels", "volts × amps"),
        ("lead", "tag,a_connector,b_connector\nW1,vehicle,ring", "the row", "say plug"),
        ("device", "tag,receive_a,key_down_a\nR1,1,-4", "key_down_a", "between 0 and"),
        ("meter", "tag,checked_on\nA1,1.3.2026", "checked_on", "like 2026-04-11"),
        ("generator", "tag,w,quiet_from\nG1,2000,ten", "quiet_from", "like 22:00"),
        ("guard", "tag,amps,role\nF1,30,rope", "role", "is not one of fuse"),
        ("charger", "tag,max_a,balances\nC1,9,perhaps", "balances", "yes or no"),
        ("bank", "tag,cell_mah\nB1,10000\nb01,5000", "tag", "is already in row 2"),
        ("kit", "name\nDrumlin", "tag", "is missing"),
    ],
)  # fmt: skip
def test_each_fault_names_row_column_and_reason(stocked, kind, content, column, words):
    """For every kind, in its own words."""
    preview, planned = tables.preview_list(KINDS[kind], content.encode())

    assert preview.faults[0].column == column
    assert words in preview.faults[0].reason
    assert not planned or preview.faults


def test_a_broken_workbook_is_refused_with_a_sentence(stocked, boss):
    """A zip that is no workbook."""
    file = SimpleUploadedFile("x.xlsx", b"PK\x03\x04 and then nothing")
    response = boss.post(reverse("shelf:import", args=["meter"]), {"file": file})

    assert response.status_code == 422
    assert "can&#x27;t be read as one" in response.content.decode()


@given(st.text(max_size=60))
def test_lists_in_a_cell_are_read_or_refused_and_then_stay(text):
    """Tidied once, a list of levels, cells or chemistries tidies to itself."""
    for how in fields.LISTS:
        try:
            tidy = fields.tidy_list(how, text)
        except ValueError:
            continue
        assert fields.tidy_list(how, tidy) == tidy


words = st.text(
    st.characters(codec="utf-8", exclude_characters="\x00\r\n"), max_size=40
)


class RoundTrip(TestCase):
    """Whatever is noted of a meter comes back as it went out."""

    @given(
        name=words.map(str.strip),
        note=words.map(str.strip),
        zero_a=st.floats(-10, 10).map(lambda x: round(x, 6)),
        cost=st.none() | st.decimals(0, 9999, places=2),
    )
    def test_export_then_import_changes_nothing(self, name, note, zero_a, cost):
        """Formulas, quotes and commas in text, any number."""
        actor = Actor.objects.create(name="x")
        kind = KINDS["meter"]
        save_asset(
            kind,
            None,
            by=actor,
            tag="A1",
            name=name,
            note=note,
            zero_a=zero_a,
            cost=cost,
        )
        content = tables.export_list(kind).encode()

        preview, planned = tables.preview_list(kind, content)

        assert preview.faults == []
        assert [row.what for row in planned] == ["unchanged"]


@pytest.mark.parametrize(
    ("note", "word"),
    [
        ("cell 3 SWOLLEN since June", "swollen"),
        ("left in the rain, wet", "wet"),
        ("Do not use!", "do not use"),
        ("case punctured, smells sweet", "punctured"),
        ("not swollen, no leaks", ""),
        ("a wet-cell type; smoke alarm in its box", ""),
        ("never used", ""),
    ],
)
def test_a_battery_noted_as_dangerous_is_on_hold_until_released(
    note, word, shelf, marin, boss
):
    """From a list too; released, the same note does not put it back."""
    battery, kind = shelf["K01"], KINDS["battery"]
    head = "tag,chemistry,series,nameplate_ah,note"
    content = f'{head}\nK01,lifepo4,4,20,"{note}"\n'.encode()
    tables.apply_list(kind, content, by=marin)

    battery.refresh_from_db()
    assert (word in battery.hold) if word else battery.hold == ""
    if word:
        boss.post(reverse("shelf:release", args=[battery.pk]), {"how": "looked at"})
        tables.apply_list(kind, content + b"K02,lifepo4,4,20,fine\n", by=marin)
        battery.refresh_from_db()
        assert battery.hold == ""


def test_what_a_device_is_made_for_survives_form_and_list(stocked, boss, marin):
    """A 12 V radio stays one, so that 13.8 V after hours can be said to heat it."""
    url = reverse("shelf:asset_add", args=["device"])
    said = {"tag": "R9", "name": "12 V radio", "receive_a": "1", "nominal_v": "12"}
    assert boss.post(url, said).status_code == 302
    made = Asset.objects.get(tag="R9")
    content = tables.export_list(KINDS["device"]).encode()

    assert made.device.nominal_v == 12
    edit = reverse("shelf:asset_edit", args=[made.pk])
    boss.post(edit, said | {"receive_a": "2"})
    made.refresh_from_db()
    assert (made.device.receive_a, made.device.nominal_v) == (2, 12)
    tables.apply_list(KINDS["device"], content, by=marin)
    made.device.refresh_from_db()
    assert (made.device.receive_a, made.device.nominal_v) == (1, 12)
