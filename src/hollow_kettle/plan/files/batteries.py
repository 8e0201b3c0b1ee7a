"""Batteries of a scenario file: taken from the shelf, or brought onto it."""

from __future__ import annotations

from typing import Any

from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.batteries import NOTED
from hollow_kettle.plan.events import sets
from hollow_kettle.plan.events.services import choose_batteries
from hollow_kettle.plan.models import Event
from hollow_kettle.plan.policy import reserve_of
from hollow_kettle.shelf.assets.services import record_capacity, save_battery, set_hold
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.models.details import Battery
from powercore.event import scenario as core
from powercore.event.plans import BatteryPlan

from .preview import shelf_by_tag, singles_of

ORIGIN = "from a scenario file"


def bring_batteries(event: Event, scenario: core.Scenario, by: Actor) -> None:
    """Have a file's batteries take part; those that the shelf lacks come onto it."""
    shelf, chosen = shelf_by_tag(), {}
    for plan in singles_of(scenario):
        asset = shelf.get(plan.tag.casefold())
        if asset is None:
            pack = plan.pack
            values = _noted(plan) or {"note": f"Came with {scenario.name}."}
            asset = save_battery(None, by=by, **values | _of_pack(event, plan))
            if plan.is_on_hold or plan.hold:
                set_hold(asset, because=plan.hold or f"on hold in {scenario.name}")
            if pack.tested_ah is not None:
                record_capacity(
                    asset,
                    tested_ah=pack.tested_ah,
                    sd=0.04 * pack.tested_ah,
                    by=by,
                    origin=ORIGIN,
                    evidence=scenario.name,
                )
        chosen[plan.key] = asset.pk
    choose_batteries(event, list(chosen.values()))
    for plan in scenario.batteries:
        if plan.members:
            sets.join_batteries(event, [str(chosen[one.key]) for one in plan.members])


def percent_of(share: float | None) -> float | None:
    """A share of a file as the database has it. [%]"""
    return None if share is None else share * 100


def _of_pack(event: Event, plan: BatteryPlan) -> dict[str, Any]:
    """A battery's numbers, as the shelf has them; its reserve where it is its own."""
    pack = plan.pack
    own = None if pack.reserve == reserve_of(event, pack.chemistry) else pack.reserve
    ohm = pack.measured_ohm
    return {
        "tag": plan.tag,
        "mass_kg": plan.mass_kg,
        "max_charge_a": plan.max_charge_a,
        "max_discharge_a": plan.max_discharge_a,
        "is_heated": plan.is_heated,
        "reserve_pct": percent_of(own),
        "resistance_mohm": None if ohm is None else ohm * 1000,
        **{
            name: getattr(pack, name)
            for name in (
                *("chemistry", "series", "parallel", "nameplate_ah", "peukert"),
                *("max_charge_v", "charge_v", "float_v", "disconnect_v"),
                *("board_low_v", "board_high_v", "charge_low_c"),
            )
        },
    }


def _noted(plan: BatteryPlan) -> dict[str, Any]:
    """What else a file notes of a battery that the shelf here knows, each as it is."""
    fields = {
        field.name: field
        for model in (Asset, Battery)
        for field in model._meta.concrete_fields
    }
    return {
        name: fields[name].to_python(value)
        for name, value in plan.noted
        if name in NOTED
    }
