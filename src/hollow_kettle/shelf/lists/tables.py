"""Lists of each kind of asset as tables: their columns, in and out."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import time
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.exchange import readers
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


def _reader(spec: Spec) -> Callable[[str], Any]:
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
            planned.append(Planned(number, done, asset, changes))
    preview.faults.sort(key=lambda fault: fault.row)
    return preview, planned


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
    out = io.BytesIO()
    resources = []
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as package:
        for kind in kinds.KINDS.values():
            path = f"{kind.key}.csv"
            package.writestr(path, export_list(kind))
            resources.append(_resource(kind, path))
        descriptor = {
            "name": "shelf",
            "title": "The shelf of a radio club",
            "profile": "tabular-data-package",
            "resources": resources,
        }
        package.writestr(
            "datapackage.json", json.dumps(descriptor, indent=2, ensure_ascii=False)
        )
    return out.getvalue()


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
