"""Between the shelf's models and the core's values; the only place that knows both."""

from __future__ import annotations

from powercore.battery import Pack
from powercore.loads import Draw

from .models import Battery, EquipmentStep


def pack_of(battery: Battery, tested_ah: float | None) -> Pack:
    """Return a battery as the core sees it."""
    return Pack(
        chemistry=battery.chemistry,
        series=battery.series,
        parallel=battery.parallel,
        nameplate_ah=battery.nameplate_ah,
        tested_ah=tested_ah,
        reserve=None if battery.reserve_pct is None else battery.reserve_pct / 100,
        measured_ohm=(
            None if battery.resistance_mohm is None else battery.resistance_mohm / 1000
        ),
    )


def draw_of(step: EquipmentStep) -> Draw:
    """Return the currents of a kind of equipment at a power step."""
    return Draw(
        standby_a=step.standby_a,
        receive_a=step.receive_a,
        transmit_idle_a=step.transmit_idle_a,
        key_down_a=step.key_down_a,
    )
