"""
Tables in and out: CSV that survives spreadsheets.

Reading never guesses silently: each fault names row, column and reason. Writing
defuses text cells that a spreadsheet would run as a formula; reading strips
exactly that prefix, so that a table comes back as it went out.
"""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, time
from itertools import islice
from typing import Any

import openpyxl

MAX_BYTES = 5 * 1024 * 1024
MAX_ROWS = 10_000

#: What a workbook may unpack to.
MAX_UNPACKED = 100 * 1024 * 1024
#: How an XLSX workbook begins.
_ZIP = b"PK\x03\x04"
#: How an encrypted workbook begins, and one of before XLSX.
_OLE = bytes.fromhex("D0CF11E0A1B11AE1")
#: Columns that are looked at; no table of ours has half as many.
MAX_COLUMNS = 200

_RISKY = ("=", "+", "-", "@", "\t", "\r", "'")


class CellFault(Exception):
    """A cell can't be read; the message says why."""


class TableFault(Exception):
    """A file can't be read as a table at all; the message says why."""


@dataclass(frozen=True, slots=True)
class Column:
    """One column of a table: its name, how it is read, what it means."""

    name: str
    read: Callable[[str], Any]
    help: str
    required: bool = False
    #: Other headings under which people keep this column.
    aliases: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Fault:
    """What is wrong, and where: the row and column as a spreadsheet counts."""

    row: int
    column: str
    reason: str


@dataclass(slots=True)
class Preview:
    """A table as it was understood, before anything is kept."""

    rows: list[tuple[int, dict[str, Any]]] = field(default_factory=list)
    #: Every row whose first column could be read, with faults elsewhere or not.
    tagged: list[tuple[int, dict[str, Any]]] = field(default_factory=list)
    faults: list[Fault] = field(default_factory=list)
    ignored_columns: list[str] = field(default_factory=list)
    #: Columns that no heading of the file was taken for.
    absent_columns: list[str] = field(default_factory=list)

    def fault(self, row: int, column: str, reason: str) -> None:
        """Note what is wrong in one cell."""
        self.faults.append(Fault(row, column, reason))


def defuse(text: str) -> str:
    """Make a text cell that no spreadsheet runs."""
    return "'" + text if text.startswith(_RISKY) else text


def restore(text: str) -> str:
    """Undo `defuse`, and nothing else."""
    return text[1:] if text[:1] == "'" and text[1:].startswith(_RISKY) else text


def write_csv(names: Sequence[str], rows: Iterable[Mapping[str, object]]) -> str:
    """Write rows as CSV with CRLF lines; text is defused, numbers are plain."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(names)
    for row in rows:
        cells = (row.get(name) for name in names)
        writer.writerow(
            defuse(cell) if isinstance(cell, str) else ("" if cell is None else cell)
            for cell in cells
        )
    return out.getvalue()


def read_table(
    content: bytes,
    columns: Sequence[Column],
    *,
    headings: Mapping[str, str] | None = None,
    is_filled: bool = True,
) -> Preview:
    """
    Read a CSV file or the first sheet of an XLSX workbook as a preview.

    Parameters
    ----------
    content : bytes
        CSV in UTF-8 (with or without byte-order mark) or UTF-16 with one, cells
        separated by comma, semicolon or tab; or an XLSX workbook.
    columns : sequence of Column
        What to look for, by heading, in any order and case.
    headings : mapping, optional
        What other headings mean: heading in lower case to name of a column.
    is_filled : bool
        Whether a row names columns that the file doesn't have, as None.

    Raises
    ------
    TableFault
        If the file is too large, in another encoding, or has none of the columns.
    """
    columns = [_also(column, headings or {}) for column in columns]
    if content[:8] == _OLE:
        raise TableFault(
            "The workbook is locked with a password, or is in the old XLS format. Save "
            "it without a password as XLSX or as “CSV UTF-8”."
        )
    if content[:4] == _ZIP:
        records = _sheet(content)
    else:
        text = _decode(content)
        if not text.strip():
            raise TableFault("The file is empty; the first line must name the columns.")
        records = _records(text, columns)
    head, *body = records
    if len(body) > MAX_ROWS:
        raise TableFault(
            f"The file has too many rows; {MAX_ROWS:,} is the most at once. "
            "Split it and import the parts one after the other."
        )
    preview = Preview()
    places = _places(head, columns, preview)
    read = [c for c in columns if is_filled or c.required or c.name in places]
    for number, cells in enumerate(body, start=2):
        if any(cell.strip() for cell in cells):
            _read_row(number, cells, read, places, preview)
    if not preview.rows and not preview.faults:
        raise TableFault("The file names its columns but has no rows below them.")
    return preview


def _read_row(
    number: int,
    cells: list[str],
    columns: Sequence[Column],
    places: dict[str, int],
    preview: Preview,
) -> None:
    row: dict[str, Any] = {}
    faults = len(preview.faults)
    for column in columns:
        at = places.get(column.name)
        text = cells[at].strip() if at is not None and at < len(cells) else ""
        text = restore(text)
        if not text:
            if column.required:
                preview.fault(number, column.name, "is empty, but required")
            row[column.name] = None
            continue
        try:
            if "\x00" in text:
                raise CellFault("has a character that can't be stored")
            row[column.name] = column.read(text)
        except CellFault as fault:
            preview.fault(number, column.name, str(fault))
    if len(preview.faults) == faults:
        preview.rows.append((number, row))
    if row.get(columns[0].name) is not None:
        preview.tagged.append((number, row))


def _also(column: Column, headings: Mapping[str, str]) -> Column:
    more = tuple(heading for heading, name in headings.items() if name == column.name)
    return replace(column, aliases=(*column.aliases, *more)) if more else column


def _sheet(content: bytes) -> list[list[str]]:
    """Cells of the first sheet of a workbook, as text."""
    if len(content) > MAX_BYTES:
        raise TableFault(_too_large(content))
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as parts:
            if sum(part.file_size for part in parts.infolist()) > MAX_UNPACKED:
                raise TableFault("The workbook unpacks to more than 100 MB.")
        book = openpyxl.load_workbook(
            io.BytesIO(content), read_only=True, data_only=True
        )
        sheet = book.worksheets[0]
        rows = []
        for cells in sheet.iter_rows(values_only=True, max_col=MAX_COLUMNS):
            rows.append([_as_text(cell) for cell in cells])
            if len(rows) > MAX_ROWS + 1:
                break
        book.close()
    except TableFault:
        raise
    except Exception as error:  # a damaged workbook breaks its reader anywhere
        raise TableFault(
            "The file looks like a workbook and can't be read as one; save it again as "
            "XLSX or as “CSV UTF-8”."
        ) from error
    while rows and not any(rows[-1]):
        rows.pop()
    if not rows:
        raise TableFault(
            "The first sheet is empty; its first row must name the columns."
        )
    return rows


def _as_text(cell: object) -> str:
    if cell is None:
        return ""
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    if isinstance(cell, float):
        return f"{cell:.12g}"
    if isinstance(cell, datetime):
        at_midnight = cell.hour == cell.minute == cell.second == 0
        return cell.strftime("%Y-%m-%d" if at_midnight else "%Y-%m-%d %H:%M")
    if isinstance(cell, time):
        return cell.strftime("%H:%M")
    return str(cell)


def _too_large(content: bytes) -> str:
    return (
        f"The file has {len(content) / 1e6:.1f} MB; "
        f"{MAX_BYTES / 1024 / 1024:.0f} MB is the most."
    )


def _decode(content: bytes) -> str:
    if len(content) > MAX_BYTES:
        raise TableFault(_too_large(content))
    encoding = "utf-16" if content[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig"
    try:
        return content.decode(encoding)
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        raise TableFault(
            f"The file is not in UTF-8: line {line} has the byte "
            f"0x{content[error.start]:02X}. Save it again as “CSV UTF-8”."
        ) from error


def _records(text: str, columns: Sequence[Column]) -> list[list[str]]:
    known = {name.casefold() for c in columns for name in (c.name, *c.aliases)}
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    first = text.split("\n", 1)[0]

    def hits(delimiter: str) -> int:
        cells = first.split(delimiter)
        return sum(cell.strip('" ').casefold() in known for cell in cells)

    delimiter = max(",;\t", key=lambda mark: (hits(mark), first.count(mark)))
    if not hits(delimiter) and delimiter not in first:
        wanted = ", ".join(column.name for column in columns if column.required)
        raise TableFault(
            f"The first line must name the columns; none of {wanted} is there."
        )
    try:
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
        return [row[:MAX_COLUMNS] for row in islice(reader, MAX_ROWS + 2)]
    except csv.Error as error:
        raise TableFault(
            f"The file can't be read as a table: line {reader.line_num} has a cell of "
            f"more than {csv.field_size_limit():,} characters."
        ) from error


def _places(
    head: list[str], columns: Sequence[Column], preview: Preview
) -> dict[str, int]:
    names = {
        name.casefold(): column.name
        for column in columns
        for name in (column.name, *column.aliases)
    }
    places: dict[str, int] = {}
    for at, cell in enumerate(head):
        name = names.get(cell.strip().casefold())
        if name is None:
            if cell.strip():
                preview.ignored_columns.append(cell.strip())
        elif name in places:
            preview.fault(1, name, "appears twice in the first line")
        else:
            places[name] = at
    for column in columns:
        if column.name in places:
            continue
        preview.absent_columns.append(column.name)
        if column.required:
            preview.fault(1, column.name, "is missing from the first line")
    return places
