"""
Change a rotation in one way, and leave the rest as it is.

Another battery on a stay, a walk earlier or later, a walk left out. What comes out is
checked like any rotation. Where the rest can't stay as it is, the change counts as
pinned and the rest gives way, as little as can be; a change that can't be made even so
is refused with its reason.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence, Set
from dataclasses import dataclass, replace

from powercore.errors import PowercoreError
from powercore.event.plans import AWAY, STAYS, Pin
from powercore.event.problem import (
    CARRIED,
    CHARGE,
    SERVE,
    WAIT,
    YARD,
    Leg,
    Problem,
    lives_of,
    stops_of,
    visit_of,
)
from powercore.rotation.objective import key_of
from powercore.rotation.pins import PinRefused, repaired
from powercore.rotation.verify import Broken, verify


class CannotChange(PowercoreError):
    """A change that can't be made; `broken` is the rule it would break, if one."""

    def __init__(self, words: str, broken: Broken | None = None) -> None:
        super().__init__(words)
        self.broken = broken


def instead(
    problem: Problem,
    legs: Sequence[Leg],
    leg: Leg,
    battery: str,
    *,
    keep_until_min: int = 0,
) -> tuple[Leg, ...]:
    """
    Put another battery on a stay at a station.

    It goes for this stay alone, when it waits all the while; or both exchange all
    that comes after; or the rest gives way. The best of them is taken. Nothing that
    happens before `keep_until_min` is changed, nor a walk that is under way.

    Raises
    ------
    CannotChange
        If none can be carried out.
    """
    if battery not in problem.batteries or battery == leg.battery:
        raise CannotChange("choose another battery of the event")
    ways = [exchanged(legs, leg, battery), _exchanged_for_good(legs, leg, battery)]
    pins = [_stays(leg, battery=battery)]
    return _best(problem, legs, ways, pins, keep_until_min)


def moved(
    problem: Problem,
    legs: Sequence[Leg],
    leg: Leg,
    minutes: int,
    *,
    keep_until_min: int = 0,
) -> tuple[Leg, ...]:
    """
    Have the walk that brings a battery come earlier or later.

    What it relieves leaves then; waiting and charging become shorter or longer, and
    where that is not enough the rest gives way; nothing before `keep_until_min`.

    Raises
    ------
    CannotChange
        If the walk can't be there then.
    """
    at = leg.start_min + minutes
    if not 0 < at < leg.end_min:
        raise CannotChange("that is before the event or after the stay's end")
    if at - problem.stations[leg.place].walk_min < keep_until_min:
        raise CannotChange("its walk should have left by then")
    stays = [_stays(leg, start_min=at)]
    old = relieved(legs, leg)
    if old is not None and at > old.start_min:
        stays.append(_stays(old, end_min=at))
    # It comes just then, not before.
    stays.append(replace(stays[0], kind=AWAY, start_min=at - 1, end_min=at))
    way: list[Leg] | None
    try:
        lives = lives_of(legs).values()
        way = [
            x
            for life in lives
            for x in retimed(life, leg.place, leg.start_min, minutes)
        ]
    except CannotChange:
        way = None
    return _best(problem, legs, [way], stays, keep_until_min)


def skipped(
    problem: Problem, legs: Sequence[Leg], leg: Leg, *, keep_until_min: int = 0
) -> tuple[Leg, ...]:
    """
    Leave out the walk that brings a battery; what is there stays instead.

    Nothing that happens before `keep_until_min` is changed.

    Raises
    ------
    CannotChange
        If nobody walks for it, or the rest can't be carried out then.
    """
    before = walk_to(legs, leg)
    if before is None:
        raise CannotChange("it is there from the start: no walk brings it")
    pins = [replace(_stays(leg), kind=AWAY)]
    old = relieved(legs, leg)
    if old is not None:
        pins.append(_stays(old, end_min=leg.end_min))
    way = without_rounds(problem, legs, {before.round})
    return _best(problem, legs, [way], pins, keep_until_min)


@dataclass(frozen=True, slots=True, kw_only=True)
class Charge:
    """What of a charge should be otherwise; what is not said stays."""

    battery: str = ""
    bay: str = ""
    start_min: int | None = None
    end_min: int | None = None


def recharged(
    problem: Problem,
    legs: Sequence[Leg],
    leg: Leg,
    new: Charge,
    *,
    keep_until_min: int = 0,
) -> tuple[Leg, ...]:
    """
    Charge a battery at other times or on another bay, or another battery there.

    The rest gives way, as little as can be; nothing before `keep_until_min`.

    Raises
    ------
    CannotChange
        If that can't be.
    """
    battery, bay = new.battery, new.bay
    start = leg.start_min if new.start_min is None else new.start_min
    end = leg.end_min if new.end_min is None else new.end_min
    if not 0 <= start < end <= problem.span_min:
        raise CannotChange(
            "it would be taken off before it is put on, or after the end"
        )
    if start != leg.start_min and _is_found(problem, leg):
        raise CannotChange("it is on the bay when the plan begins")
    changes = [] if start == leg.start_min else [start, leg.start_min]
    changes += [] if end == leg.end_min else [end, leg.end_min]
    if battery or bay:
        changes.append(leg.start_min)
    if any(minute < keep_until_min for minute in changes):
        raise CannotChange("that is past, or too soon")
    there = replace(leg, place=bay or leg.place)
    pins = [_stays(there, battery=battery, start_min=start, end_min=end)]
    for first, last in ((leg.start_min, start), (end, leg.end_min)):
        if first < last and not battery:
            away = _stays(leg, start_min=first, end_min=last)
            pins.append(replace(away, kind=AWAY))
    made = _best(problem, legs, [], pins, keep_until_min)
    if battery in ("", leg.battery) and any(
        (one.battery, one.place) == (leg.battery, there.place)
        and any(one.start_min < at < one.end_min for at in (start, end))
        for one in made
    ):
        raise CannotChange("nobody can put it on or take it off then")
    return made


def uncharged(
    problem: Problem, legs: Sequence[Leg], leg: Leg, *, keep_until_min: int = 0
) -> tuple[Leg, ...]:
    """
    Leave out a charge; the rest gives way, as little as can be.

    Raises
    ------
    CannotChange
        If that can't be.
    """
    if leg.start_min < keep_until_min or _is_found(problem, leg):
        raise CannotChange("it is on the bay already, or will be very soon")
    pins = [replace(_stays(leg), kind=AWAY)]
    return _best(problem, legs, [], pins, keep_until_min)


def _is_found(problem: Problem, leg: Leg) -> bool:
    """Whether its battery stands on the bay when the plan begins."""
    place = problem.batteries[leg.battery].start_place
    return leg.start_min == 0 and place == leg.place


def walk_to(legs: Sequence[Leg], leg: Leg) -> Leg | None:
    """
    The carried leg that brings a battery to a stay; None where nobody does.

    A spare's is the one that brought it, before it waited there.
    """
    life = lives_of(legs)[leg.battery]
    first = life.index(visit_of(life, leg)[0])
    before = life[first - 1] if first else None
    return before if before is not None and before.kind == CARRIED else None


def relieved(legs: Sequence[Leg], leg: Leg) -> Leg | None:
    """The stay that a stay's walk ends."""
    found = (
        one
        for one in legs
        if (one.kind, one.place, one.end_min) == (SERVE, leg.place, leg.start_min)
    )
    return next(found, None)


def _stays(
    leg: Leg,
    *,
    battery: str = "",
    start_min: int | None = None,
    end_min: int | None = None,
) -> Pin:
    """A pin that says what a stay says, or another battery or time."""
    return Pin(
        kind=STAYS,
        battery=battery or leg.battery,
        place=leg.place,
        start_min=leg.start_min if start_min is None else start_min,
        end_min=leg.end_min if end_min is None else end_min,
    )


def _best(
    problem: Problem,
    legs: Sequence[Leg],
    ways: Iterable[Sequence[Leg] | None],
    pins: Sequence[Pin],
    keep_until_min: int,
) -> tuple[Leg, ...]:
    """The best valid one of some ways, and of what pins for the change alone give."""
    scenario, found = problem.scenario, []
    why: CannotChange | None = None
    for way in ways:
        if way is None:
            continue
        report = verify(problem, way)
        if report.broken:
            why = why or CannotChange(report.broken[0].words, report.broken[0])
        else:
            found.append((key_of(problem, way, report.outcome), tuple(way)))
    try:
        pinned = replace(scenario, pins=(*scenario.pins, *pins))
        mended = repaired(
            Problem(pinned, problem.use), legs, keep_until_min=keep_until_min
        )
        found.append((key_of(problem, mended, verify(problem, mended).outcome), mended))
    except PinRefused as refused:
        why = why or CannotChange(refused.words)
    if not found:
        raise why or CannotChange("nothing else is possible")
    return min(found, key=lambda one: one[0])[1]


# --- another battery ----------------------------------------------------------------


def exchanged(legs: Sequence[Leg], leg: Leg, other: str) -> list[Leg] | None:
    """
    The same rotation with another battery on one stay and its walks.

    With all it does at the station between them. None when the other doesn't wait in
    the yard all the while.
    """
    life = lives_of(legs)[leg.battery]
    visit = visit_of(life, leg)
    first, last = life.index(visit[0]), life.index(visit[-1])
    way = life[max(0, first - 1) : last + 2]
    way = [one for one in way if one in visit or one.kind == CARRIED]
    start, end = min(one.start_min for one in way), max(one.end_min for one in way)
    made = [one for one in legs if one not in way]
    waits = next(
        (
            one
            for one in made
            if (one.battery, one.kind, one.place) == (other, WAIT, YARD)
            and one.start_min <= start
            and end <= one.end_min
        ),
        None,
    )
    if waits is None:
        return None
    made.remove(waits)
    made += [replace(one, battery=other) for one in way]
    if waits.start_min < start:
        made.append(replace(waits, end_min=start))
    if end < waits.end_min:
        made.append(replace(waits, start_min=end))
    made.append(
        Leg(kind=WAIT, battery=leg.battery, place=YARD, start_min=start, end_min=end)
    )
    return made


def _exchanged_for_good(legs: Sequence[Leg], leg: Leg, other: str) -> list[Leg] | None:
    """
    Two batteries exchange all they do from the walk to a stay on.

    None when the other is not in the yard then, waiting or on a bay.
    """
    lives = lives_of(legs)
    own, its = lives[leg.battery], lives.get(other, [])
    before = walk_to(legs, leg)
    at = before.start_min if before is not None else leg.start_min
    there = next((one for one in its if one.start_min <= at < one.end_min), None)
    if there is None or (
        at > 0 and (there.station or there.kind not in (WAIT, CHARGE))
    ):
        return None
    made = [one for one in legs if one.battery not in (leg.battery, other)]
    for life, heir in ((own, other), (its, leg.battery)):
        made += [
            replace(one, end_min=min(one.end_min, at))
            for one in life
            if one.start_min < at
        ]
        made += [
            replace(one, battery=heir, start_min=max(one.start_min, at))
            for one in life
            if one.end_min > at
        ]
    return made


# --- earlier or later ---------------------------------------------------------------


def retimed(life: Sequence[Leg], station: str, minute: int, by: int) -> list[Leg]:
    """
    A battery's life with the stop at a station at a minute moved.

    Raises
    ------
    CannotChange
        If another walk of it is in the way.
    """
    made = list(life)
    for number, leg in enumerate(life):
        if leg.station != station:
            continue
        before = life[number - 1] if number else None
        after = life[number + 1] if number + 1 < len(life) else None
        if leg.start_min == minute and before is not None and before.kind == CARRIED:
            made[number - 1] = replace(
                before, start_min=before.start_min + by, end_min=minute + by
            )
            made[number] = replace(made[number], start_min=minute + by)
            _give_way(made, range(number - 2, -1, -1), before.start_min + by)
        if leg.end_min == minute and after is not None and after.kind == CARRIED:
            made[number + 1] = replace(
                after, start_min=minute + by, end_min=after.end_min + by
            )
            made[number] = replace(made[number], end_min=minute + by)
            _give_way(made, range(number + 2, len(made)), after.end_min + by)
    return [leg for leg in made if leg.end_min > leg.start_min]


def _give_way(made: list[Leg], numbers: range, minute: int) -> None:
    """Let the legs before or after a walk end or begin at a minute."""
    is_before = numbers.step < 0
    for nearest, number in enumerate(numbers):
        leg = made[number]
        start, end = leg.start_min, leg.end_min
        if is_before:
            end = minute if nearest == 0 else min(end, minute)
        else:
            start = minute if nearest == 0 else max(start, minute)
        if (leg.station or leg.kind == CARRIED) and (start, end) != (
            leg.start_min,
            leg.end_min,
        ):
            raise CannotChange("its other walk is in the way")
        made[number] = replace(leg, start_min=start, end_min=max(start, end))


# --- without walks ------------------------------------------------------------------


def without_rounds(
    problem: Problem, legs: Sequence[Leg], missed: Set[int | None]
) -> list[Leg]:
    """
    A rotation of which some rounds don't happen.

    The battery in place stays until the next one that comes, and what was to be
    brought stays in the yard.
    """
    lives = lives_of(legs)
    stops = {
        (stop.station, stop.minute) for stop in stops_of(legs) if stop.round in missed
    }
    lost = {battery: _lost_from(life, missed) for battery, life in lives.items()}
    coming: dict[str, list[int]] = {}
    for battery, life in lives.items():
        for leg in life:
            if leg.kind != SERVE:
                continue
            if leg.start_min >= lost[battery]:
                stops.add((leg.place, leg.start_min))  # swapped in by nobody either
            elif (leg.place, leg.start_min) not in stops:
                coming.setdefault(leg.place, []).append(leg.start_min)
    made = []
    for battery, life in lives.items():
        now = 0
        for leg in life:
            start, end = max(now, leg.start_min), leg.end_min
            if leg.start_min >= lost[battery]:
                leg = replace(leg, kind=WAIT, place=YARD, crew="", round=None)
            elif leg.kind == SERVE and (leg.place, leg.end_min) in stops:
                later = [m for m in coming.get(leg.place, []) if m >= leg.end_min]
                end = min(later, default=problem.span_min)
            if end > start:
                made.append(replace(leg, start_min=start, end_min=end))
                now = end
    return made


def _lost_from(life: Sequence[Leg], missed: Set[int | None]) -> float:
    """When a battery is not brought that should be: from then on it is in the yard."""
    for leg, following in itertools.pairwise(life):
        if leg.kind == CARRIED and leg.round in missed and following.station:
            return leg.start_min
    return math.inf
