"""The station list as a table: its columns, in and out."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.clock import local
from hollow_kettle.exchange import readers
from hollow_kettle.exchange.tables import (
    CellFault,
    Column,
    Preview,
    read_table,
    write_csv,
)
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.places import walk_minutes
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.models import Event, OperatingPattern, Station
from hollow_kettle.shelf.models import EquipmentType
from powercore import limits

from . import services

_ITEM = re.compile(r"(?P<key>[\w-]+)(\s*[x×*]\s*(?P<count>\d{1,2}))?(\s+(?P<low>low))?")


def _equipment(cell: str) -> list[tuple[str, int, str]]:
    """Read `hf-100w low; laptop x2` as kinds with counts and power steps."""
    found = []
    for part in filter(None, (part.strip() for part in re.split(r"[;,]", cell))):
        match = _ITEM.fullmatch(part)
        if match is None:
            raise CellFault(f"'{part[:40]}' is not like 'hf-100w' or 'laptop x2'")
        count = int(match["count"] or 1)
        if not 1 <= count <= 50:
            raise CellFault(f"'{part[:40]}': 1 to 50 of a kind")
        found.append(
            (match["key"].casefold(), count, "low" if match["low"] else "full")
        )
    return found


STATION_COLUMNS = (
    Column(
        "name",
        readers.text(60),
        "Name of the station.",
        required=True,
        aliases=("station",),
    ),
    Column(
        "tier",
        readers.whole(limits.TIER),
        f"1 is kept on the air first; {limits.USUAL_TIER} when left out.",
    ),
    Column("purpose", readers.text(60), "Purpose.", aliases=("what",)),
    Column(
        "equipment",
        _equipment,
        "Keys of the library, semicolons between: hf-100w; laptop x2; vhf-50w low.",
        required=True,
    ),
    Column(
        "pattern",
        readers.text(40),
        "Key of an operating pattern: calling-ssb.",
        required=True,
    ),
    Column(
        "opens",
        readers.wall_time,
        "Local time, 2026-06-27 14:00; event start when left out.",
    ),
    Column("closes", readers.wall_time, "Local time; event end when left out."),
    Column(
        "walk_min",
        readers.whole(limits.WALK_MIN),
        "Minutes on foot from the yard; worked out from the map when left out.",
        aliases=("walk",),
    ),
    Column(
        "changeover_s",
        readers.whole(limits.CHANGEOVER_S),
        f"Seconds of break at a swap; {limits.USUAL_CHANGEOVER_S} when left out.",
    ),
    Column(
        "disconnect_v",
        readers.number(limits.DISCONNECT_V),
        "Automatic disconnect, if any.",
    ),
    Column(
        "latitude", readers.number(limits.LATITUDE), "Degrees north.", aliases=("lat",)
    ),
    Column(
        "longitude",
        readers.number(limits.LONGITUDE),
        "Degrees east.",
        aliases=("lon", "lng"),
    ),
)
NAMES = tuple(column.name for column in STATION_COLUMNS)


@dataclass(frozen=True, slots=True)
class Planned:
    """What one row will do."""

    row: int
    values: dict[str, Any]
    station: Station | None

    @property
    def what(self) -> str:
        """New or replaced."""
        return "new" if self.station is None else "replaces what is there"


def preview_stations(event: Event, content: bytes) -> tuple[Preview, list[Planned]]:
    """
    Read a station list and say what each row would do; nothing is kept.

    Raises
    ------
    hollow_kettle.exchange.tables.TableFault
        If the file can't be read as a table at all.
    """
    preview = read_table(content, STATION_COLUMNS)
    kinds = set(EquipmentType.objects.values_list("key", flat=True))
    patterns = set(OperatingPattern.objects.values_list("key", flat=True))
    here = {station.name.casefold(): station for station in event.stations.all()}
    seen: dict[str, int] = {}
    planned = []
    for number, values in preview.rows:
        faults = len(preview.faults)
        name = values["name"].casefold()
        if name in seen:
            preview.fault(
                number,
                "name",
                f"'{values['name']}' is already in row {seen[name]}",
            )
        seen.setdefault(name, number)
        for key, _, _ in values["equipment"]:
            if key not in kinds:
                preview.fault(
                    number,
                    "equipment",
                    f"there is no '{key}' in the library; "
                    f"there are {', '.join(sorted(kinds))}",
                )
        if values["pattern"] not in patterns:
            preview.fault(
                number,
                "pattern",
                f"there is no '{values['pattern']}'; there "
                f"are {', '.join(sorted(patterns))}",
            )
        opens, closes = _hours(event, values)
        if closes <= opens:
            preview.fault(number, "closes", "must come after it opens")
        if len(preview.faults) == faults:
            planned.append(Planned(number, values, here.get(name)))
    return preview, planned


def _hours(event: Event, values: dict[str, Any]) -> tuple[datetime, datetime]:
    start = local(event.starts_at, event.zone).replace(tzinfo=None)
    end = local(event.ends_at, event.zone).replace(tzinfo=None)
    return values["opens"] or start, values["closes"] or end


@transaction.atomic
def apply_stations(event: Event, content: bytes, *, by: Actor | None = None) -> int:
    """
    Import a station list, all or nothing; return how many stations it gave.

    Raises
    ------
    ValidationError
        If the list has a fault now, whatever its preview said before.
    """
    preview, planned = preview_stations(event, content)
    if preview.faults:
        raise ValidationError(f"{len(preview.faults)} faults; nothing was imported.")
    for row in planned:
        values = row.values
        station = services.save_station(
            event,
            row.station,
            name=values["name"],
            tier=values["tier"] or limits.USUAL_TIER,
            purpose=values["purpose"] or "",
            changeover_s=values["changeover_s"],
            disconnect_v=values["disconnect_v"],
            latitude=values["latitude"],
            longitude=values["longitude"],
            walk_min=values["walk_min"],
        )
        station.equipment.all().delete()
        station.hours.all().delete()
        for key, count, step in values["equipment"]:
            services.add_equipment(
                station,
                equipment=EquipmentType.objects.get(pk=key),
                count=count,
                step=step,
            )
        opens, closes = _hours(event, values)
        services.add_hours(
            station,
            starts=opens,
            ends=closes,
            pattern=OperatingPattern.objects.get(pk=values["pattern"]),
        )
    note(event, by, f"{len(planned)} stations imported from a list")
    return len(planned)


def export_stations(event: Event) -> str:
    """Return the station list as CSV; a station with several hours gets its first."""
    rows = []
    yard = event.sites.get(is_yard=True)
    walks = walk_minutes(event)
    for station in event.stations.select_related("site").prefetch_related(
        "equipment", "hours__pattern"
    ):
        hours = station.hours.first()
        rows.append(
            {
                "name": station.name,
                "tier": station.tier,
                "purpose": station.purpose,
                "equipment": "; ".join(
                    item.equipment_id
                    + (f" x{item.count}" if item.count > 1 else "")
                    + (" low" if item.step == "low" else "")
                    for item in station.equipment.all()
                ),
                "pattern": hours.pattern_id if hours else "",
                "opens": _wall(event, hours.starts_at) if hours else "",
                "closes": _wall(event, hours.ends_at) if hours else "",
                "walk_min": walks[yard.pk, station.site_id],
                "changeover_s": station.changeover_s,
                "disconnect_v": station.disconnect_v,
                "latitude": station.site.latitude,
                "longitude": station.site.longitude,
            }
        )
    return write_csv(NAMES, rows)


def _wall(event: Event, moment: datetime) -> str:
    return f"{local(moment, event.zone):%Y-%m-%d %H:%M}"
