"""What is due on the shelf, and whether a battery may leave as full."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from hollow_kettle.log.models import BatteryNow, FieldEntry, Kind, PlaceKind, Placement
from hollow_kettle.people.models import Club
from hollow_kettle.shelf.bench.queries import capacities_by_battery
from hollow_kettle.shelf.bridge import pack_of
from hollow_kettle.shelf.charge.belief import STORE_C, entries_of, event_readings
from hollow_kettle.shelf.charge.evidence import evidence_from
from hollow_kettle.shelf.models import Asset, BuildNote, KitItem, Spare
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.gear.departure import Gate, gate
from powercore.gear.upkeep import Due, charge_due, drain, test_due
from powercore.physics.battery import Pack
from powercore.values import as_counted

#: No battery counts as full for longer than this: none keeps its charge so long.
PROOF_LASTS = timedelta(days=180)
#: Order of the due list.
WHAT = {
    "return": "to come back",
    "repair": "repairs",
    "drain": "may be left on",
    "top up": "charge",
    "storage": "storage",
    "test": "capacity tests",
    "compare": "meters to compare",
    "temporary": "temporary parts",
    "spare": "spare parts",
}


@dataclass(frozen=True, slots=True)
class DueLine:
    """One line of the due list."""

    asset: Asset
    due: Due

    @property
    def is_late(self) -> bool:
        """Whether its day is past."""
        return self.due.in_days < 0

    @property
    def when(self) -> str:
        """When, in words."""
        days = self.due.in_days
        if days < -1.5:
            return f"{-days:.0f} days ago"
        if days < 0.5:
            return "now"
        if days < 1.5:
            return "tomorrow"
        return f"in {days:.0f} days"


def due_list() -> list[tuple[str, list[DueLine]]]:
    """Everything that is due, under its heading; a fixed number of queries."""
    now = Club.the().clock.now()
    lines: list[DueLine] = []
    lines += _batteries(now)
    lines += _returns(now)
    lines += _repairs(now)
    lines += _meters(now)
    lines += _parts(now)
    found: defaultdict[str, list[DueLine]] = defaultdict(list)
    for line in sorted(
        lines, key=lambda line: (line.due.in_days, as_counted(line.asset.tag))
    ):
        found[line.due.what].append(line)
    return [(words, found[what]) for what, words in WHAT.items() if what in found]


def dues_by_asset() -> dict[UUID, tuple[str, str]]:
    """Heading and words of what each asset is first due for, in the list's order."""
    found: dict[UUID, tuple[str, str]] = {}
    for heading, lines in due_list():
        for line in lines:
            words = f"{line.due.words}, {line.when}"
            found.setdefault(line.asset.pk, (heading, words))
    return found


def _days(start: datetime, end: datetime) -> float:
    return (end - start).total_seconds() / 86400


def _batteries(now: datetime) -> list[DueLine]:
    assets = list(Asset.objects.batteries())
    tested = capacities_by_battery()
    rows = {row.battery: row for row in BatteryNow.objects.select_related("place")}
    readings: defaultdict[UUID, list[FieldEntry]] = defaultdict(list)
    for entry in entries_of([asset.pk for asset in assets]):
        if entry.asset is not None:
            readings[entry.asset].append(entry)
    lines = []
    for asset in assets:
        found = tested.get(asset.pk)
        pack = pack_of(asset.battery, found.ah if found else None)
        days = _days(found.at, now) if found else None
        dues = [test_due(pack, days), _drain(pack, readings[asset.pk])]
        row = rows.get(asset.pk)
        if row is not None and row.as_of is not None and _rests(row):
            dues += charge_due(
                pack, row.soc_typical, max(0.0, _days(row.as_of, now)), STORE_C
            )
        lines += [DueLine(asset, due) for due in dues if due is not None]
    return lines


def _rests(row: BatteryNow) -> bool:
    return row.place is None or row.place.kind not in (
        PlaceKind.POSITION,
        PlaceKind.BAY,
    )


def _drain(pack: Pack, entries: list[FieldEntry]) -> Due | None:
    """Two rested readings, or a full charge and a rested reading, with no use."""
    before: tuple[float, float, datetime] | None = None
    for entry in entries:
        if entry.kind in (Kind.CHECK_OUT, Kind.CHECK_IN):
            before = None
            continue
        if entry.kind == Kind.CHARGED:
            is_full = gate(pack, evidence_from([entry], entry.effective_at)).proof
            before = (0.99, 0.02, entry.effective_at) if is_full else None
            continue
        if entry.kind != Kind.READING or entry.volts is None:
            continue
        low, soc, high = (
            float(pack.chem.soc_at((entry.volts + d) / pack.series))
            for d in (-0.03 - pack.chem.curve_sd_v * pack.series, 0.0, 0.03)
        )
        sd = max(0.02, (high - low) / 2)
        if before is not None:
            due = drain(
                pack.chem,
                before=before[0],
                after=soc,
                sd=(before[1] ** 2 + sd**2) ** 0.5,
                days=_days(before[2], entry.effective_at),
                temp_c=STORE_C,
            )
            if due is not None:
                return due
        before = (soc, sd, entry.effective_at)
    return None


def _returns(now: datetime) -> list[DueLine]:
    placements = Placement.objects.filter(ended_at=None)
    out = {p.entry_uid: p.battery for p in placements}
    entries = FieldEntry.objects.filter(uid__in=out, due_at__isnull=False)
    assets = Asset.objects.in_bulk([out[entry.uid] for entry in entries])
    # What went out in a kit comes back with it: one line for the kit will do.
    gone = set(assets)
    inside = set(
        KitItem.objects.filter(kit__in=gone, asset__in=gone).values_list(
            "asset_id", flat=True
        )
    )
    return [
        DueLine(
            assets[out[entry.uid]],
            Due(
                what="return",
                words=f"with {entry.to_whom or 'somebody'}",
                in_days=_days(now, entry.due_at),
            ),
        )
        for entry in entries
        if entry.due_at is not None and out[entry.uid] in gone - inside
    ]


def open_holds() -> dict[UUID, FieldEntry]:
    """The hold that stands for each asset on hold; its ticket."""
    held = Asset.objects.here().exclude(hold="").values_list("pk", flat=True)
    found = FieldEntry.objects.filter(kind=Kind.HOLD, asset__in=list(held))
    return {
        entry.asset: entry
        for entry in found.order_by("effective_at")
        if entry.asset is not None
    }


def _repairs(now: datetime) -> list[DueLine]:
    tickets = open_holds()
    lines = []
    for asset in Asset.objects.here().exclude(hold=""):
        ticket = tickets.get(asset.pk)
        who = f", for {ticket.to_whom}" if ticket and ticket.to_whom else ""
        due_at = ticket.due_at if ticket else None
        lines.append(
            DueLine(
                asset,
                Due(
                    what="repair",
                    words=f"{asset.hold}{who}",
                    in_days=_days(now, due_at) if due_at else 0.0,
                ),
            )
        )
    return lines


def _meters(now: datetime) -> list[DueLine]:
    lines = []
    meters = Asset.objects.here().filter(kind=AssetKind.METER).select_related("meter")
    for asset in meters:
        checked = asset.meter.checked_on
        left = -1.0 if checked is None else 365 - (now.date() - checked).days
        if left < 30:
            when = "never compared" if checked is None else f"compared {checked}"
            lines.append(
                DueLine(asset, Due(what="compare", words=when, in_days=float(left)))
            )
    return lines


def _parts(now: datetime) -> list[DueLine]:
    notes = BuildNote.objects.filter(
        due_on__isnull=False, done_on=None, kit__archived_at=None
    ).select_related("kit")
    lines = [
        DueLine(
            note.kit,
            Due(
                what="temporary",
                words=note.words,
                in_days=float((note.due_on - now.date()).days),
            ),
        )
        for note in notes
        if note.due_on is not None and (note.due_on - now.date()).days < 30
    ]
    spares = Spare.objects.filter(kit__archived_at=None).select_related("kit")
    lines += [
        DueLine(
            spare.kit,
            Due(
                what="spare",
                words=f"{spare.name}: {spare.have} of {spare.want}",
                in_days=0.0,
            ),
        )
        for spare in spares
        if spare.is_short
    ]
    return lines


def gates_of(assets: list[Asset]) -> dict[UUID, Gate]:
    """Whether each battery may leave as full, and what is missing; five queries."""
    uids = [asset.pk for asset in assets]
    now = Club.the().clock.now()
    tested = capacities_by_battery(uids)
    entries: defaultdict[UUID, list[FieldEntry]] = defaultdict(list)
    for entry in entries_of(uids):
        if entry.asset is not None:
            entries[entry.asset].append(entry)
    for entry in event_readings(uids, since=now - PROOF_LASTS):
        if entry.battery is not None:
            entries[entry.battery].append(entry)
    for own in entries.values():
        own.sort(key=lambda entry: (entry.effective_at, entry.uid))
    used: dict[UUID, datetime] = {}
    served = Placement.objects.filter(
        battery__in=uids, place__kind=PlaceKind.POSITION
    ).order_by("started_at")
    for placement in served:
        used[placement.battery] = placement.ended_at or now
    found = {}
    for asset in assets:
        test = tested.get(asset.pk)
        pack = pack_of(asset.battery, test.ah if test else None)
        evidence = evidence_from(entries[asset.pk], now, used.get(asset.pk))
        found[asset.pk] = gate(pack, evidence)
    return found
