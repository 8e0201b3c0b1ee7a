"""Reserve and sky by what an event is for: defaults, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass

from powercore.physics.chemistry import CHEMISTRIES

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
        "A contest station that stops harms nobody, so lithium is used down to a tenth "
        "and forecast sun counts.",
    ),
    Purpose.EXERCISE: Policy(
        20,
        50,
        "none",
        "forecast",
        "Practise the real thing: the first tier must last without any sun, the others "
        "may count on the forecast.",
    ),
    Purpose.EMERGENCY: Policy(
        20,
        30,
        "none",
        "none",
        "No sun counts and a fifth is kept for surprises; lead-acid goes deeper than "
        "is good for it, because the link matters more.",
    ),
    Purpose.DEMONSTRATION: Policy(
        20,
        50,
        "forecast",
        "forecast",
        "Visitors don't mind a pause, so batteries are spared and the sun is counted "
        "on.",
    ),
}


def policy_of(event: Event) -> Policy:
    """The policy that an event's purpose brings."""
    return POLICIES[Purpose(event.purpose)]


def reserve_of(event: Event, chemistry: str) -> float | None:
    """
    Reserve that an event keeps of a chemistry: stated, else usual for it. (0 to 1)

    None for what is neither lithium nor lead-acid: its chemistry's own holds.
    """
    chem, usual = CHEMISTRIES[chemistry], policy_of(event)
    if chem.is_lead:
        stated, percent = event.lead_reserve_pct, usual.lead_pct
    elif chem.is_lithium:
        stated, percent = event.lithium_reserve_pct, usual.lithium_pct
    else:
        return None
    return (percent if stated is None else stated) / 100
