"""The evidence about a battery's charge, from the entries about it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from hollow_kettle.log.models import FieldEntry, Kind
from powercore.gear.departure import ChargeEnd, Evidence, Rested, Seen


def evidence_from(
    entries: Sequence[FieldEntry], now: datetime, used_at: datetime | None = None
) -> Evidence:
    """
    Gather what entries say of a battery, for the departure gate.

    Parameters
    ----------
    entries : sequence of FieldEntry
        About one battery, at the shelf and at events, oldest first; struck ones left
        out.
    now : datetime
    used_at : datetime, optional
        When it last served somewhere.
    """
    end = rested = count = None
    switches = load = None
    seen: list[Seen] = []
    if used_at is not None:
        seen.append(Seen(days=_days(used_at, now), words="it was used"))
    for entry in entries:
        days = _days(entry.effective_at, now)
        if entry.kind == Kind.CHARGED and entry.volts is not None:
            end = ChargeEnd(
                volts=entry.volts,
                amps=entry.amps or 0.0,
                days=days,
            )
            rested = count = None
        elif entry.kind == Kind.READING:
            seen.append(_seen(entry, days))
            if entry.event_key is None and entry.volts is not None:
                rested = Rested(
                    volts=entry.volts, minutes=entry.unplugged_min or 0.0, days=days
                )
                count = entry.amp_hours
        elif entry.kind == Kind.CHECKED:
            switches, load = entry.switches_off, entry.load_off
        elif entry.kind in (Kind.CHECK_OUT, Kind.CHECK_IN):
            # Whoever had it may have switched something on.
            switches = load = None
            if entry.kind == Kind.CHECK_IN:
                seen.append(Seen(days=days, words="it was lent"))
    return Evidence(
        charge_end=end,
        rested=rested,
        out_since_full_ah=count,
        seen=tuple(seen),
        switches_off=switches,
        load_off=load,
    )


def _days(moment: datetime, now: datetime) -> float:
    return max(0.0, (now - moment).total_seconds() / 86400)


def _seen(entry: FieldEntry, days: float) -> Seen:
    return Seen(
        days=days,
        volts=entry.volts,
        amps=(entry.amps or 0.0) if entry.how != "unplugged" else 0.0,
        out_ah=entry.amp_hours,
        gauge=None if entry.gauge_pct is None else entry.gauge_pct / 100,
    )
