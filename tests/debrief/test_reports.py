"""Reports: the line for whom the club served, paper, text, and the package."""

import csv
import io
import json
import zipfile
from datetime import date, timedelta

import pytest
from django.urls import reverse

from hollow_kettle.debrief.actuals.page import page_of
from hollow_kettle.debrief.history import History
from hollow_kettle.field import services
from hollow_kettle.log.services import rebuild
from hollow_kettle.plan.events.services import set_state
from hollow_kettle.plan.sun.services import add_array
from hollow_kettle.shelf.models import Action
from tests.conftest import set_clock


@pytest.fixture
def over(event, shelf, esker, drumlin, marin):
    """Eight hours; Drumlin off the air for 48 min of them."""
    set_clock(event, 480)
    quiet = {"by": marin, "refresh": False}
    start = event.starts_at
    for tag, station in (("K01", esker), ("K02", drumlin)):
        services.log_swap(event, station, battery=shelf[tag], at=start, **quiet)
    for what, minutes in (("off_air", 100), ("back", 148)):
        services.log_station(
            event, drumlin, what=what, at=start + timedelta(minutes=minutes),
            note="plug | lead", **quiet,
        )  # fmt: skip
    Action.objects.create(
        words="=crimp | it", due_on=date(2026, 9, 1), event_key=event.pk, owner=marin
    )
    rebuild(event.pk)
    set_state(event, state="closed")
    return event


def get(client, event, name):
    """Fetch one of the reports."""
    return client.get(reverse(f"debrief:{name}", args=[event.pk]))


def test_the_served_agency_reads_hours_asked_and_given(over, client_of):
    """Two stations of 8 h are 16; less 48 min they are 15.2, 95 % (by hand)."""
    page = get(client_of("observer"), over, "report").content.decode()
    text = " ".join(page.split())

    assert "2 stations, <b>16</b> station-hours asked, <b>15.2</b> given" in text
    assert "<b>95%</b>" in text
    assert "Esker was on the air for all of its 8 h." in text
    assert "Drumlin was off the air for 48 of its 480 min." in text


def test_the_text_keeps_its_tables_whatever_people_wrote(over, client_of):
    """A bar in a note would end its cell."""
    text = get(client_of("observer"), over, "report_text").content.decode()

    rows = [line for line in text.splitlines() if line.startswith("|")]
    assert "| =crimp \\| it | Marin | 2026-09-01 | open |" in rows
    drumlin = next(row for row in rows if row.startswith("| Drumlin | off the air"))
    assert "plug \\| lead" in drumlin
    assert drumlin.replace("\\|", "").count("|") == 6
    assert "| 48 |" in drumlin


def test_the_package_describes_each_column_of_each_table(over, client_of):
    """By the open Data Package form; a cell that a spreadsheet would run is defused."""
    answer = get(client_of("observer"), over, "report_package")
    package = zipfile.ZipFile(io.BytesIO(answer.content))
    descriptor = json.loads(package.read("datapackage.json"))

    assert {one["path"] for one in descriptor["resources"]} == {
        name for name in package.namelist() if name.endswith(".csv")
    }
    for resource in descriptor["resources"]:
        rows = list(csv.reader(io.StringIO(package.read(resource["path"]).decode())))
        assert rows[0] == [field["name"] for field in resource["schema"]["fields"]]
    falls = csv.DictReader(io.StringIO(package.read("shortfalls.csv").decode()))
    first = next(row for row in falls if row["how"] == "off the air")
    assert (first["from"], first["minutes"]) == ("2026-06-27T13:40:00Z", "48.0")
    assert "'=crimp" in package.read("actions.csv").decode()


@pytest.mark.parametrize("what", ["report_print", "agency_print", "power_log_print"])
def test_paper_is_a_pdf(what, over, client_of):
    """Drawn by our own files alone; whoever has a duty may take it."""
    answer = get(client_of("observer"), over, what)

    assert answer["Content-Type"] == "application/pdf"
    assert answer.content.startswith(b"%PDF-")
    assert len(answer.content) > 5000


def test_planned_against_actual_shows_turns_and_the_yard(over, client_of):
    """A turn of 8 h; nothing was planned before, nothing charged."""
    page = " ".join(
        get(client_of("observer"), over, "actuals").content.decode().split()
    )

    assert "<b>8:00</b>" in page
    assert "no plan was published before it began" in page
    assert "mains" in page
    assert "Counted on" not in page


def test_the_harvest_stands_beside_what_was_counted_on(over, esker, client_of):
    """A 100 W panel under a June noon: nothing counted on, something harvested."""
    add_array(over, station=esker, watts=100)
    esker.site.latitude, esker.site.longitude = 46.1, -95.4
    esker.site.save()
    yard = over.sites.get(is_yard=True)
    yard.latitude, yard.longitude = 46.1, -95.4
    yard.save()

    (row, _) = page_of(History(over, over.ends_at)).stations

    assert row.counted_wh == 0
    assert 100 < row.harvest_wh < 800
    assert "Counted on" in get(client_of("observer"), over, "actuals").content.decode()
