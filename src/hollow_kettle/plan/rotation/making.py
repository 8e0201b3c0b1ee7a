"""Rotations made: one start for whoever waits, and more by the worker."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from enum import Enum, auto

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.log.models import BatteryNow, PlaceKind
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.rotations import problem_of, with_pins
from hollow_kettle.plan.bridge.scenario import scenario_of, snapshot_of
from hollow_kettle.plan.models import Event, Rotation, Trial
from powercore.errors import PowercoreError
from powercore.event.plans import BatteryPlan
from powercore.event.plans import Pin as CorePin
from powercore.event.problem import YARD, Problem
from powercore.event.problem import Leg as CoreLeg
from powercore.event.scenario import Scenario
from powercore.limits import USUAL_LEAD_MIN
from powercore.rotation.compare import Replayed, key_if_valid
from powercore.rotation.construct import AT_ONCE, construct
from powercore.rotation.pins import PinRefused
from powercore.rotation.polish.rounds import grouped
from powercore.rotation.polish.times import with_rounder_times
from powercore.rotation.verify import verify

from .queries import FIGURES
from .replan import kept_of, pins_of_coming
from .services import COMING, hand_over, keep

#: A replan changes one of them where that saves more than so long off the air, or
#: three times as long into reserve: crews are told already. [min]
CHANGE_MIN = 5.0
#: What a draft is called that goes on from one which somebody took up meanwhile.
FURTHER = "worked out further"
#: How long a page waits for the worker to go on from a plan made at once.
HOPED = timedelta(minutes=3)


def make_rotation(
    event: Event,
    *,
    by: Actor,
    at: datetime | None = None,
    lead_min: int = USUAL_LEAD_MIN,
) -> Rotation:
    """
    Make a first complete rotation as a draft; from a moment on when one is given.

    From a moment on, pins that what happened has made impossible lapse for it; they
    stand in its `lapsed`, each with the reason. Walks under way are finished, crews
    have the lead before they set off, and published moves of the coming hour stay as
    they are unless changing them buys enough.

    Raises
    ------
    ValidationError
        If the event has nothing to plan, if a pin can't be kept from the start, or if
        the result breaks a rule (a fault of the planner, never shown as a plan).
    """
    if at is not None and at >= event.ends_at:
        raise ValidationError("The event is over: there is nothing left to plan.")
    try:
        scenario = scenario_of(event, at, lead_min=lead_min)
        from_min = event.span_min - scenario.span_min
        scenario = with_pins(event, scenario, from_min)
    except PowercoreError as error:
        raise ValidationError(str(error)) from error
    if not scenario.stations:
        raise ValidationError(
            "Add a station first: there is nothing to keep on the air."
        )
    if not any(not battery.is_on_hold for battery in scenario.batteries):
        raise ValidationError("Choose at least one battery that is not on hold.")
    refused: list[str] = []
    if from_min > 0:
        scenario, refused = _without_refused(scenario)
        refused += _off_wrong_bays(event, scenario)
    try:
        problem, legs, lapsed = _made(event, scenario, from_min, Starts.FIRST)
    except PinRefused as refused_pin:
        raise ValidationError(str(refused_pin)) from refused_pin
    rotation = Rotation(
        event=event,
        snapshot=snapshot_of(event, problem.scenario),
        made_by=by,
        from_min=from_min,
        further=Rotation.Further.ASKED,
    )
    rotation.lapsed = [*refused, *lapsed]
    with transaction.atomic():
        made = keep(rotation, problem, legs)
        hand_over("work_out_further", rotation_id=made.pk)
    return made


def work_out_further(rotation: Rotation) -> None:
    """
    Go on from a plan that was made at once: more starts, rounds joined, rounder times.

    What is better takes its place; where somebody has gone on from it meanwhile
    (published it, changed it, had it tried) it becomes a draft of its own.
    """
    event = rotation.event
    problem, before = problem_of(rotation)
    _, legs, _ = _made(event, problem.scenario, rotation.from_min, Starts.ALL)
    coming = _coming(event, problem, rotation.from_min)
    key = key_if_valid(problem, legs)
    old = key_if_valid(problem, before)
    is_better = key is not None and (old is None or key < old)
    is_better &= kept_of(coming, legs) >= kept_of(coming, before)
    with transaction.atomic():
        Event.objects.select_for_update().get(pk=event.pk)
        rotation.refresh_from_db()
        if rotation.further != Rotation.Further.ASKED:
            return
        if is_better and _is_untouched(rotation):
            rotation.was = {name: getattr(rotation, name) for name in FIGURES}
            rotation.further = Rotation.Further.DONE
            keep(rotation, problem, legs)
            return
        Rotation.objects.filter(pk=rotation.pk).update(further=Rotation.Further.DONE)
        if is_better and rotation.state in Rotation.STANDS:
            draft = Rotation(
                event=event,
                snapshot=rotation.snapshot,
                made_by=rotation.made_by,
                from_min=rotation.from_min,
                change=FURTHER,
                changed_from=rotation,
            )
            keep(draft, problem, legs)


def _is_untouched(rotation: Rotation) -> bool:
    """Whether nobody has done anything yet with a plan that was made at once."""
    return (
        rotation.state == Rotation.State.DRAFT
        and not rotation.changed_to.exists()
        and not rotation.searches.exists()
        and not Trial.objects.filter(rotation=rotation).exists()
    )


class Starts(Enum):
    """How much is tried for a plan."""

    #: One start, for whoever waits.
    FIRST = auto()
    ALL = auto()


def _made(
    event: Event, scenario: Scenario, from_min: int, starts: Starts
) -> tuple[Problem, Sequence[CoreLeg], list[str]]:
    """A plan's problem and legs, and why pins are left out of it."""
    problem, legs, lapsed = _constructed(scenario, starts, may_lapse=from_min > 0)
    if from_min > 0:
        legs = _steady(event, problem, legs, from_min, starts)
    return problem, legs, lapsed


def _without_refused(scenario: Scenario) -> tuple[Scenario, list[str]]:
    """Batteries as in the yard that are where they must not be used; and why."""
    problem, words = Problem(scenario), []
    batteries = []
    for battery in scenario.batteries:
        place, why, does = battery.start_place, None, ""
        if place in problem.stations:
            name, does = problem.stations[place].name, "feed it"
            why = problem.feed(place, battery.key).refusal
        elif place in problem.bays:
            name, does = problem.bays[place].name, "charge there"
            why = problem.bay_refusal(place, battery.key)
        if why and not battery.is_on_hold:
            words.append(_wrong(battery, name, does, why))
            batteries.append(battery.in_yard)
        else:
            batteries.append(battery)
    return replace(scenario, batteries=tuple(batteries)), words


def _off_wrong_bays(event: Event, scenario: Scenario) -> list[str]:
    """Batteries that the log has on a bay whose charger must not charge them."""
    bays = {bay.key: bay for bay in scenario.bays}
    there = {
        str(now.battery): str(now.place.pk)
        for now in BatteryNow.objects.filter(
            battery__in=[battery.key for battery in scenario.batteries],
            place__kind=PlaceKind.BAY,
        ).select_related("place")
        if now.place is not None
    }
    return [
        _wrong(battery, bay.name, "charge there", why)
        for battery in scenario.batteries
        if (bay := bays.get(there.get(battery.key, ""))) is not None
        and battery.start_place == YARD
        and (why := bay.refusal(battery))
    ]


def _wrong(battery: BatteryPlan, place: str, does: str, why: str) -> str:
    return (
        f"{battery.tag} is at {place}, and must not {does}: {why}. It counts as taken "
        "away."
    )


def _constructed(
    scenario: Scenario, starts: Starts, *, may_lapse: bool
) -> tuple[Problem, Sequence[CoreLeg], list[str]]:
    """A first rotation's problem and legs, and why pins are left out of it."""
    lapsed: list[str] = []
    while True:
        problem = Problem(scenario)
        try:
            first = AT_ONCE if starts is Starts.FIRST else None
            legs = construct(problem, first)
        except PinRefused as refused:
            if not may_lapse:
                raise
            lapsed.append(f"{refused} This plan does without the pin.")
            pins = tuple(pin for pin in scenario.pins if pin != refused.pin)
            scenario = replace(scenario, pins=pins)
        else:
            if starts is Starts.ALL:
                legs = grouped(problem, with_rounder_times(problem, legs))
            return problem, legs, lapsed


def _coming(event: Event, problem: Problem, from_min: int) -> list[CorePin]:
    """Published moves of the coming hour, as pins; none before an event begins."""
    if from_min == 0:
        return []
    return pins_of_coming(event, problem, from_min, round(COMING.total_seconds() / 60))


def _steady(
    event: Event,
    problem: Problem,
    legs: Sequence[CoreLeg],
    from_min: int,
    starts: Starts,
) -> Sequence[CoreLeg]:
    """A new rotation that leaves the coming hour as published, where it may."""
    coming = _coming(event, problem, from_min)
    if not coming:
        return legs
    scenario = problem.scenario
    held = replace(scenario, pins=(*scenario.pins, *coming))
    _, steady, _ = _constructed(held, starts, may_lapse=True)
    if not verify(problem, steady).is_valid:
        return legs
    cost = Replayed.of(problem, steady).cost(Replayed.of(problem, legs))
    spared = kept_of(coming, steady) - kept_of(coming, legs)
    is_worth = cost.off_air_min + cost.reserve_min / 3 <= CHANGE_MIN * spared
    return steady if spared > 0 and is_worth else legs
