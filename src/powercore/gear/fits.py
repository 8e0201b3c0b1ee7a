"""Which charger fits which battery, and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from powercore.gear.things import SUPPLY, Battery, Charger
from powercore.physics.battery import SAME_V, Pack
from powercore.physics.charging import ChargeModel

#: How near a charger's voltage must come to the pack's. [V]
NEAR_V = 0.25
#: A supply at a chemistry's float voltage fills it slowly, to about here.
#: Common practice, no source. (0 to 1)
FLOAT_FILLS_TO = 0.95


class Verdict(StrEnum):
    """Whether a charger may charge a battery."""

    FITS = "fits"
    WITH_SETTING = "with this setting"
    NEVER = "never"


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """One cell of the matrix of chargers and batteries."""

    verdict: Verdict
    #: The setting that makes it fit, or why it never does.
    why: str
    #: From the reserve to full; None where it never fits. [h]
    hours: float | None = None
    #: State of charge it fills to. (0 to 1)
    fills_to: float = 1.0
    #: What else to know: current to limit, float to mind.
    mind: tuple[str, ...] = ()


#: Said where a charger floats at more than the pack may be kept at.
UNPLUG_WHEN_FULL = "unplug when full"
#: Said where it hangs on what nobody noted.
UNKNOWN_PROTECTION = "find out first whether the pack protects its cells"


def _never(why: str) -> Fit:
    return Fit(verdict=Verdict.NEVER, why=why)


def fit_of(charger: Charger, battery: Battery) -> Fit:
    """
    Say whether a charger fits a battery, with which setting, and why not.

    A charger fits when it is set for the chemistry, its cells and its volts; a
    supply when its volts can be set to the pack's and somebody ends the charge.
    """
    pack, chem = battery.pack, battery.pack.chem
    if not chem.is_rechargeable:
        return _never("never charge primary cells")
    if battery.hold:
        return _never(f"on hold: {battery.hold}")
    if charger.series and pack.series not in charger.series:
        cells = " or ".join(map(str, charger.series))
        return _never(f"made for {cells} cells in series, this has {pack.series}")
    mind = _mind(charger, battery)
    if battery.wants_balancing and not charger.balances:
        if battery.protection == "none":
            return _never("no protection in the pack, and it doesn't balance")
        mind = (UNKNOWN_PROTECTION, *mind)
    hours = hours_to_full(charger, battery, pack.reserve_soc)
    if charger.role == SUPPLY:
        return _supply(charger, battery, hours, mind)
    known = set(charger.settings) | ({charger.setting} if charger.setting else set())
    if chem.key not in known:
        offered = ", ".join(sorted(known)) or "nobody noted for what"
        return _never(f"no setting for {chem.name} ({offered})")
    if charger.absorb_v is not None and charger.setting == chem.key:
        if charger.absorb_v > pack.highest_charge_v + SAME_V:
            return _never(
                f"goes to {charger.absorb_v:.1f} V, the pack may have "
                f"{pack.highest_charge_v:.1f} V"
            )
        low_v = chem.charge_range_v[0] * pack.series
        if charger.absorb_v < low_v - NEAR_V:
            return _never(f"stops at {charger.absorb_v:.1f} V, full is {low_v:.1f} V")
    if charger.setting == chem.key and UNKNOWN_PROTECTION not in mind:
        return Fit(verdict=Verdict.FITS, why="as it is set", hours=hours, mind=mind)
    how = f" ({charger.how_set})" if charger.how_set else ""
    is_set = charger.setting == chem.key
    return Fit(
        verdict=Verdict.WITH_SETTING,
        why=UNKNOWN_PROTECTION if is_set else f"set it for {chem.name}{how}",
        hours=hours,
        mind=mind,
    )


def _supply(
    charger: Charger, battery: Battery, hours: float, mind: tuple[str, ...]
) -> Fit:
    wanted_v = battery.pack.absorb_v
    low_v, high_v = charger.low_v, charger.high_v
    if low_v is not None and high_v is not None and low_v <= wanted_v <= high_v:
        return Fit(
            verdict=Verdict.WITH_SETTING,
            why=f"set {wanted_v:.1f} V, watch it, end it by hand at the tail",
            hours=hours,
            mind=mind,
        )
    fixed_v = charger.absorb_v
    if (
        fixed_v is not None
        and abs(fixed_v - wanted_v) <= NEAR_V
        and fixed_v <= battery.pack.highest_charge_v + SAME_V
    ):
        return Fit(
            verdict=Verdict.WITH_SETTING,
            why=f"holds {fixed_v:.1f} V: watch it, end it by hand at the tail",
            hours=hours,
            mind=mind,
        )
    if (
        fixed_v is not None
        and fixed_v < wanted_v
        and battery.pack.fills_slowly_at(fixed_v)
    ):
        return Fit(
            verdict=Verdict.WITH_SETTING,
            why=_slowly(fixed_v, battery.pack),
            hours=max(hours, battery.pack.slow_h),
            fills_to=1.0 if battery.pack.chem.is_lead else FLOAT_FILLS_TO,
            mind=mind,
        )
    given = f"{fixed_v:.1f} V" if fixed_v is not None else "other volts"
    return _never(f"a supply of {given} doesn't fill {wanted_v:.1f} V")


def _slowly(volts: float, pack: Pack) -> str:
    if pack.chem.is_lead:
        return f"holds {volts:.1f} V: fills it slowly, in a day or more; watch it"
    return (
        f"holds {volts:.1f} V: fills it slowly to about {FLOAT_FILLS_TO:.0%} and never "
        "balances it; watch it, unplug it by hand"
    )


def _mind(charger: Charger, battery: Battery) -> tuple[str, ...]:
    mind = []
    limit_a = battery.charge_limit_a
    if charger.max_a > limit_a * 1.001:
        mind.append(f"limit it to {limit_a:.1f} A")
    most_v = battery.pack.most_float_v or 0.0
    if charger.float_v is not None and charger.float_v > most_v + SAME_V:
        mind.append(UNPLUG_WHEN_FULL)
    return tuple(mind)


def charge_model(charger: Charger, battery: Battery) -> ChargeModel:
    """Charging of a battery on a charger, in amp-hours."""
    return ChargeModel.of(battery.pack, min(charger.max_a, battery.charge_limit_a))


def hours_to_full(charger: Charger, battery: Battery, from_soc: float) -> float:
    """Hours from a state of charge to full. [h]"""
    model = charge_model(charger, battery)
    return model.hours_to(from_soc * model.capacity, model.capacity)
