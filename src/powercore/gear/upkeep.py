"""What the shelf asks for between events: charge, storage, tests, a second look."""

from __future__ import annotations

import math
from dataclasses import dataclass

from powercore.physics.battery import Pack
from powercore.physics.chemistry import Chemistry
from powercore.values import in_range

MONTH_DAYS = 365.25 / 12


def monthly_loss(chem: Chemistry, temp_c: float) -> float:
    """Share of the charge lost in a month; doubles for each 10 °C. (0 to 1)"""
    return min(0.95, chem.self_discharge_month * 2 ** ((temp_c - 25) / 10))


def kept_share(chem: Chemistry, days: float, temp_c: float = 25.0) -> float:
    """
    Share of the charge still there after some days at rest. (0 to 1)

    Compound loss month by month; common practice, no source.
    """
    in_range("Days", days, low=0, unit="d")
    return (1 - monthly_loss(chem, temp_c)) ** (days / MONTH_DAYS)


def days_until(
    chem: Chemistry, from_soc: float, to_soc: float, temp_c: float = 25.0
) -> float:
    """Days of rest from one state of charge to a lower one. [d]"""
    if from_soc <= to_soc:
        return 0.0
    if to_soc <= 0:
        return math.inf
    loss = monthly_loss(chem, temp_c)
    return math.log(to_soc / from_soc) / math.log(1 - loss) * MONTH_DAYS


@dataclass(frozen=True, slots=True, kw_only=True)
class Due:
    """Something a battery or another asset is due for."""

    #: "top up", "storage", "test", "compare", "drain", "return" or "repair".
    what: str
    words: str
    #: Days from now; negative when it is late. [d]
    in_days: float


def charge_due(
    pack: Pack, soc: float, days_since: float, temp_c: float = 20.0
) -> list[Due]:
    """
    What a resting battery's charge is due for.

    Lead-acid is kept full and topped up before it sulphates; lithium is kept near
    the middle, and neither full nor empty for long.

    Parameters
    ----------
    pack : Pack
    soc : float
        State of charge when it was last known. (0 to 1)
    days_since, temp_c : float
        Days since then and where it is kept. [d], [°C]
    """
    chem = pack.chem
    if not chem.is_rechargeable:
        return []
    now = soc * kept_share(chem, days_since, temp_c)
    found = []
    left = days_until(chem, now, chem.top_up_soc, temp_c)
    if left < 30 or now < chem.top_up_soc:
        found.append(
            Due(
                what="top up",
                words=f"about {now:.0%} by self-discharge; {chem.name} is topped up at "
                f"{chem.top_up_soc:.0%}",
                in_days=left if now >= chem.top_up_soc else -1.0,
            )
        )
    if chem.is_lithium and now > 0.85 and days_since > 14:
        found.append(
            Due(
                what="storage",
                words=f"stored at {now:.0%}; {chem.name} keeps best near "
                f"{chem.storage_soc:.0%}",
                in_days=0.0,
            )
        )
    return found


def drain(
    chem: Chemistry,
    *,
    before: float,
    after: float,
    sd: float,
    days: float,
    temp_c: float = 20.0,
) -> Due | None:
    """
    Say whether charge went faster than self-discharge explains.

    Parameters
    ----------
    before, after : float
        State of charge at two moments at rest. (0 to 1)
    sd : float
        Uncertainty of their difference, one standard deviation.
    days, temp_c : float
        Between them, and where it was kept. [d], [°C]

    Returns
    -------
    Due or None
        A suspicion when less than 1 in 40 would fall so far by chance (two
        standard deviations), and the loss is more than twice the expected one.
    """
    if days < 1:
        return None
    expected = before * (1 - kept_share(chem, days, temp_c))
    lost = before - after
    if lost > expected + 2 * sd and lost > 2 * expected:
        return Due(
            what="drain",
            words=f"lost {lost:.0%} in {days:.0f} days, self-discharge explains "
            f"{expected:.0%}: something may be left on",
            in_days=0.0,
        )
    return None


def test_due(pack: Pack, tested_days: float | None) -> Due | None:
    """When the capacity is due to be tested again."""
    if not pack.chem.is_rechargeable:
        return None
    if tested_days is None:
        return Due(what="test", words="its capacity was never tested", in_days=-1.0)
    left = pack.chem.test_days - tested_days
    if left > 30:
        return None
    return Due(
        what="test", words=f"last tested {tested_days:.0f} days ago", in_days=left
    )
