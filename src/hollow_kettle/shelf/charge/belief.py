"""
What is believed of a battery's charge between events.

From what the last event left (or from nothing), the shelf's own entries are walked
through in order: rested readings, charges that ended, and self-discharge between.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from datetime import datetime
from uuid import UUID

from hollow_kettle.log.models import (
    BatteryNow,
    FieldEntry,
    Kind,
    Placement,
)
from hollow_kettle.log.services import counting
from hollow_kettle.people.models import Club
from hollow_kettle.shelf.bench.queries import accepted_ah_by_battery
from hollow_kettle.shelf.bridge import pack_of
from hollow_kettle.shelf.models import Asset
from powercore.belief.estimate import Belief
from powercore.belief.readings import is_tripped
from powercore.belief.steps import CounterReading, Flow, Known, VoltsReading
from powercore.gear.departure import gate
from powercore.gear.upkeep import kept_share
from powercore.physics.battery import Pack

from .evidence import evidence_from

#: A charge that ended as it should leaves a battery so full. Common practice.
_FULL, _FULL_SD = 0.99, 0.015
#: One that ended early leaves a doubt. Common practice, no source.
_NEARLY, _NEARLY_SD = 0.9, 0.08
#: A battery is kept at about this temperature. Common practice, no source. [°C]
STORE_C = 20.0


def refresh(batteries: Iterable[UUID]) -> None:
    """Work out anew what is believed of batteries that rest at the shelf."""
    uids = list(batteries)
    assets = {a.pk: a for a in Asset.objects.batteries().filter(pk__in=uids)}
    tested = accepted_ah_by_battery(uids)
    rows = {row.battery: row for row in BatteryNow.objects.filter(battery__in=uids)}
    entries: defaultdict[UUID, list[FieldEntry]] = defaultdict(list)
    for entry in entries_of(uids):
        if entry.asset is not None:
            entries[entry.asset].append(entry)
    placements = {
        p.battery: p for p in Placement.objects.filter(battery__in=uids, ended_at=None)
    }
    now = Club.the().clock.now()
    for uid, asset in assets.items():
        row = rows.get(uid) or BatteryNow(battery=uid)
        pack = pack_of(asset.battery, tested.get(uid))
        _walk(row, pack, entries[uid], now)
        placement = placements.get(uid)
        if placement is not None:
            row.place_id, row.since = placement.place_id, placement.started_at
        row.save()


def entries_of(uids: Iterable[UUID]) -> list[FieldEntry]:
    """The shelf's own entries about assets that count, oldest first."""
    found = FieldEntry.objects.filter(asset__in=list(uids), event_key=None)
    return list(counting(found).order_by("effective_at", "uid"))


def event_readings(uids: Iterable[UUID], *, since: datetime) -> list[FieldEntry]:
    """Readings of batteries at events that count, oldest first."""
    found = FieldEntry.objects.filter(
        battery__in=list(uids),
        event_key__isnull=False,
        kind=Kind.READING,
        effective_at__gte=since,
    )
    return list(counting(found).order_by("effective_at", "uid"))


def _walk(
    row: BatteryNow, pack: Pack, entries: list[FieldEntry], now: datetime
) -> None:
    belief = Belief(pack)
    at = row.base_at
    if row.base_typical is not None:
        spread = max(0.01, ((row.base_high or 1) - (row.base_low or 0)) / 2.56)
        belief.apply(
            Known(soc=row.base_typical, sd=spread, words=row.evidence or "last event")
        )
    last_reading = None
    for entry in entries:
        if row.base_at is not None and entry.effective_at < row.base_at:
            continue
        if at is not None:
            _rest(belief, pack, at, entry.effective_at)
        if entry.kind == Kind.CHARGED:
            belief.apply(ended_step(pack, entry))
        elif entry.kind == Kind.READING and entry.volts is not None:
            if is_tripped(entry.volts):
                continue
            if entry.amp_hours is not None:
                belief.apply(CounterReading(ah=entry.amp_hours, words="counter"))
            minutes = entry.unplugged_min or 0
            belief.apply(
                VoltsReading(
                    volts=entry.volts,
                    amps=0.0,
                    how="unplugged",
                    unplugged_min=minutes,
                    words=f"{entry.volts:.2f} V unplugged {minutes:.0f} min",
                )
            )
        else:
            continue
        at = last_reading = entry.effective_at
    if at is not None:
        _rest(belief, pack, at, now)
    found = belief.estimate()
    row.soc_typical, row.soc_low, row.soc_high = found.typical, found.low, found.high
    row.evidence = found.evidence[:200]
    since = [e for e in entries if row.base_at is None or e.effective_at >= row.base_at]
    row.is_tripped = last_says_tripped(since, row.base_tripped)
    row.as_of = now if at is not None else row.as_of
    row.read_at = last_reading or row.read_at


def last_says_tripped(entries: Iterable[FieldEntry], before: bool = False) -> bool:
    """Whether the last thing read shows 0 V; entries oldest first."""
    tripped = before
    for entry in entries:
        if entry.volts is not None:
            tripped = is_tripped(entry.volts)
        elif entry.gauge_pct is not None:
            tripped = False
    return tripped


def ended_step(pack: Pack, entry: FieldEntry) -> Known:
    """What a charge that ended says: full when it reached absorption and tail."""
    is_full = gate(pack, evidence_from([entry], entry.effective_at)).proof
    return Known(
        soc=_FULL if is_full else _NEARLY,
        sd=_FULL_SD if is_full else _NEARLY_SD,
        words=f"charge ended at {entry.volts or 0:.2f} V, {entry.amps or 0:.1f} A",
    )


def _rest(belief: Belief, pack: Pack, start: datetime, end: datetime) -> None:
    days = (end - start).total_seconds() / 86400
    if days < 0.5:
        return
    lost = (1 - kept_share(pack.chem, days, STORE_C)) * belief.estimate().typical
    ah = lost * pack.trusted_ah
    belief.apply(Flow(ah=ah, sd_ah=0.5 * ah))
