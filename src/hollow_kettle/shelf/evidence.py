"""The evidence about a battery's charge, from the entries about it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from hollow_kettle.log.models import FieldEntry, Kind
from powercore.departure import ChargeEnd, Evidence, Rested


def evidence_from(
    entries: Sequence[FieldEntry], now: datetime, used_at: datetime | None = None
) -> Evidence:
    """
    Gather what entries say of a battery, for the departure gate.

    Parameters
    ----------
    entries : sequence of FieldEntry
        About one battery, oldest first; struck ones left out.
    now : datetime
    used_at : datetime, optional
        When it last served somewhere.
    """
    end = rested = count = None
    charged_at = None
    switches = load = None
    for entry in entries:
        days = max(0.0, (now - entry.effective_at).total_seconds() / 86400)
        if entry.kind == Kind.CHARGED and entry.volts is not None:
            charged_at = entry.effective_at
            end = ChargeEnd(
                volts=entry.volts,
                amps=entry.amps or 0.0,
                days=days,
                ah_in=entry.amp_hours,
            )
            rested = count = None
        elif entry.kind == Kind.READING and entry.volts is not None:
            rested = Rested(
                volts=entry.volts, minutes=entry.unplugged_min or 0.0, days=days
            )
            count = entry.amp_hours
        elif entry.kind == Kind.CHECKED:
            switches, load = entry.switches_off, entry.load_off
        elif entry.kind in (Kind.CHECK_OUT, Kind.CHECK_IN):
            # Whoever had it may have switched something on.
            switches = load = None
    was_used = used_at is not None and charged_at is not None and used_at > charged_at
    return Evidence(
        charge_end=end,
        rested=rested,
        out_since_full_ah=count,
        was_used=was_used,
        switches_off=switches,
        load_off=load,
    )
