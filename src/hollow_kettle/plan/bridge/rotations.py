"""Rotations as the core has them."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence

from hollow_kettle.plan.models import Event, Leg, Pin, Rotation
from powercore.event import plans
from powercore.event import scenario as core
from powercore.event.problem import WAIT, YARD, Problem
from powercore.event.problem import Leg as CoreLeg

from .problems import problem_of_snapshot
from .windows import clipped


def problem_of(rotation: Rotation) -> tuple[Problem, Sequence[CoreLeg]]:
    """A rotation as the core sees it."""
    return problem_of_snapshot(rotation.snapshot), core_legs(rotation)


def with_pins(
    event: Event, scenario: core.Scenario, from_min: int, *more: Pin
) -> core.Scenario:
    """
    Return a scenario with the event's pins as they stand, and with more.

    Pins whose time is over or whose battery or place takes no part are left out.
    """
    active = (*event.pins.filter(lifted_at=None), *more)
    pins = (core_pin(event, pin, scenario, from_min) for pin in active)
    return dataclasses.replace(scenario, pins=tuple(pin for pin in pins if pin))


def core_pin(
    event: Event, pin: Pin, scenario: core.Scenario, from_min: int
) -> plans.Pin | None:
    """Return a pin as the core sees it; None where it means nothing."""
    start, end = clipped(event, pin.starts_at, pin.ends_at, from_min)
    batteries = {"", *(battery.key for battery in scenario.batteries)}
    places = {"", *(one.key for one in scenario.stations)}
    places |= {bay.key for bay in scenario.bays}
    battery, place = str(pin.battery_id or ""), str(pin.place or "")
    if end <= start or battery not in batteries or place not in places:
        return None
    return plans.Pin(
        kind=pin.kind, battery=battery, place=place, start_min=start, end_min=end
    )


def core_legs(rotation: Rotation) -> list[CoreLeg]:
    """Return a rotation's legs in the core's minutes."""
    return [core_leg(leg, rotation.from_min) for leg in rotation.legs.all()]


def core_leg(leg: Leg, from_min: int) -> CoreLeg:
    """Return one leg in the core's minutes."""
    place = YARD if leg.kind == WAIT else ""
    if leg.place is not None:
        place = str(leg.place)
    return CoreLeg(
        kind=leg.kind,
        battery=str(leg.battery),
        place=place,
        crew=leg.crew,
        round=leg.round,
        start_min=leg.start_min - from_min,
        end_min=leg.end_min - from_min,
    )
