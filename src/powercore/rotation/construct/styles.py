"""How greedy starts differ."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product


@dataclass(frozen=True, slots=True, kw_only=True)
class Style:
    """How one start decides."""

    #: How long before its reserve a battery is relieved. [min]
    margin_min: int
    #: Send the fullest, or the smallest that lasts to the end.
    fits: bool
    #: Charge up to here when others wait for the bay. (0 to 1)
    charge_to: float
    #: Which stations of a tier get their first battery first: "hungry" (most to
    #: give), "light" (longest on the air where batteries are scarce) or "listed".
    first: str = "hungry"
    #: Whether anybody walks.
    walks: bool = True


STYLES = (
    *(
        Style(margin_min=margin, fits=fits, charge_to=target)
        for margin, fits, target in product((10, 30, 60), (False, True), (0.9, 1.0))
    ),
    Style(margin_min=10, fits=False, charge_to=0.9, first="light"),
    Style(margin_min=30, fits=True, charge_to=0.9, first="light"),
    # The plainest set-up there is, so that no plan is worse than it.
    Style(margin_min=10, fits=False, charge_to=1.0, first="listed", walks=False),
)
#: The one start of a plan that somebody waits for: most often the best of all.
AT_ONCE = STYLES[:1]
#: Starts of an event with more batteries x steps than this: three unlike ones of those
#: that win most often on events grown from seeds, and the plainest set-up.
BIG_STEPS, OF_BIG = 10_000, (STYLES[6], STYLES[10], STYLES[5], STYLES[-1])
