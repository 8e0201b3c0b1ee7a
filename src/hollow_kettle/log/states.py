"""What a battery is doing, from where it is and what is believed of its charge."""

from __future__ import annotations

from .models import BatteryNow, PlaceKind

#: In the order in which a page counts them; the counts add up.
STATES = (
    "tripped?",
    "serving",
    "spare out",
    "charging",
    "ready",
    "empty",
    "on the way",
    "lent",
    "hold",
    "unknown",
    "at home",
)


def is_ready(soc_typical: float, reserve: float) -> bool:
    """Whether at least half of what a battery may give is in it (our default)."""
    return soc_typical >= (1 + reserve) / 2


def state_of(now: BatteryNow | None, *, reserve: float, hold: str) -> str:
    """Return one of STATES; hold wins, then 0 V, then where the battery is."""
    if hold:
        return "hold"
    if now is None or now.since is None:
        return "unknown"
    if now.is_tripped:
        return "tripped?"
    if now.place is None:
        return "on the way"
    by_kind = {
        PlaceKind.POSITION: "serving",
        PlaceKind.SPARE_RACK: "spare out",
        PlaceKind.STATION: "spare out",
        PlaceKind.BAY: "charging",
        PlaceKind.VEHICLE: "on the way",
        PlaceKind.PERSON: "lent",
        PlaceKind.HOME: "at home",
    }
    found = by_kind.get(PlaceKind(now.place.kind))
    if found is not None:
        return found
    return "ready" if is_ready(now.soc_typical, reserve) else "empty"
