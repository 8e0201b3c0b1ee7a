"""Tables in and out: what goes out comes back, and faults are named."""

import csv
import io
import zipfile
from contextlib import suppress
from datetime import date, datetime, time

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_kettle.exchange import readers
from hollow_kettle.exchange.files import MAX_BYTES, MAX_COLUMNS, TableFault
from hollow_kettle.exchange.tables import (
    CellFault,
    Column,
    defuse,
    read_table,
    restore,
    write_csv,
)
from powercore.limits import Limit

COLUMNS = (
    Column("tag", readers.text(60), "", required=True),
    Column("ah", readers.number(Limit(0.05, 5000, "Ah")), "", aliases=("capacity",)),
)
cell = st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=50)


@given(cell)
def test_defusing_is_undone_exactly(text):
    """Whatever the text, and also when it looks defused already."""
    assert restore(defuse(text)) == text


@given(
    st.lists(
        st.tuples(cell.filter(lambda t: t.strip() == t != ""), st.floats(0.05, 5000)),
        min_size=1,
        max_size=20,
    )
)
def test_a_table_comes_back_as_it_went_out(rows):
    """Text with commas, quotes and formulas, and numbers, survive the round trip."""
    written = write_csv(["tag", "ah"], [{"tag": t, "ah": n} for t, n in rows])

    preview = read_table(written.encode(), COLUMNS)

    assert [(row["tag"], row["ah"]) for _, row in preview.rows] == rows


@given(st.sampled_from(["=1+2", "+1", "-cmd", "@sum", "\tx"]))
def test_no_written_cell_is_run_by_a_spreadsheet(text):
    """Formulas go out as text."""
    (_, (cell_out, _)) = csv.reader(
        io.StringIO(write_csv(["tag", "ah"], [{"tag": text}]))
    )

    assert cell_out[0] == "'"


@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
@pytest.mark.parametrize(
    "encoding",
    ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "cp1252", "latin-1"],
)
def test_comma_semicolon_tab_and_byte_order_marks_are_understood(delimiter, encoding):
    """Spreadsheets of every country write the same list; 12,94 is a number."""
    number = "12.94" if delimiter == "," else "12,94"
    text = (
        delimiter.join(["Tag", "CAPACITY"]) + "\r\n" + delimiter.join(["Kü1", number])
    )

    preview = read_table(text.encode(encoding), COLUMNS)

    assert preview.rows == [(2, {"tag": "Kü1", "ah": 12.94})]


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "The file is empty"),
        (b"tag,ah\n", "no rows below"),
        (b"a\n1\n", "none of tag is there"),
        (b"tag\n" + b"x" * MAX_BYTES, "5 MB is the most"),
        (b"tag\n" + b"K\n" * 10_001, "10,000 is the most"),
        (b"tag\n" + b"K" * 200_000, "line 2 has a cell of more than 131,072"),
        (b"PK\x03\x04 and nothing more", "can't be read as one"),
        (bytes.fromhex("D0CF11E0A1B11AE1") + bytes(600), "locked with a password"),
    ],
)
def test_an_unreadable_file_says_why(content, words):
    """Encoding, size, emptiness and headings each have their own sentence."""
    with pytest.raises(TableFault, match=words):
        read_table(content, COLUMNS)


def test_every_damage_to_a_workbook_is_a_sentence():
    """Each part of the archive broken in turn: cut short, emptied, overwritten."""
    book = openpyxl.Workbook()
    book.active.append(["tag", "ah"])
    book.active.append(["K01", 20])
    whole = io.BytesIO()
    book.save(whole)
    with zipfile.ZipFile(whole) as parts:
        files = {name: parts.read(name) for name in parts.namelist()}
    for name, content in files.items():
        for damaged in (content[: len(content) // 2], b"", b"<a/>", b"\xff\xfe<"):
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w") as parts:
                for other, kept in files.items():
                    parts.writestr(other, damaged if other == name else kept)
            with suppress(TableFault):
                assert len(read_table(out.getvalue(), COLUMNS).rows) <= 1


def test_line_ends_of_old_and_very_wide_sheets_are_read():
    """Carriage returns alone end lines; of a sheet's columns the first 200 count."""
    assert read_table(b"tag,ah\rK01,20\rK02,12\r", COLUMNS).rows[1][1]["ah"] == 12
    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet()
    sheet.append(["tag", "ah", *["x"] * 9000])
    sheet.append(["K01", 20, *["y"] * 9000])
    out = io.BytesIO()
    book.save(out)
    found = read_table(out.getvalue(), COLUMNS)

    assert found.rows[0][1] == {"tag": "K01", "ah": 20}
    assert len(found.ignored_columns) == MAX_COLUMNS - 2


def test_each_fault_names_row_column_and_reason():
    """All faults of a file are shown at once, as a spreadsheet counts rows."""
    content = b"tag,ah,shoe\nK1,NaN,9\n,3,9\nK3,-4,9\nK4,=1+2,9\nK5,1e9,9\n"

    preview = read_table(content, COLUMNS)

    assert [(f.row, f.column) for f in preview.faults] == [
        (2, "ah"),
        (3, "tag"),
        (4, "ah"),
        (5, "ah"),
        (6, "ah"),
    ]
    assert "between 0.05 and 5000 Ah, not -4" in preview.faults[2].reason
    assert preview.ignored_columns == ["shoe"]
    assert preview.rows == []


@pytest.mark.parametrize(
    ("cell", "text"),
    [
        (20.0, "20"),
        (0.1 + 0.2, "0.3"),
        (True, "yes"),
        (False, "no"),
        (None, ""),
        (date(2026, 4, 11), "2026-04-11"),
        (datetime(2026, 6, 27, 14, 30), "2026-06-27 14:30"),  # noqa: DTZ001 - a wall time
        (time(22, 0), "22:00"),
        ("=1+2", "=1+2"),
        (1e-7, "1e-07"),
    ],
)
def test_a_workbook_s_cell_is_read_as_a_person_sees_it(cell, text):
    """No binary tails, dates as they are typed, formulas as text."""
    book = openpyxl.Workbook()
    book.active.append(["tag", "what"])
    book.active.append(["K1", None])
    book.active["B2"].value = cell
    if isinstance(cell, str):
        book.active["B2"].data_type = "s"
    out = io.BytesIO()
    book.save(out)
    columns = (
        Column("tag", readers.text(9), "", required=True),
        Column("what", readers.text(40), ""),
    )

    preview = read_table(out.getvalue(), columns)

    assert preview.rows == [(2, {"tag": "K1", "what": text or None})]


@pytest.mark.parametrize(
    ("read", "good", "bad", "words"),
    [
        (readers.yes, {"Yes": True, "x": True, "0": False}, "maybe", "yes or no"),
        (readers.day, {"2026-04-11": date(2026, 4, 11)}, "11/4/26", "like 2026-04-11"),
        (readers.time_of_day, {"7:30": time(7, 30)}, "25:00", "like 22:00"),
        (readers.time_of_day, {}, "22:00Z", "like 22:00"),
        (readers.whole(Limit(1, 9)), {"3": 3, "3,0": 3}, "3.5", "whole number"),
        (readers.choice({"agm": ("SLA",)}), {"sla": "agm"}, "gel", "is not one of agm"),
    ],
)
def test_each_reader_reads_or_says_what_it_needs(read, good, bad, words):
    """As people write it, else a sentence."""
    for cell, value in good.items():
        assert read(cell) == value
    with pytest.raises(CellFault, match=words):
        read(bad)


def test_a_list_read_without_filling_names_only_its_own_columns():
    """What the file doesn't have is not in a row; what is needed stays a fault."""
    columns = (
        Column("tag", readers.text(9), "", required=True),
        Column("ah", readers.number(Limit(0, 9)), ""),
        Column("note", readers.text(9), ""),
    )

    preview = read_table(b"tag,note\nK1,x\n", columns, is_filled=False)

    assert preview.rows == [(2, {"tag": "K1", "note": "x"})]
    assert preview.absent_columns == ["ah"]
