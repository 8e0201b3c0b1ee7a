"""The cells of a file: CSV in any usual encoding, or the first sheet of a workbook."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, time
from itertools import islice

import openpyxl

MAX_BYTES = 5 * 1024 * 1024
MAX_ROWS = 10_000
#: What a workbook may unpack to.
MAX_UNPACKED = 100 * 1024 * 1024
#: Columns that are looked at; no table of ours has half as many.
MAX_COLUMNS = 200
#: Lines in which the headings are looked for: above them a list may have its title.
HEAD_ROWS = 12

#: How an XLSX workbook begins.
_ZIP = b"PK\x03\x04"
#: How an encrypted workbook begins, and one of before XLSX.
_OLE = bytes.fromhex("D0CF11E0A1B11AE1")


class TableFault(Exception):
    """A file can't be read as a table at all; the message says why."""


@dataclass(frozen=True, slots=True)
class Cells:
    """All cells of a file as text, and how they were read."""

    rows: list[list[str]]
    #: The encoding that was taken, in words; empty for a workbook.
    encoding: str = ""
    #: Sheets of a workbook that were left out.
    left_out: tuple[str, ...] = ()


def cells_of(content: bytes, known: Iterable[str]) -> Cells:
    """
    Read a CSV file or the first sheet of an XLSX workbook.

    Parameters
    ----------
    content : bytes
        CSV in UTF-8, UTF-16, Windows-1252 or Latin-1, cells separated by comma,
        semicolon or tab; or an XLSX workbook.
    known : iterable of str
        Headings in lower case; they tell what separates the cells.

    Raises
    ------
    TableFault
        If the file is too large, empty, locked, or broken.
    """
    if content[:8] == _OLE:
        raise TableFault(
            "The workbook is locked with a password, or is in the old XLS format. Save "
            "it without a password as XLSX or as “CSV UTF-8”."
        )
    if len(content) > MAX_BYTES:
        raise TableFault(_too_large(content))
    if content[:4] == _ZIP:
        return _sheet(content)
    text, encoding = _decoded(content)
    if not text.strip():
        raise TableFault("The file is empty; the first line must name the columns.")
    return Cells(_records(text, set(known)), encoding)


def _decoded(content: bytes) -> tuple[str, str]:
    """The text of a file, and in which encoding it was read."""
    if content[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return content.decode("utf-16", "replace"), "UTF-16"
    # Without a mark, every other byte of Latin letters is none.
    for encoding, start in (("utf-16-le", 1), ("utf-16-be", 0)):
        half = content[start:400:2]
        if half and half.count(0) > 0.8 * len(half):
            return content.decode(encoding, "replace"), "UTF-16"
    strange = sum(byte < 32 and byte not in b"\t\r\n" for byte in content[:4000])
    if strange > max(10, 0.05 * len(content[:4000])):
        raise TableFault(
            "The file is no table: it is not text. Save it as CSV or XLSX."
        )
    try:
        return content.decode("utf-8-sig"), "UTF-8"
    except UnicodeDecodeError:
        pass
    try:
        return content.decode("cp1252"), "Windows-1252"
    except UnicodeDecodeError:
        return content.decode("latin-1"), "Latin-1"


def _records(text: str, known: set[str]) -> list[list[str]]:
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    lines = text.split("\n", HEAD_ROWS)[:HEAD_ROWS]

    def hits(delimiter: str) -> int:
        return max(
            sum(cell.strip('" ').casefold() in known for cell in line.split(delimiter))
            for line in lines
        )

    def used(delimiter: str) -> int:
        return max(line.count(delimiter) for line in lines)

    delimiter = max(",;\t", key=lambda mark: (hits(mark), used(mark)))
    try:
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
        most = MAX_ROWS + HEAD_ROWS + 1
        return [row[:MAX_COLUMNS] for row in islice(reader, most)]
    except csv.Error as error:
        raise TableFault(
            f"The file can't be read as a table: line {reader.line_num} has a cell of "
            f"more than {csv.field_size_limit():,} characters."
        ) from error


def _sheet(content: bytes) -> Cells:
    """Cells of the first sheet of a workbook, as text."""
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as parts:
            if sum(part.file_size for part in parts.infolist()) > MAX_UNPACKED:
                raise TableFault("The workbook unpacks to more than 100 MB.")
        book = openpyxl.load_workbook(
            io.BytesIO(content), read_only=True, data_only=True
        )
        sheet, *others = book.worksheets
        rows = []
        for cells in sheet.iter_rows(values_only=True, max_col=MAX_COLUMNS):
            rows.append([_as_text(cell) for cell in cells])
            if len(rows) > MAX_ROWS + HEAD_ROWS:
                break
        left_out = tuple(other.title for other in others if _has_cells(other))
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
    return Cells(rows, left_out=left_out)


def _has_cells(sheet: openpyxl.worksheet.worksheet.Worksheet) -> bool:
    rows = sheet.iter_rows(values_only=True, max_row=HEAD_ROWS, max_col=MAX_COLUMNS)
    return any(cell is not None for row in rows for cell in row)


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
