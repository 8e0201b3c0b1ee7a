"""The battery list as a table: its columns, in and out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.exchange import readers
from hollow_kettle.exchange.tables import Column, Preview, read_csv, write_csv
from hollow_kettle.people.models import Actor
from powercore.chemistry import CHEMISTRIES

from . import services
from .models import Asset
from .queries import shelf_batteries

_SPELLINGS = {
    "lifepo4": ("lifepo", "lfp", "life", "lithium iron phosphate", "lifepo₄"),
    "nmc": ("li-ion", "liion", "lithium-ion", "li-ion (nmc)"),
    "agm": ("agm lead-acid", "sla", "sealed lead-acid", "vrla"),
    "gel": ("gel lead-acid",),
    "flooded": ("flooded lead-acid", "lead-acid", "wet", "lead acid"),
}
assert set(_SPELLINGS) == set(CHEMISTRIES)  # noqa: S101 - a new chemistry needs a word

BATTERY_COLUMNS = (
    Column(
        "tag",
        readers.text(16),
        "What is written on it; text, so 04 stays 04.",
        required=True,
        also=("battery", "id", "label"),
    ),
    Column(
        "chemistry",
        readers.choice(_SPELLINGS),
        ", ".join(_SPELLINGS) + ".",
        required=True,
        also=("type",),
    ),
    Column(
        "series",
        readers.whole(1, 120, "a pack has cells"),
        "Cells in series; may be left out when nominal_v is given.",
        also=("cells", "cells in series", "s"),
    ),
    Column(
        "parallel",
        readers.whole(1, 200),
        "Cells in parallel; 1 when left out.",
        also=("p", "cells in parallel"),
    ),
    Column(
        "nominal_v",
        readers.number(1.2, 500, "V", "a pack has at least one cell"),
        "Nominal voltage; checked against series, or used to find it.",
        also=("voltage", "nominal voltage", "volts", "v"),
    ),
    Column(
        "nameplate_ah",
        readers.number(0.05, 5000, "Ah"),
        "Capacity printed on it.",
        required=True,
        also=("ah", "capacity", "capacity_ah", "nameplate"),
    ),
    Column(
        "tested_ah",
        readers.number(0.01, 5000, "Ah"),
        "Capacity of an accepted test; empty when never tested.",
        also=("tested",),
    ),
    Column(
        "reserve_pct",
        readers.number(0, 95, "%"),
        "Reserve you promise; empty means the chemistry's usual.",
        also=("reserve",),
    ),
    Column("owner", readers.text(80), "Club or member."),
    Column("home", readers.text(80), "Where it lives.", also=("place", "location")),
    Column("hold", readers.text(200), "Why it must not be used; empty when it may."),
    Column("mass_kg", readers.number(0.01, 500, "kg"), "Mass.", also=("mass", "kg")),
    Column(
        "resistance_mohm",
        readers.number(0.01, 10_000, "mΩ"),
        "Measured resistance with leads; empty means typical.",
    ),
    Column("note", readers.text(2000), "Anything else.", also=("notes", "comment")),
)
NAMES = tuple(column.name for column in BATTERY_COLUMNS)


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


def preview_batteries(content: bytes) -> tuple[Preview, list[Planned]]:
    """
    Read a battery list and say what each row would do; nothing is kept.

    Raises
    ------
    hollow_kettle.exchange.tables.TableFault
        If the file can't be read as a table at all.
    """
    preview = read_csv(content, BATTERY_COLUMNS)
    owned = services.assets_by_tag()
    plain_owned = {services.plain_tag(tag): asset for tag, asset in owned.items()}
    shown = {row["tag"].casefold(): row for row in _rows()}
    seen: dict[str, int] = {}
    planned = []
    for number, values in preview.rows:
        tag = values["tag"]
        plain = services.plain_tag(tag)
        asset = owned.get(tag.casefold())
        twin = plain_owned.get(plain)
        if plain in seen:
            preview.fault(number, "tag", f"'{tag}' stands in row {seen[plain]} already")
            continue
        seen[plain] = number
        if asset is None and twin is not None:
            preview.fault(
                number,
                "tag",
                f"'{tag}' looks like {twin.tag}, which is on the shelf; write "
                f"{twin.tag} to change that one, or choose another tag",
            )
            continue
        try:
            values = _completed(values)
        except ValidationError as error:
            preview.fault(number, "nominal_v", " ".join(error.messages))
            continue
        changes = () if asset is None else _changes(values, shown[tag.casefold()])
        planned.append(Planned(number, values, asset, changes))
    return preview, planned


def _completed(values: dict[str, Any]) -> dict[str, Any]:
    """Find series from the nominal voltage, or check one against the other."""
    values = dict(values)
    nominal_v = values.pop("nominal_v", None)
    if values["series"] is None:
        if nominal_v is None:
            raise ValidationError("give series (cells in series) or nominal_v")
        values["series"] = services.series_from_nominal(values["chemistry"], nominal_v)
    elif nominal_v is not None:
        services.check_nominal(values["chemistry"], values["series"], nominal_v)
    values["parallel"] = values["parallel"] or 1
    return values


def _changes(values: dict[str, Any], shown: dict[str, Any]) -> tuple[str, ...]:
    return tuple(
        name
        for name, value in values.items()
        if (value if value is not None else "")
        != (shown[name] if shown[name] is not None else "")
        and not (name == "tested_ah" and value is None)
    )


@transaction.atomic
def apply_batteries(content: bytes, *, by: Actor) -> tuple[int, int]:
    """
    Import a battery list, all or nothing; return how many are new and changed.

    Raises
    ------
    ValidationError
        If the list has a fault now, whatever its preview said before.
    """
    preview, planned = preview_batteries(content)
    if preview.faults:
        raise ValidationError(f"{len(preview.faults)} faults; nothing was imported.")
    new = changed = 0
    for row in planned:
        if row.asset is not None and not row.changes:
            continue
        services.save_battery(row.asset, by=by, origin="imported list", **row.values)
        new += row.asset is None
        changed += row.asset is not None
    return new, changed


def export_batteries() -> str:
    """Return the battery list as CSV, in the columns that the import reads."""
    return write_csv(NAMES, _rows())


def _rows() -> list[dict[str, Any]]:
    rows = []
    for item in shelf_batteries():
        battery = item.asset.battery
        rows.append(
            {
                "tag": item.asset.tag,
                "chemistry": battery.chemistry,
                "series": battery.series,
                "parallel": battery.parallel,
                "nominal_v": round(item.pack.nominal_v, 2),
                "nameplate_ah": battery.nameplate_ah,
                "tested_ah": item.pack.tested_ah,
                "reserve_pct": battery.reserve_pct,
                "owner": item.asset.owner,
                "home": item.asset.home,
                "hold": item.asset.hold,
                "mass_kg": battery.mass_kg,
                "resistance_mohm": battery.resistance_mohm,
                "note": item.asset.note,
            }
        )
    return rows
