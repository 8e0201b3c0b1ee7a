"""What the log measured by the way: walks, and the sag of batteries."""

from __future__ import annotations

from collections import defaultdict
from datetime import timedelta
from uuid import UUID

from hollow_kettle.debrief.history import History
from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.log.services import counting
from powercore.debrief.learn import resistance_of

#: A crew that left is there within this, or nobody noted what it did.
ON_THE_WAY = timedelta(hours=2)
#: Two readings of a battery so near to each other saw the same charge.
SAME_CHARGE = timedelta(minutes=15)


def walks_of(history: History) -> dict[UUID, list[float]]:
    """Minutes from leaving the yard to the swap, by station, as both were noted."""
    own = counting(
        FieldEntry.objects.filter(
            event_key=history.event.pk, kind__in=(Kind.LEFT, Kind.SWAP)
        )
    )
    left: dict[tuple[UUID, UUID], FieldEntry] = {}
    found: defaultdict[UUID, list[float]] = defaultdict(list)
    for entry in own.order_by("effective_at", "uid"):
        if entry.station_key is None or entry.battery is None:
            continue
        key = (entry.station_key, entry.battery)
        if entry.kind == Kind.LEFT:
            left[key] = entry
            continue
        began = left.pop(key, None)
        if began is not None and entry.effective_at - began.effective_at < ON_THE_WAY:
            took = entry.effective_at - began.effective_at
            found[entry.station_key].append(took.total_seconds() / 60)
    return found


def resistances_of(history: History) -> dict[UUID, tuple[float, float, int]]:
    """Resistance of batteries by readings receiving and key down: mean, sd, count."""
    pairs: defaultdict[UUID, list[tuple[float, float, float, float]]]
    pairs = defaultdict(list)
    for turn in history.lives:
        read = [
            one
            for one in turn.readings
            if one.volts is not None and one.amps is not None
        ]
        quiet = [one for one in read if one.how == "receiving"]
        for keyed in (one for one in read if one.how == "key_down"):
            near = min(
                quiet,
                key=lambda one: abs(one.effective_at - keyed.effective_at),
                default=None,
            )
            if near is None or (
                abs(near.effective_at - keyed.effective_at) > SAME_CHARGE
            ):
                continue
            pairs[turn.battery].append(
                (near.volts or 0, near.amps or 0, keyed.volts or 0, keyed.amps or 0)
            )
    found = {}
    for battery, own in pairs.items():
        ohm = resistance_of(own)
        if ohm is not None and len(own) > 1:
            found[battery] = (*ohm, len(own))
    return found
