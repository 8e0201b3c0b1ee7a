"""The shelf: trusted capacity, tags that can't be mistaken, lists in and out."""

import pytest
from django.core.exceptions import ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import IntegrityError
from django.urls import reverse

from hollow_kettle.exchange.models import Upload
from hollow_kettle.shelf.assets.services import record_capacity, save_battery, set_hold
from hollow_kettle.shelf.charge.queries import shelf_batteries, shelf_batteries_of
from hollow_kettle.shelf.kinds import KINDS
from hollow_kettle.shelf.lists import tables
from hollow_kettle.shelf.models import Asset, Battery, Estimate

BATTERIES = KINDS["battery"]
HEAD = "tag,chemistry,series,nominal_v,nameplate_ah,tested_ah,hold\n"


def by_tag(tag):
    """One battery of the shelf."""
    return next(item for item in shelf_batteries() if item.asset.tag == tag)


def test_trusted_capacity_follows_the_accepted_test(shelf, marin):
    """A new accepted test supersedes the one before; the print never counts."""
    assert by_tag("K01").pack.trusted_ah == 19
    assert by_tag("K03").pack.trusted_ah == pytest.approx(18)

    record_capacity(shelf["K01"], tested_ah=15.5, origin="run-down", by=marin)

    assert by_tag("K01").pack.trusted_ah == 15.5
    applied = Estimate.objects.filter(subject=shelf["K01"].pk, superseded_by=None)
    assert [estimate.mean for estimate in applied] == [15.5]


@pytest.mark.parametrize("tag", ["K01", "k01", "K1", "k001"])
def test_a_tag_that_could_be_mistaken_is_refused(shelf, marin, tag):
    """K1 beside K01 would be a mistake waiting for the night."""
    with pytest.raises(ValidationError, match="would be mistaken for K01"):
        save_battery(
            None, by=marin, tag=tag, chemistry="agm", series=6, nameplate_ah=35.0
        )
    assert Asset.objects.count() == 4


def test_the_database_itself_refuses_the_impossible(shelf):
    """A pack of no cells and a tag twice are refused whatever the code does."""
    with pytest.raises(IntegrityError):
        Battery.objects.filter(asset=shelf["K01"]).update(series=0)


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"series": "0"}, "Cells in series must be between 1 and 120, not 0"),
        ({"series": "4", "nominal_v": "1,2"}, "4 LiFePO4 cells in series make 12.8 V"),
        ({"nominal_v": "0"}, "Nominal voltage must be between 1.2 and 500 V, not 0"),
        ({"nameplate_ah": "NaN"}, "Nameplate capacity must be a plain number"),
        ({"nameplate_ah": "-20"}, "Nameplate capacity must be between 0.05 and 5000"),
        ({"nameplate_ah": "99999999"}, "Nameplate capacity must be between"),
        ({"series": "", "nominal_v": ""}, "Give the cells in series, or the nominal"),
        ({"tag": "k1"}, "would be mistaken for K01"),
    ],
)
def test_bad_input_names_field_and_range_and_saves_nothing(shelf, boss, values, words):
    """The form says what is wrong, keeps what was typed, and writes nothing."""
    data = {"tag": "Q77", "chemistry": "lifepo4", "series": "4", "nameplate_ah": "20,5"}

    response = boss.post(reverse("shelf:asset_add", args=["battery"]), data | values)

    assert response.status_code == 422
    assert words in response.content.decode().replace("&#x27;", "'")
    assert not Asset.objects.filter(tag="Q77").exists()


def test_a_decimal_comma_and_a_nominal_voltage_make_a_battery(shelf, boss):
    """12,8 V of LiFePO4 are four cells."""
    data = {
        "tag": "Q77",
        "chemistry": "lifepo4",
        "nominal_v": "12,8",
        "nameplate_ah": "7,2",
    }

    response = boss.post(reverse("shelf:asset_add", args=["battery"]), data)

    asset = Asset.objects.get(tag="Q77")
    assert response.status_code == 302
    assert (asset.battery.series, asset.battery.nameplate_ah) == (4, 7.2)


def test_what_goes_out_comes_back_unchanged(shelf, marin):
    """Export, import: every row is unchanged; the second import changes nothing."""
    set_hold(shelf["K02"], because="=HYPERLINK(1), 'quoted'")

    preview, planned = tables.preview_list(
        BATTERIES, tables.export_list(BATTERIES).encode()
    )

    assert preview.faults == []
    assert {row.what for row in planned} == {"unchanged"}
    assert tables.apply_list(
        BATTERIES, tables.export_list(BATTERIES).encode(), by=marin
    ) == (
        0,
        0,
    )


@pytest.mark.parametrize(
    ("row", "column", "words"),
    [
        ("K1,lifepo4,4,,20,,", "tag", "looks like K01"),
        ("B7,lifepo4,4,,20,,\nb07,agm,6,,35,,", "tag", "is already in row 2"),
        ("B7,unobtainium,4,,20,,", "chemistry", "is not one of lifepo4"),
        ("B7,lifepo4,0,,20,,", "series", "between 1 and 120"),
        ("B7,lifepo4,4,0,20,,", "nominal_v", "between 1.2 and 500 V"),
        ("B7,lifepo4,4,24,20,,", "nominal_v", "make 12.8 V nominal, not 24 V"),
        ("B7,lifepo4,,,20,,", "series", "Give the cells in series"),
        ("B7,agm,6,,=1+2,,", "nameplate_ah", "plain number"),
        (",agm,6,,20,,", "tag", "is empty"),
    ],
)
def test_each_fault_of_a_battery_list_is_named(shelf, row, column, words):
    """Row, column and reason, and nothing half-saved."""
    preview, _ = tables.preview_list(BATTERIES, (HEAD + row).encode())

    assert (preview.faults[0].column, preview.faults[0].row >= 2) == (column, True)
    assert words in preview.faults[0].reason


def test_an_import_is_seen_first_and_then_takes_all(shelf, boss):
    """Upload, look, apply: new ones are added, the known one is changed."""
    content = HEAD + "B7,lifepo4,,12.8,30,,\nK01,lifepo4,4,,20,17.5,\n"
    file = SimpleUploadedFile("list.csv", content.encode())

    seen = boss.post(reverse("shelf:import", args=["battery"]), {"file": file})
    assert "changes tested_ah" in seen.content.decode()
    assert not Asset.objects.filter(tag="B7").exists()

    upload = Upload.objects.get()
    done = boss.post(
        reverse("shelf:import_apply", args=["battery", upload.pk]), follow=True
    )
    assert "1 batteries are new, 1 changed" in done.content.decode()
    assert by_tag("K01").pack.trusted_ah == 17.5


def test_an_import_that_went_wrong_meanwhile_saves_nothing(shelf, boss, marin):
    """What the preview allowed is checked again when it is applied."""
    file = SimpleUploadedFile(
        "list.csv", (HEAD + "B7,agm,6,,30,,\nB8,agm,6,,9,,").encode()
    )
    boss.post(reverse("shelf:import", args=["battery"]), {"file": file})
    save_battery(None, by=marin, tag="B08", chemistry="agm", series=6, nameplate_ah=9.0)

    done = boss.post(
        reverse("shelf:import_apply", args=["battery", Upload.objects.get().pk]),
        follow=True,
    )

    assert "Nothing was imported" in done.content.decode()
    assert not Asset.objects.filter(tag="B7").exists()


def test_a_file_over_the_cap_is_refused_with_the_cap(shelf, boss):
    """Six megabytes: nothing is kept, not even the upload."""
    file = SimpleUploadedFile("list.csv", b"tag\n" + b"x" * 6_000_000)

    response = boss.post(reverse("shelf:import", args=["battery"]), {"file": file})

    assert response.status_code == 422
    assert "5 MB is the most" in response.content.decode()
    assert not Upload.objects.exists()


def test_a_wrong_file_is_refused_on_the_page(shelf, boss):
    """A photo named .csv gets a sentence, not an error page."""
    file = SimpleUploadedFile("list.csv", b"\x89PNG\r\n\x1a\n" + bytes(range(256)))

    response = boss.post(reverse("shelf:import", args=["battery"]), {"file": file})

    assert response.status_code == 422
    assert "it is not text" in response.content.decode()


def test_the_shelf_is_read_in_the_same_number_of_queries_whatever_its_size(
    shelf, marin, boss, django_assert_max_num_queries
):
    """Forty batteries cost no more queries than four."""
    for number in range(40):
        save_battery(
            None,
            by=marin,
            tag=f"B{number + 10}",
            chemistry="agm",
            series=6,
            nameplate_ah=35.0,
        )

    with django_assert_max_num_queries(15):
        response = boss.get(reverse("shelf:asset_list"))

    assert "B49" in response.content.decode()


def test_archiving_hides_and_can_be_undone(shelf, boss):
    """Nothing is deleted: off the shelf, and back."""
    url = reverse("shelf:asset_archive", args=[shelf["K01"].pk])

    boss.post(url)
    assert "K01" not in [item.asset.tag for item in shelf_batteries()]

    boss.post(url)
    assert shelf_batteries_of([shelf["K01"]])[0].pack.trusted_ah == 19
