"""Log sheets: printed blank, typed in again row by row; nothing typed is lost."""

from datetime import timedelta

import pytest
from django.urls import reverse

from hollow_kettle.field.queries import board_of
from hollow_kettle.log.models import FieldEntry


@pytest.fixture
def url(under_way):
    return reverse("field:sheet_entry", args=[under_way.pk])


def typed(page, **cells):
    """What a form sends: its key, and cells like r2_volts="13.1"."""
    sent = {"key": str(page.context["key"]), "rounds": "2"}
    return sent | {name.replace("_", "-", 1): value for name, value in cells.items()}


def test_rows_are_those_of_the_paper(url, under_way, client_of, boss):
    """Stations in turn, twice; a lead has the own station's alone; the PDF is one."""
    rows = boss.get(f"{url}?rounds=2").context["rows"]
    assert [(r.number, r.station.name) for r in rows] == [
        (1, "Drumlin"), (2, "Esker"), (3, "Drumlin"), (4, "Esker"),
    ]  # fmt: skip
    own = client_of("station_lead").get(f"{url}?rounds=2").context["rows"]
    assert [r.station.name for r in own] == ["Esker", "Esker"]
    assert len(boss.get(f"{url}?rounds=900").context["rows"]) == 16
    blank = boss.get(reverse("field:log_sheet", args=[under_way.pk]))
    assert blank.content.startswith(b"%PDF-")


def test_a_sheet_is_noted_row_by_row_at_its_own_times(
    url, under_way, shelf, esker, boss
):
    """Without a tag it is of what served there then; sent twice, it counts once."""
    sent = typed(
        boss.get(url),
        r2_taken="12:30", r2_volts="13,20", r2_amps="1.5",
        r4_taken="13:30", r4_tag="k3", r4_gauge_pct="81", r4_text="from the rack",
    )  # fmt: skip
    page = boss.post(url, sent, follow=True)
    boss.post(url, sent)

    assert "2 readings of the sheet are saved" in page.content.decode()
    first, second = FieldEntry.objects.filter(
        kind="reading", raw__has_key="sheet row"
    ).order_by("effective_at")
    assert (first.battery, first.volts, first.amps) == (shelf["K01"].pk, 13.2, 1.5)
    assert (second.battery, second.gauge_pct) == (shelf["K03"].pk, 81)
    minutes = [under_way.minute_of(one.effective_at) for one in (first, second)]
    assert minutes == [30, 90]
    line = next(
        s for s in board_of(under_way, under_way.clock.now()).stations
        if s.station == esker
    )  # fmt: skip
    assert line.age_min == pytest.approx(90, abs=1)  # the board counts it


def test_what_is_wrong_stays_with_its_reason_and_the_rest_is_saved(url, boss, shelf):
    """Odd volts are asked about once; then all of it is there."""
    sent = typed(
        boss.get(url),
        r1_volts="13.1", r2_volts="a lot", r3_volts="31", r4_taken="25:99",
        r4_volts="13",
    )  # fmt: skip
    page = boss.post(url, sent)
    asks = {row.number: row.asks for row in page.context["rows"] if row.asks}
    text = page.content.decode()

    assert page.status_code == 422
    assert "Volts must be a plain number" in asks[2]
    assert "between" in asks[3]
    assert "Write the time like" in asks[4]
    assert 'value="a lot"' in text
    assert "r3-sure" in text
    assert FieldEntry.objects.filter(raw__has_key="sheet row").count() == 1
    again = sent | {
        "r1-volts": "", "r2-volts": "13", "r3-sure": "on", "r4-taken": "12:50",
    }  # fmt: skip
    boss.post(url, again)
    assert FieldEntry.objects.filter(raw__has_key="sheet row").count() == 4
    empty = boss.post(url, typed(boss.get(url)), follow=True).content.decode()
    assert "No row has a reading; nothing was saved" in empty


def test_before_a_battery_was_there_the_row_asks_which(url, boss, under_way):
    """Half an hour before the event nothing served yet."""
    early = under_way.starts_at - timedelta(minutes=30)
    cells = {"r1_volts": "13", "r1_taken": f"{early:%H:%M}"}
    page = boss.post(url, typed(boss.get(url), **cells))

    assert "No battery is logged at Drumlin then" in page.content.decode()
