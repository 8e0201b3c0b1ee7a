"""The invented shelf: sixteen batteries, one tired, one mislabelled, one lent."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.assets.services import record_capacity, save_battery
from hollow_kettle.shelf.models import Asset

SPRING = datetime(2026, 4, 11, 16, tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class DemoBattery:
    """One battery: what is printed and tested, and what only the simulator knows."""

    tag: str
    chemistry: str
    series: int
    nameplate_ah: float
    tested_ah: float | None
    true_ah: float
    mass_kg: float
    owner: str = "the club"
    note: str = ""
    hold: str = ""


BATTERIES = (
    DemoBattery("K01", "lifepo4", 4, 20, 19.1, 19.0, 2.6),
    DemoBattery("K02", "lifepo4", 4, 20, 18.6, 18.5, 2.6),
    DemoBattery("K03", "lifepo4", 4, 20, 19.4, 19.2, 2.6),
    DemoBattery("K04", "lifepo4", 4, 20, None, 18.8, 2.6),
    DemoBattery("K05", "lifepo4", 4, 30, 28.7, 28.5, 3.9),
    DemoBattery("K06", "lifepo4", 4, 30, 29.2, 29.0, 3.9),
    DemoBattery("K07", "lifepo4", 4, 50, 48.1, 48.0, 6.2),
    DemoBattery("K08", "lifepo4", 4, 50, 47.5, 47.0, 6.2),
    DemoBattery(
        "K09",
        "lifepo4",
        4,
        20,
        12.4,
        12.0,
        2.6,
        note="Tired: left switched on over a winter.",
    ),
    DemoBattery(
        "K10",
        "lifepo4",
        4,
        30,
        None,
        17.2,
        3.4,
        note="New label since its case was changed.",
    ),
    DemoBattery("K11", "lifepo4", 4, 100, 96.0, 95.5, 12.1),
    DemoBattery("K12", "agm", 6, 35, 29.5, 29.0, 10.4),
    DemoBattery("K13", "agm", 6, 75, 66.0, 65.0, 22.8),
    DemoBattery("K14", "nmc", 3, 24, 22.6, 22.3, 1.9),
    DemoBattery(
        "K15",
        "lifepo4",
        4,
        40,
        38.8,
        38.5,
        4.9,
        owner="lent by Heron",
        note="Goes home with Heron on Sunday evening.",
    ),
    DemoBattery(
        "K16",
        "flooded",
        6,
        75,
        52.0,
        50.0,
        24.5,
        hold="terminal cracked, waits for a new post",
    ),
)


def make_shelf(by: Actor) -> dict[str, Asset]:
    """Put the batteries on the shelf; return them by tag."""
    shelf = {}
    for battery in BATTERIES:
        asset = save_battery(
            None,
            by=by,
            tag=battery.tag,
            chemistry=battery.chemistry,
            series=battery.series,
            parallel=1,
            nameplate_ah=battery.nameplate_ah,
            mass_kg=battery.mass_kg,
            protection="common" if battery.chemistry in ("lifepo4", "nmc") else "",
            max_discharge_a=battery.nameplate_ah * (2.0 if battery.series < 6 else 1.5),
            max_charge_a=battery.nameplate_ah * (1.0 if battery.series < 6 else 0.3),
            owner=battery.owner,
            home="shack at Cold Tarn",
            hold=battery.hold,
            note=battery.note,
        )
        shelf[battery.tag] = asset
    return shelf


def make_spring_tests(shelf: dict[str, Asset], by: Actor) -> None:
    """Record the capacity test of this spring for each battery that had one."""
    for battery in BATTERIES:
        if battery.tested_ah is not None:
            record_capacity(
                shelf[battery.tag],
                tested_ah=battery.tested_ah,
                sd=round(0.02 * battery.tested_ah, 2),
                by=by,
                origin="amp-hour meter, full to disconnect",
                evidence="spring test",
                at=SPRING,
            )
