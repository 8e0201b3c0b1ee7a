"""
Tables in and out: CSV that survives spreadsheets.

Reading never guesses silently: each fault names row, column and reason. Writing
defuses text cells that a spreadsheet would run as a formula; reading strips
exactly that prefix, so that a table comes back as it went out.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from .files import HEAD_ROWS, MAX_ROWS, TableFault, cells_of

_RISKY = ("=", "+", "-", "@", "\t", "\r", "'")


class CellFault(Exception):
    """A cell can't be read; the message says why."""


@dataclass(frozen=True, slots=True)
class Column:
    """One column of a table: its name, how it is read, what it means."""

    name: str
    read: Callable[[str], Any]
    help: str
    required: bool = False
    #: Other headings under which people keep this column.
    aliases: tuple[str, ...] = ()
    #: What a cell says of other columns, where these have nothing of their own.
    also: Callable[[str], Mapping[str, Any]] | None = None


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
    #: What is worth a second look and stops nothing.
    doubts: list[Fault] = field(default_factory=list)
    #: Which row names the columns, as a spreadsheet counts; in which encoding the file
    #: was read; sheets that were left out.
    head_row: int = 1
    encoding: str = ""
    left_out: tuple[str, ...] = ()
    #: What stood in the cells of each row, by column.
    said: dict[int, dict[str, str]] = field(default_factory=dict)

    def doubt(self, row: int, column: str, reason: str) -> None:
        """Note what is worth a second look."""
        self.doubts.append(Fault(row, column, reason))

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
        CSV or an XLSX workbook; see `files.cells_of`. Above the headings there may be
        a title.
    columns : sequence of Column
        What to look for, by heading, in any order and case.
    headings : mapping, optional
        What other headings mean: heading in lower case to name of a column.
    is_filled : bool
        Whether a row names columns that the file doesn't have, as None.

    Raises
    ------
    TableFault
        If the file is too large, can't be read, or has none of the columns.
    """
    columns = [_also(column, headings or {}) for column in columns]
    known = {name.casefold() for c in columns for name in (c.name, *c.aliases)}
    cells = cells_of(content, known)
    at = _head_of(cells.rows, known)
    head, body = cells.rows[at], cells.rows[at + 1 :]
    if len(head) == 1 and not _hits(head, known) and not any(len(r) > 1 for r in body):
        wanted = ", ".join(column.name for column in columns if column.required)
        raise TableFault(
            f"The first line must name the columns; none of {wanted} is there."
        )
    if len(body) > MAX_ROWS:
        raise TableFault(
            f"The file has too many rows; {MAX_ROWS:,} is the most at once. "
            "Split it and import the parts one after the other."
        )
    preview = Preview(head_row=at + 1, encoding=cells.encoding, left_out=cells.left_out)
    places = _places(head, columns, preview)
    read = [c for c in columns if is_filled or c.required or c.name in places]
    for number, row in enumerate(body, start=at + 2):
        if any(cell.strip() for cell in row):
            _read_row(number, row, read, places, preview)
    if not preview.rows and not preview.faults:
        raise TableFault("The file names its columns but has no rows below them.")
    return preview


def _hits(row: Sequence[str], known: set[str]) -> int:
    return sum(cell.strip().casefold() in known for cell in row)


def _head_of(rows: Sequence[Sequence[str]], known: set[str]) -> int:
    """Which of the first rows names the columns: the one with most known headings."""
    first = range(min(HEAD_ROWS, len(rows)))
    return max(first, key=lambda at: (_hits(rows[at], known), -at))


def _read_row(
    number: int,
    cells: list[str],
    columns: Sequence[Column],
    places: dict[str, int],
    preview: Preview,
) -> None:
    row: dict[str, Any] = {}
    more: dict[str, Any] = {}
    said = preview.said[number] = {}
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
            said[column.name] = text
            row[column.name] = column.read(text)
            more |= column.also(text) if column.also is not None else {}
        except CellFault as fault:
            preview.fault(number, column.name, str(fault))
    for name, value in more.items():
        if row.get(name) is None:
            row[name] = value
    if len(preview.faults) == faults:
        preview.rows.append((number, row))
    if row.get(columns[0].name) is not None:
        preview.tagged.append((number, row))


def _also(column: Column, headings: Mapping[str, str]) -> Column:
    more = tuple(heading for heading, name in headings.items() if name == column.name)
    return replace(column, aliases=(*column.aliases, *more)) if more else column


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
            preview.fault(preview.head_row, name, "appears twice in the headings")
        else:
            places[name] = at
    for column in columns:
        if column.name in places:
            continue
        preview.absent_columns.append(column.name)
        if column.required:
            preview.fault(preview.head_row, column.name, "is missing from the headings")
    return places
