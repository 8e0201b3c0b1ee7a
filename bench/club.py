"""A club's event of twenty stations, made up for the benchmarks."""

from __future__ import annotations

from powercore.event.plans import BatteryPlan, BayPlan, CrewPlan, SkyHour, StationPlan
from powercore.event.scenario import Scenario
from powercore.physics.battery import Pack
from powercore.physics.loads import Draw, Load, Opening, Pattern
from powercore.sun.arrays import Array, Site
from powercore.sun.sources import SourcePlan
from powercore.values import Window

DAY = 1440
PANEL = Array(name="panel", vmp_v=18.0, imp_a=5.56, voc_v=22.3, isc_a=6.0)


def big_event(stations: int = 20, batteries: int = 60, bays: int = 8) -> Scenario:
    """Twenty stations, a third with panels, sixty batteries, eight bays, a day."""
    radio = Draw(standby_a=0.5, receive_a=1.0, transmit_idle_a=2.0, key_down_a=12.0)
    whole = (Window(start_min=0, end_min=DAY),)
    return Scenario(
        name="Big Event",
        zone="America/Chicago",
        starts_at="2026-06-27T18:00:00+00:00",
        span_min=DAY,
        site=Site(latitude=46.1, longitude=-95.4),
        sky=tuple(
            SkyHour(start_min=60 * hour, oktas=float(hour % 7)) for hour in range(24)
        ),
        stations=tuple(
            StationPlan(
                key=f"s{n}",
                name=f"Station {n}",
                tier=1 + n % 3,
                walk_min=4 + n % 9,
                loads=(Load(name="radio", draw=radio),),
                openings=tuple(
                    Opening(
                        start_min=360 * part,
                        end_min=360 * (part + 1),
                        pattern=Pattern(transmit_share=0.1 + 0.05 * part, duty=0.4),
                    )
                    for part in range(4)
                ),
                arrays=(PANEL,) if n % 3 == 0 else (),
            )
            for n in range(stations)
        ),
        batteries=tuple(
            BatteryPlan(
                key=f"k{n}",
                tag=f"K{n + 10}",
                mass_kg=3.0 + n % 5,
                pack=Pack(
                    chemistry="lifepo4",
                    series=4,
                    nameplate_ah=float(12 + 4 * (n % 8)),
                    tested_ah=float(11 + 4 * (n % 8)),
                ),
            )
            for n in range(batteries)
        ),
        sources=(
            SourcePlan(
                key="mains", name="mains", kind="mains", max_w=4000, windows=whole
            ),
        ),
        bays=tuple(
            BayPlan(
                key=f"bay{n}",
                name=f"Bay {n}",
                source="mains",
                max_w=300.0,
                chemistries=("lifepo4",),
            )
            for n in range(bays)
        ),
        crews=(
            *(
                CrewPlan(name=f"crew {n}", does="walks", start_min=0, end_min=DAY)
                for n in range(4)
            ),
            CrewPlan(name="watch", does="yard", start_min=0, end_min=DAY),
        ),
    )
