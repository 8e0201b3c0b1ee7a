"""Reserve and sky by what an event is for: defaults, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass

from powercore.chemistry import CHEMISTRIES

from .models import Event, Purpose


@dataclass(frozen=True, slots=True)
class Policy:
    """What a kind of event usually keeps back and counts on. [%]"""

    lithium_pct: float
    lead_pct: float
    first_tier_sky: str
    other_sky: str
    why: str


#: Common practice, no source: schools differ, so each event may state its own.
POLICIES = {
    Purpose.CONTEST: Policy(
        10,
        50,
        "forecast",
        "forecast",
        "Nobody is hurt when a contest station stops, so lithium is used down to a "
        "tenth and the forecast sun is counted on.",
    ),
    Purpose.EXERCISE: Policy(
        20,
        50,
        "none",
        "forecast",
        "Practise as it would be: the first tier must last without any sun, the "
        "others may count on the forecast.",
    ),
    Purpose.EMERGENCY: Policy(
        20,
        30,
        "none",
        "none",
        "No sun is counted on and a fifth is kept for what nobody foresaw; lead-acid "
        "goes deeper than is good for it, because the link matters more.",
    ),
    Purpose.DEMONSTRATION: Policy(
        20,
        50,
        "forecast",
        "forecast",
        "Visitors forgive a pause, so batteries are spared and the sun is counted on.",
    ),
}


def policy_of(event: Event) -> Policy:
    """The policy that an event's purpose brings."""
    return POLICIES[Purpose(event.purpose)]


def reserve_of(event: Event, chemistry: str) -> float | None:
    """
    Reserve that an event states for a chemistry. (0 to 1)

    None where it states none: then a battery's own or its chemistry's holds.
    """
    chem = CHEMISTRIES[chemistry]
    stated = event.lead_reserve_pct if chem.is_lead else event.lithium_reserve_pct
    if not chem.is_rechargeable or stated is None:
        return None
    return stated / 100
