"""Lists of each kind of asset as tables: their columns, in and out."""

from __future__ import annotations

import re
import statistics
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import time
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.exchange import readers
from hollow_kettle.exchange.packages import as_package
from hollow_kettle.exchange.tables import (
    CellFault,
    Column,
    Preview,
    read_table,
    write_csv,
)
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf import fields, kinds
from hollow_kettle.shelf.assets.services import (
    add_many,
    assets_by_tag,
    check,
    plain_tag,
    plain_tags,
    save_asset,
)
from hollow_kettle.shelf.bench.queries import accepted_ah_by_battery
from hollow_kettle.shelf.fields import Kind, Spec
from hollow_kettle.shelf.models import Asset

#: What stands between two names of one kind, as in "SLA/AGM".
_BETWEEN = re.compile(r"[/,;()|]")
_VOLTS = re.compile(r"\b(\d+(?:[.,]\d+)?)\s*v\b", re.IGNORECASE)


def _chemistry(read: Callable[[str], str]) -> Callable[[str], str]:
    """Read a chemistry with cells or volts beside it, or by two of its names."""

    def read_it(cell: str) -> str:
        plain = _VOLTS.sub("", readers.CELLS.sub("", cell)).strip(" ,;-")
        found = set()
        for name in (plain, *(part.strip() for part in _BETWEEN.split(plain))):
            with suppress(CellFault):
                found.add(read(name))
                if name == plain:
                    break
        return found.pop() if len(found) == 1 else read(cell)

    return read_it


def _of_cells(cell: str) -> dict[str, Any]:
    """Cells and volts that stand beside a chemistry: "LFP 4S2P", "AGM 12 V"."""
    said: dict[str, Any] = {}
    if found := readers.CELLS.search(cell):
        said["series"] = int(found[1])
        if found[2]:
            said["parallel"] = int(found[2])
    elif found := _VOLTS.search(cell):
        said["nominal_v"] = float(found[1].replace(",", "."))
    return said


#: Columns that may say something of others.
_ALSO = {"chemistry": _of_cells, "series": _of_cells}


def _reader(spec: Spec) -> Callable[[str], Any]:
    if spec.name == "series" and spec.limit is not None:
        return readers.cells(spec.limit)
    if spec.name == "chemistry":
        words = {key: (name,) for key, name in spec.choices if key}
        return _chemistry(readers.choice({**words, **spec.spellings}))
    if spec.how in (fields.NUMBER, fields.WHOLE) and spec.limit is not None:
        limit = spec.limit
        if spec.how == fields.WHOLE:
            return readers.whole(limit)
        return readers.number(limit)
    if spec.how == fields.CHOICE:
        words = {key: (name,) for key, name in spec.choices if key}
        return readers.choice({**words, **spec.spellings})
    if spec.how == fields.YES:
        return readers.yes
    if spec.how == fields.DATE:
        return readers.day
    if spec.how == fields.TIME:
        return readers.time_of_day
    if spec.how in fields.LISTS:

        def read(cell: str) -> str:
            try:
                return fields.tidy_list(spec.how, cell)
            except ValueError as error:
                raise CellFault(str(error)) from error

        return read
    return readers.text(spec.most)


def columns_of(kind: Kind) -> tuple[Column, ...]:
    """Return the columns that a list of a kind is read by."""
    return tuple(
        Column(
            spec.name,
            _reader(spec),
            " ".join(filter(None, (spec.help or f"{spec.label}.", _choices(spec)))),
            required=spec.is_needed,
            aliases=(*spec.aliases, spec.label),
            also=_ALSO.get(spec.name),
        )
        for spec in kind.every
        if spec.asked != "form"
    )


def _choices(spec: Spec) -> str:
    if spec.how == fields.YES:
        return "Yes or no."
    if spec.how == fields.CHOICE and not spec.help and len(spec.choices) < 10:
        return ", ".join(key for key, _ in spec.choices if key) + "."
    return ""


#: Where a tested capacity comes from that a list brought in.
IMPORTED = "imported list"


@dataclass(frozen=True, slots=True)
class Planned:
    """What one row will do."""

    row: int
    values: dict[str, Any]
    asset: Asset | None
    changes: tuple[str, ...]

    #: Each value as it was understood: the field's label, words, and the cell where
    #: that was written otherwise.
    understood: tuple[tuple[str, str, str], ...] = ()

    @property
    def what(self) -> str:
        """New, unchanged, or which fields change."""
        if self.asset is None:
            return "new"
        return "changes " + ", ".join(self.changes) if self.changes else "unchanged"


def preview_list(
    kind: Kind, content: bytes, headings: Mapping[str, str] | None = None
) -> tuple[Preview, list[Planned]]:
    """
    Read a list of a kind and say what each row would do; nothing is kept.

    Parameters
    ----------
    headings : mapping, optional
        What a club's own headings mean, as it was said before.

    Raises
    ------
    hollow_kettle.exchange.tables.TableFault
        If the file can't be read as a table at all.
    """
    preview = read_table(content, columns_of(kind), headings=headings, is_filled=False)
    owned = assets_by_tag(kind.key)
    known = plain_tags()
    shown = {row["tag"].casefold(): row for row in _rows(kind)}
    seen: dict[str, int] = {}
    planned: list[Planned] = []
    faulty = {fault.row for fault in preview.faults}
    for number, values in preview.tagged:
        plain = plain_tag(values["tag"])
        if plain in seen:
            words = f"'{values['tag']}' is already in row {seen[plain]}"
            preview.fault(number, "tag", words)
            continue
        seen[plain] = number
        if number in faulty:
            continue
        asset = owned.get(values["tag"].casefold())
        if asset is None and plain in known:
            words = f"'{values['tag']}' looks like {known[plain]}, which is there"
            preview.fault(number, "tag", words)
            continue
        done = _completed(kind, values, asset, number, preview)
        if done is not None:
            changes = () if asset is None else _changes(done, shown)
            understood = tuple(_understood(kind, values, preview.said[number]))
            planned.append(Planned(number, done, asset, changes, understood))
    _doubt(kind, planned, shown, preview)
    preview.faults.sort(key=lambda fault: fault.row)
    return preview, planned


def _understood(
    kind: Kind, values: Mapping[str, Any], said: Mapping[str, str]
) -> Iterator[tuple[str, str, str]]:
    """Each value of a row in words, and the cell where it was written otherwise."""
    for spec in kind.every:
        value = values.get(spec.name)
        if value in (None, "") or spec.name in ("tag", "name"):
            continue
        words = str(value)
        if isinstance(value, bool):
            words = "yes" if value else "no"
        elif isinstance(value, float):
            words = f"{value:g}"
        elif spec.how == fields.CHOICE:
            words = dict(spec.choices).get(value, words)
        if spec.unit and isinstance(value, int | float) and not isinstance(value, bool):
            words = f"{words} {spec.unit}"
        cell = said.get(spec.name, "").strip()
        is_same = cell.casefold().replace(",", ".") in (
            words.casefold(),
            str(value).casefold(),
            words.casefold().split(" ")[0],
        )
        yield spec.label, words, "" if is_same else cell


#: A number so many times the usual of its column, or so small a part of it, is asked
#: about, where so many are known; and a capacity that reads like milliamp-hours.
_FAR, _KNOWN, _MAH = 8.0, 4, 500.0


def _doubt(
    kind: Kind,
    planned: Sequence[Planned],
    shown: Mapping[str, dict[str, Any]],
    preview: Preview,
) -> None:
    """Ask about numbers far from all others, and tags that are heard as numbers."""
    for spec in kind.every:
        if spec.how not in (fields.NUMBER, fields.WHOLE):
            continue
        rows = [(row, row.values.get(spec.name)) for row in planned]
        own = [value for _, value in rows if value]
        old = [row[spec.name] for row in shown.values() if row.get(spec.name)]
        usual = statistics.median([*own, *old]) if own else 0.0
        for row, value in rows:
            if not value or value < 0 or usual <= 0:
                continue
            is_far = not 1 / _FAR < value / usual < _FAR
            if is_far and len(own) + len(old) > _KNOWN:
                words = f"is {value:g} {spec.unit}; the others are about {usual:g}"
                preview.doubt(row.row, spec.name, words)
            elif spec.name == "nameplate_ah" and value >= _MAH:
                words = f"is {value:g} Ah: amp-hours, or milliamp-hours?"
                preview.doubt(row.row, spec.name, words)
    for row in planned:
        tag = row.values["tag"]
        if row.asset is None and tag.isdigit():
            words = (
                f"'{tag}' is digits alone, heard as an hour or a count: put a letter"
            )
            preview.doubt(row.row, "tag", f"{words} before it, like K{tag}")


def _completed(
    kind: Kind,
    values: dict[str, Any],
    asset: Asset | None,
    number: int,
    preview: Preview,
) -> dict[str, Any] | None:
    if asset is None:
        values = dict.fromkeys((*kind.own_names, *fields.ASSET_NAMES)) | values
    try:
        done = kind.complete(values)
        check(kind, asset, done)
    except ValidationError as error:
        if hasattr(error, "error_dict"):
            for name, words in error.message_dict.items():
                preview.fault(number, name, " ".join(words))
        else:
            preview.fault(number, "the row", " ".join(error.messages))
        return None
    return done


def _changes(
    values: dict[str, Any], shown: Mapping[str, dict[str, Any]]
) -> tuple[str, ...]:
    before = shown[values["tag"].casefold()]

    def plain(value: Any) -> Any:
        return "" if value is None else value

    return tuple(
        name
        for name, value in values.items()
        if name in before
        and plain(value) != plain(before[name])
        and not (value is None and (name == "tested_ah" or before[name] is not None))
    )


@transaction.atomic
def apply_list(
    kind: Kind,
    content: bytes,
    *,
    by: Actor,
    headings: Mapping[str, str] | None = None,
) -> tuple[int, int]:
    """
    Import a list of a kind, all or nothing; return how many are new and changed.

    Raises
    ------
    ValidationError
        If the list has a fault now, whatever its preview said before.
    """
    preview, planned = preview_list(kind, content, headings)
    if preview.faults:
        raise ValidationError(f"{len(preview.faults)} faults; nothing was imported.")
    new = add_many(
        kind,
        [row.values for row in planned if row.asset is None],
        by=by,
        tested_how=IMPORTED,
    )
    changed = [row for row in planned if row.asset is not None and row.changes]
    for row in changed:
        save_asset(kind, row.asset, by=by, tested_how=IMPORTED, **row.values)
    return new, len(changed)


def export_list(kind: Kind) -> str:
    """Return the list of a kind as CSV, in the columns that the import reads."""
    names = [column.name for column in columns_of(kind)]
    return write_csv(names, map(_printed, _rows(kind)))


def _printed(row: dict[str, Any]) -> dict[str, Any]:
    printed = dict(row)
    for name, value in row.items():
        if isinstance(value, bool):
            printed[name] = "yes" if value else "no"
        elif isinstance(value, time):
            printed[name] = value.strftime("%H:%M")
    return printed


def _rows(kind: Kind) -> list[dict[str, Any]]:
    tested = accepted_ah_by_battery()
    assets = Asset.objects.here().filter(kind=kind.key).select_related(kind.attribute)
    return [_row(kind, asset, tested.get(asset.pk)) for asset in assets]


def _row(kind: Kind, asset: Asset, tested_ah: float | None) -> dict[str, Any]:
    detail = getattr(asset, kind.attribute)
    row = {name: getattr(asset, name) for name in fields.ASSET_NAMES}
    row |= {name: getattr(detail, name) for name in kind.own_names}
    if kind.key == Asset.BATTERY:
        row["tested_ah"] = tested_ah
    if row["cost"] is not None:
        row["cost"] = float(row["cost"])
    return row


def export_all() -> bytes:
    """
    Return the whole shelf as a zip of CSVs with a `datapackage.json`.

    The descriptor follows the open Data Package form, so that other programs know
    what each column is.
    """
    return as_package(
        "shelf",
        "The shelf of a radio club",
        (
            (export_list(kind), _resource(kind, f"{kind.key}.csv"))
            for kind in kinds.KINDS.values()
        ),
    )


_TYPES = {
    fields.NUMBER: "number",
    fields.WHOLE: "integer",
    fields.YES: "boolean",
    fields.DATE: "date",
}


def _resource(kind: Kind, path: str) -> dict[str, Any]:
    described_fields: list[dict[str, Any]] = []
    for spec in kind.every:
        if spec.asked == "form":
            continue
        described: dict[str, Any] = {
            "name": spec.name,
            "type": _TYPES.get(spec.how, "string"),
            "title": spec.label + (f" [{spec.unit}]" if spec.unit else ""),
        }
        if spec.how == fields.YES:
            described |= {"trueValues": ["yes"], "falseValues": ["no"]}
        constraints: dict[str, Any] = {"required": True} if spec.is_needed else {}
        if spec.limit is not None:
            constraints |= {"minimum": spec.limit.low, "maximum": spec.limit.high}
        if constraints:
            described["constraints"] = constraints
        described_fields.append(described)
    return {
        "name": kind.key,
        "path": path,
        "title": kind.plural,
        "profile": "tabular-data-resource",
        "format": "csv",
        "mediatype": "text/csv",
        "encoding": "utf-8",
        "schema": {"fields": described_fields, "primaryKey": "tag"},
    }
