"""Valid objects for tests; a test says only what matters to it."""

from __future__ import annotations

from typing import Any

from powercore.event.plans import BatteryPlan, BayPlan, CrewPlan, StationPlan
from powercore.event.scenario import Scenario
from powercore.physics.battery import Pack
from powercore.physics.loads import Draw, Load, Opening, Pattern
from powercore.sun.sources import SourcePlan
from powercore.values import Window

DAY = 24 * 60


def make_pack(**values: Any) -> Pack:
    """A tested 20 Ah LiFePO4 pack."""
    return Pack(
        **{"chemistry": "lifepo4", "series": 4, "nameplate_ah": 20, "tested_ah": 20}
        | values
    )


def make_draw(
    receive_a: float = 1.0, key_down_a: float = 20.0, transmit_idle_a: float = 2.0
) -> Draw:
    """A radio's currents."""
    return Draw(
        receive_a=receive_a, transmit_idle_a=transmit_idle_a, key_down_a=key_down_a
    )


def steady(amps: float) -> Load:
    """A load that always draws the same."""
    return Load(draw=Draw(receive_a=amps, transmit_idle_a=amps, key_down_a=amps))


def open_all(span_min: int = DAY) -> tuple[Opening, ...]:
    """Open from start to end, only receiving."""
    pattern = Pattern(transmit_share=0, duty=0)
    return (Opening(start_min=0, end_min=span_min, pattern=pattern),)


def make_station(key: str = "esker", amps: float = 1.0, **values: Any) -> StationPlan:
    """A station that draws a steady current all day, five minutes from the yard."""
    return StationPlan(
        **{
            "key": key,
            "name": key.title(),
            "tier": 1,
            "walk_min": 5,
            "loads": (steady(amps),),
            "openings": open_all(),
        }
        | values
    )


def make_battery(key: str = "k01", ah: float = 20, **values: Any) -> BatteryPlan:
    """A full battery in the yard."""
    return BatteryPlan(
        **{
            "key": key,
            "tag": key.upper(),
            "pack": make_pack(nameplate_ah=ah, tested_ah=ah),
        }
        | values
    )


def make_scenario(**values: Any) -> Scenario:
    """A day with one station, two batteries, one bay and people always on duty."""
    span = values.get("span_min", DAY)
    return Scenario(
        **{
            "name": "test event",
            "zone": "UTC",
            "starts_at": "2026-06-27T18:00:00+00:00",
            "span_min": span,
            "stations": (make_station(openings=open_all(span)),),
            "batteries": (make_battery("k01"), make_battery("k02")),
            "sources": (
                SourcePlan(
                    key="mains",
                    name="mains",
                    kind="mains",
                    max_w=1000,
                    windows=(Window(start_min=0, end_min=span),),
                ),
            ),
            "bays": (
                BayPlan(
                    key="bay1",
                    name="Bay 1",
                    source="mains",
                    max_w=200,
                    chemistries=("lifepo4",),
                ),
            ),
            "crews": (
                CrewPlan(name="crew", does="walks", start_min=0, end_min=span),
                CrewPlan(name="watch", does="yard", start_min=0, end_min=span),
            ),
        }
        | values
    )
