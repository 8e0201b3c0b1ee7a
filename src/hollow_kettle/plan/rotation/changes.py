"""Changes of a rotation by hand: what they cost before they are kept, and undo."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.clock import local, real_now, told
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.rotations import core_leg, problem_of, with_pins
from hollow_kettle.plan.bridge.scenario import snapshot_of
from hollow_kettle.plan.changelog import note
from hollow_kettle.plan.models import Bay, Event, Leg, Pin, Rotation, Station
from hollow_kettle.shelf.models import Asset
from powercore.errors import PowercoreError
from powercore.event.problem import CARRIED, CHARGE, Problem
from powercore.event.problem import Leg as CoreLeg
from powercore.rotation.change import (
    CannotChange,
    Charge,
    instead,
    moved,
    recharged,
    skipped,
    uncharged,
)
from powercore.rotation.compare import Cost, Replayed
from powercore.rotation.pins import repaired
from powercore.rotation.polish.rounds import grouped, mended

from .queries import tags_of
from .services import keep, kept_until_min

#: What a broken rule means to whoever asked for a change.
WHY_NOT = {
    "alone_at_night": "one alone would walk in the dark",
    "battery_in_two_places": "the battery is somewhere else then",
    "charges_unwatched": "nobody watches the yard then, and that bay must be watched",
    "bay_change_unwatched": "nobody watches the yard then, to change the bay",
    "bay_refuses_battery": "a bay's charger is not set for that battery",
    "battery_on_hold": "that battery is on hold",
    "charged_too_soon": "it would not have rested enough before it charges",
    "crew_off_duty": "no crew is on duty for that walk",
    "crew_on_two_rounds": "the crew is on another walk then",
    "leg_outside_event": "that is outside the event",
    "no_such_crew": "no crew is on duty for that walk",
    "place_holds_two": "another battery is there then",
    "pinned_away": "a pin is in the way",
    "pinned_no_swap": "a pin is in the way",
    "pinned_no_walk": "a pin is in the way",
    "pinned_stay": "a pin is in the way",
    "round_too_fast": "its round goes on to another station and would be late there",
    "round_too_heavy": "that is too much to carry on one round",
    "round_too_many": "that is too much to carry on one round",
    "source_overloaded": "the charging source would be overloaded",
    "station_refuses_battery": "that battery can't feed the station",
}


@dataclass(frozen=True, slots=True)
class Stay:
    """What is asked of one stay at a station or a bay: see `STAY_CHANGES`."""

    what: str
    leg: Leg
    battery: Asset | None = None
    minutes: int = 0
    bay: Bay | None = None


@dataclass(frozen=True, slots=True)
class Proposal:
    """A change, tried: what it costs, and what would be kept."""

    rotation: Rotation
    words: str
    cost: Cost
    problem: Problem
    legs: tuple[CoreLeg, ...]
    #: Whether the rotation keeps a pin as it is.
    is_same: bool
    pin: Pin | None = None


#: At a bay, earlier and later is when a battery is put on, or taken off.
STAY_CHANGES = ("instead", "earlier", "later", "skip")
CHARGE_CHANGES = ("off_earlier", "off_later", "bay")


def try_change(rotation: Rotation, asked: Stay | Pin) -> Proposal:
    """
    Try a change of a rotation; nothing is kept.

    Raises
    ------
    ValidationError
        If it can't be made, with the reason.
    """
    event = rotation.event
    frozen, before = problem_of(rotation)
    try:
        if isinstance(asked, Pin):
            words = pin_words(event, asked)
            past = kept_until_min(rotation, timedelta(0))
            # What other pins cost that it doesn't keep yet is not this one's cost.
            known = Problem(with_pins(event, frozen.scenario, rotation.from_min))
            start = mended(known, before, keep_until_min=past)
            base = Replayed.of(known, start)
            problem = Problem(
                with_pins(event, frozen.scenario, rotation.from_min, asked)
            )
            legs = repaired(problem, start, keep_until_min=past)
        else:
            words, problem = stay_words(event, asked), frozen
            base = Replayed.of(problem, before)
            legs = _of_stay(rotation, problem, before, asked)
    except CannotChange as refused:
        why = WHY_NOT.get(refused.broken.rule, "") if refused.broken else ""
        raise ValidationError(f"{words}: not possible; {why or refused}.") from refused
    except PowercoreError as refused:
        raise ValidationError(str(refused)) from refused
    if legs != tuple(before):
        legs = grouped(problem, legs, keep_until_min=kept_until_min(rotation))
    cost = Replayed.of(problem, legs).cost(base)
    pin = asked if isinstance(asked, Pin) else None
    if pin is not None and pin.kind == Pin.Kind.LOW and cost.lowered_min < 0.5:
        raise ValidationError(
            f"{words}: that saves nothing: it has no lower power step, or draws "
            "nothing then."
        )
    is_same = not (pin and pin.kind == Pin.Kind.LOW) and legs == tuple(before)
    return Proposal(rotation, words, cost, problem, legs, is_same, pin)


def has_left(leg: Leg) -> bool:
    """Whether the walk to a stay has left, or it began with the running event."""
    event = leg.rotation.event
    if event.state != Event.State.RUNNING:
        return False
    own = leg.rotation.legs.filter(battery=leg.battery, end_min=leg.start_min)
    walk = own.filter(kind=CARRIED).first()
    leave = walk.start_min if walk else leg.start_min
    return event.moment_of(leave) < event.clock.now()


def _of_stay(
    rotation: Rotation, problem: Problem, legs: Sequence[CoreLeg], asked: Stay
) -> tuple[CoreLeg, ...]:
    leg = core_leg(asked.leg, rotation.from_min)
    if leg.kind == CHARGE:
        return _of_charge(rotation, problem, legs, asked)
    if has_left(asked.leg):
        raise CannotChange("its walk has already left")
    past = kept_until_min(rotation, timedelta(0))
    if asked.what == "instead" and asked.battery is not None:
        other = str(asked.battery.pk)
        return instead(problem, legs, leg, other, keep_until_min=past)
    if asked.what == "skip":
        return skipped(problem, legs, leg, keep_until_min=past)
    if leg.start_min == 0:
        raise CannotChange("it is there from the start: no walk brings it")
    sign = -1 if asked.what == "earlier" else 1
    by = sign * asked.minutes
    return moved(problem, legs, leg, by, keep_until_min=past)


def _of_charge(
    rotation: Rotation, problem: Problem, legs: Sequence[CoreLeg], asked: Stay
) -> tuple[CoreLeg, ...]:
    leg = core_leg(asked.leg, rotation.from_min)
    past = kept_until_min(rotation, timedelta(0))
    if asked.what == "skip":
        return uncharged(problem, legs, leg, keep_until_min=past)
    on = off = 0
    if asked.what in ("earlier", "later"):
        on = asked.minutes if asked.what == "later" else -asked.minutes
    elif asked.what in ("off_earlier", "off_later"):
        off = asked.minutes if asked.what == "off_later" else -asked.minutes
    return recharged(
        problem,
        legs,
        leg,
        Charge(
            battery=str(asked.battery.pk) if asked.battery else "",
            bay=str(asked.bay.pk) if asked.bay else "",
            start_min=leg.start_min + on,
            end_min=leg.end_min + off,
        ),
        keep_until_min=past,
    )


@transaction.atomic
def keep_change(proposal: Proposal, *, by: Actor) -> Rotation:
    """
    Keep a change as a new draft, and its pin; a pin that costs nothing needs none.

    Raises
    ------
    ValidationError
        If it breaks a rule after all.
    """
    rotation, pin = proposal.rotation, proposal.pin
    draft = rotation
    if pin is None or not proposal.is_same:
        draft = keep(
            Rotation(
                event=rotation.event,
                snapshot=snapshot_of(rotation.event, proposal.problem.scenario),
                made_by=by,
                from_min=rotation.from_min,
                change=proposal.words[:200],
                changed_from=rotation,
            ),
            proposal.problem,
            proposal.legs,
        )
    if pin is not None:
        pin.made_by = by
        pin.draft = draft if draft is not rotation else None
        pin.save()
    return draft


@transaction.atomic
def take_back(draft: Rotation) -> Rotation:
    """
    Take a changed draft back, with the pin that made it; what it was changed from.

    Raises
    ------
    ValidationError
        If it is no draft, or nobody changed it.
    """
    before = draft.changed_from
    if draft.state != Rotation.State.DRAFT or before is None:
        raise ValidationError("Only a draft that was changed can be undone.")
    draft.state = Rotation.State.TAKEN_BACK
    draft.save(update_fields=["state"])
    draft.pins.filter(lifted_at=None).update(lifted_at=real_now())
    return before


@transaction.atomic
def set_lifted(pin: Pin, *, is_lifted: bool, by: Actor | None = None) -> None:
    """Lift a pin, so that no rotation needs to keep it any more; or pin it again."""
    pin.lifted_at = real_now() if is_lifted else None
    done = "lifted" if is_lifted else "pinned again"
    note(pin.event, by, f"pin {done}: {pin}")
    pin.save(update_fields=["lifted_at"])


def low_asked(
    rotation: Rotation, station: str, start_min: float, end_min: float
) -> dict[str, str]:
    """What the pin form is sent for low power at a station between two minutes."""
    event = rotation.event
    starts, ends = (
        local(event.moment_of(minute + rotation.from_min), event.zone)
        for minute in (start_min, math.ceil(end_min))
    )
    return {
        "kind": Pin.Kind.LOW,
        "place": station,
        "starts": f"{starts:%Y-%m-%d %H:%M}",
        "ends": f"{ends:%Y-%m-%d %H:%M}",
    }


# --- words ------------------------------------------------------------------------


def stay_words(event: Event, asked: Stay) -> str:
    """A change of a stay in words: "K13 to Drumlin at 21:30, 15 min earlier"."""
    leg = asked.leg
    tag = tags_of(leg.rotation).get(leg.battery, "?")
    station = place_name(event, leg.place)
    stay = f"{tag} to {station} at {_time(event, event.moment_of(leg.start_min))}"
    if leg.kind == CHARGE:
        return _charge_words(event, asked, tag, station)
    if asked.what == "instead":
        other = asked.battery.tag if asked.battery else "?"
        return f"{other} instead of {stay}"
    if asked.what == "skip":
        return f"{stay}: no walk"
    return f"{stay}: {asked.minutes} min {asked.what}"


def _charge_words(event: Event, asked: Stay, tag: str, bay: str) -> str:
    """A change of a charge: "K06 on Bay 1 at Sat 20:40: taken off 15 min later"."""
    leg, how = asked.leg, asked.what.removeprefix("off_")
    stay = f"{tag} on {bay} at {_time(event, event.moment_of(leg.start_min))}"
    if asked.what == "instead":
        return f"{asked.battery.tag if asked.battery else '?'} instead of {stay}"
    if asked.what == "skip":
        return f"{stay}: no charge"
    if asked.what == "bay":
        return f"{stay}: on {asked.bay.name if asked.bay else '?'}"
    which = "put on" if how == asked.what else "taken off"
    return f"{stay}: {which} {asked.minutes} min {how}"


def pin_words(event: Event, pin: Pin) -> str:
    """A pin in words: "K11 stays at Shelter link, Sat 14:00 to Sun 08:00"."""
    where = place_name(event, pin.place)
    span = f"{_time(event, pin.starts_at)} to {_time(event, pin.ends_at)}"
    tag = pin.battery.tag if pin.battery else ""
    words = {
        Pin.Kind.STAYS: f"{tag} stays at {where}",
        Pin.Kind.AWAY: f"{tag or 'No battery'} {'not ' if tag else ''}at {where}",
        Pin.Kind.NO_WALK: f"No walk to {where}",
        Pin.Kind.NO_SWAP: f"No swap at {where}",
        Pin.Kind.LOW: f"Low power at {where}",
    }[Pin.Kind(pin.kind)]
    return f"{words}, {span}"


def place_name(event: Event, place: UUID | None) -> str:
    """The name of a station or a bay; any station where none is named."""
    if place is None:
        return "any station"
    one: Station | Bay | None = (
        event.stations.filter(pk=place).first() or event.bays.filter(pk=place).first()
    )
    return one.name if one else "a place that is gone"


def _time(event: Event, moment: datetime) -> str:
    return told(moment, event.zone, "%a %H:%M")
