"""
Sizing by hand formula: how large a battery, how large a panel.

Two forms of battery sizing are in use and differ by a quarter or more, so both are
given, by name.
"""

from __future__ import annotations

from dataclasses import dataclass

from powercore.values import in_range

#: Share of a panel's print that reaches the battery over a day. Common practice, no
#: source: 0.65 to 0.80.
SYSTEM_FACTOR = 0.75
#: Array against load for what must not fail, IEEE 1562-2007, from memory: 1.3 or more.
CRITICAL_RATIO = 1.3


@dataclass(frozen=True, slots=True, kw_only=True)
class BatterySize:
    """Amp-hours to have, by the two forms that people use. [Ah]"""

    #: Charge drawn over all days. [Ah]
    unadjusted_ah: float
    #: The greatest of the limits, then temperature and margin.
    greatest_ah: float
    #: Every share multiplied, then temperature and margin.
    product_ah: float


def battery_size(  # noqa: PLR0913 - the handbook formula's own factors
    daily_ah: float,
    days: float,
    *,
    depth: float,
    end_of_life: float = 0.8,
    daily_depth: float = 1.0,
    temperature_factor: float = 1.0,
    margin: float = 1.1,
) -> BatterySize:
    """
    Size a battery in the style of IEEE 1013 and IEEE 485 (both from memory).

    Parameters
    ----------
    daily_ah, days : float
        Charge used a day, and days without any charge. [Ah], [d]
    depth : float
        How deep it may go in the end. (0 to 1)
    end_of_life : float
        Capacity that is left when it is replaced. (0 to 1)
    daily_depth : float
        How deep one day may take it. (0 to 1)
    temperature_factor, margin : float
        More for the cold, more for the unforeseen. [ratio]

    Returns
    -------
    BatterySize
        "Greatest": max(U / depth, U / end of life, a day / daily depth); "product":
        U / (depth × end of life). Both times temperature factor and margin.
    """
    in_range("Charge a day", daily_ah, low=0, unit="Ah")
    in_range("Days", days, low=0, high=60, unit="d")
    for name, share in (
        ("Depth", depth),
        ("End of life", end_of_life),
        ("Daily depth", daily_depth),
    ):
        in_range(name, share, low=0.01, high=1)
    used = daily_ah * days
    more = temperature_factor * margin
    return BatterySize(
        unadjusted_ah=used,
        greatest_ah=max(used / depth, used / end_of_life, daily_ah / daily_depth)
        * more,
        product_ah=used / (depth * end_of_life) * more,
    )


def panel_w(
    daily_wh: float,
    sun_hours: float,
    *,
    ratio: float = 1.0,
    factor: float = SYSTEM_FACTOR,
) -> float:
    """
    Panel that brings a day's energy in so many hours of full sun. [W]

    Load × ratio ÷ (peak-sun-hours × system factor).
    """
    in_range("Hours of full sun", sun_hours, low=0.1, high=24, unit="h")
    in_range("System factor", factor, low=0.05, high=1)
    return daily_wh * ratio / (sun_hours * factor)
