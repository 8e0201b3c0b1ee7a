"""Which rules legs break, without any physics."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

from powercore.event.plans import CrewPlan
from powercore.event.problem import (
    CARRIED,
    CARRY_KG,
    CHARGE,
    HANDS,
    LIFT_KG,
    SERVE,
    WAIT,
    YARD,
    Leg,
    Problem,
)
from powercore.rotation.verify.report import Broken

#: How long a crew may stay out between two stops beyond going home and out again
#: before its round is two walks. [min]
PAUSE_MIN = 60


def malformed(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    """Legs that name something unknown, or run backwards."""
    places = {
        SERVE: set(problem.stations),
        CHARGE: set(problem.bays),
        WAIT: {YARD, *problem.stations},
        CARRIED: {""},
    }
    for leg in legs:
        if leg.battery not in problem.batteries:
            yield Broken("unknown_battery", f"no battery {leg.battery}")
        elif leg.kind not in places:
            yield Broken("unknown_kind", f"no kind of leg '{leg.kind}'")
        elif leg.place not in places[leg.kind]:
            yield Broken("unknown_place", f"{leg.kind} at '{leg.place}'")
        elif leg.end_min <= leg.start_min:
            yield Broken("leg_not_forward", words_of(problem, leg))
        elif leg.start_min < 0 or leg.end_min > problem.span_min:
            yield Broken("leg_outside_event", words_of(problem, leg))


def _batteries(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    for key, life in by(legs, "battery").items():
        battery = problem.batteries[key]
        if battery.is_on_hold and any(leg.kind != WAIT for leg in life):
            yield Broken("battery_on_hold", f"{battery.tag} is on hold")
        first = life[0]
        if first.start_min != 0:
            yield Broken(
                "battery_lost", f"{battery.tag} is nowhere before {first.start_min}"
            )
        at_yard = battery.start_place == YARD
        may_set_up = at_yard and first.kind in (WAIT, CHARGE, SERVE)
        if problem.scenario.is_under_way and first.station:
            may_set_up = False  # somebody has to carry it there
        # Who is carried at once comes from where it is: from a station nobody could.
        may_go = first.kind == CARRIED and battery.start_place not in problem.stations
        if not may_set_up and not may_go and first.place != battery.start_place:
            yield Broken(
                "wrong_start", f"{battery.tag} starts at {battery.start_place}"
            )
        for before, after in pairwise(life):
            if after.start_min < before.end_min:
                yield Broken("battery_in_two_places", words_of(problem, after))
            elif after.start_min > before.end_min:
                yield Broken(
                    "battery_lost",
                    f"{battery.tag} is nowhere {before.end_min}–{after.start_min}",
                )
            if CARRIED not in (before.kind, after.kind) and (
                before.station != after.station
            ):
                yield Broken(
                    "moved_without_carrying",
                    f"{battery.tag} from {before.place} to {after.place}",
                )
        if life[-1].end_min != problem.span_min:
            yield Broken(
                "battery_lost", f"{battery.tag} is nowhere after {life[-1].end_min}"
            )
    missing = set(problem.batteries) - {leg.battery for leg in legs}
    for key in sorted(missing):
        if not problem.batteries[key].is_on_hold:
            yield Broken(
                "battery_forgotten", f"{problem.batteries[key].tag} has no leg"
            )


def _places(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    for leg in legs:
        if leg.kind == SERVE:
            why = problem.feed(leg.place, leg.battery).refusal
            if why:
                yield Broken(
                    "station_refuses_battery", f"{words_of(problem, leg)}: {why}"
                )
        if leg.kind == CHARGE:
            why = problem.bay_refusal(leg.place, leg.battery)
            if why:
                yield Broken("bay_refuses_battery", f"{words_of(problem, leg)}: {why}")
    holding = [leg for leg in legs if leg.kind in (SERVE, CHARGE)]
    for held in by(holding, "place").values():
        for before, after in pairwise(held):
            if after.start_min < before.end_min:
                yield Broken("place_holds_two", words_of(problem, after))


def _spares(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    """More spares at a station than there is room for; swaps that nobody is for."""
    waiting = [leg for leg in legs if leg.kind == WAIT and leg.station]
    for station, there in by(waiting, "place").items():
        for leg in there:
            count = sum(one.start_min <= leg.start_min < one.end_min for one in there)
            if count > problem.stations[station].spares:
                yield Broken("too_many_spares", words_of(problem, leg))
    for life in by(legs, "battery").values():
        for before, after in pairwise(life):
            is_swap = before.station == after.station != "" and (
                before.kind != after.kind
            )
            if is_swap and not problem.may_swap(after.station, after.start_min):
                yield Broken("nobody_to_swap", words_of(problem, after))


def _carrying(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    life = by(legs, "battery")
    rounds: dict[tuple[str, int], list[tuple[int, int]]] = defaultdict(list)
    stops: dict[tuple[str, int], list[_Stop]] = defaultdict(list)
    for carried, walk in walks_of(problem, life):
        if walk is None:
            yield Broken("carried_between_nowhere", words_of(problem, carried))
            continue
        walk_min = problem.stations[walk.station].walk_min
        if carried.end_min - carried.start_min < walk_min:
            yield Broken(
                "walk_too_short", f"{words_of(problem, carried)}: {walk_min} min"
            )
        if carried.round is None:
            yield Broken("carried_without_round", words_of(problem, carried))
            continue
        rounds[carried.crew, carried.round].append((walk.start_min, walk.end_min))
        minute = carried.end_min if walk.is_out else carried.start_min
        stop = _Stop(minute, walk.station, walk.is_out, carried)
        stops[carried.crew, carried.round].append(stop)
    for (crew, number), found in stops.items():
        times = rounds[crew, number]
        start, end = min(s for s, _ in times), max(e for _, e in times)
        duties = _on_duty(problem, crew, start, end)
        people = max((duty.people for duty in duties), default=1)
        words = f"{crew} on round {number}"
        yield from _one_walk(problem, words, found)
        yield from _load(problem, words, found, people)
    yield from _crews(problem, rounds)


class _Stop(NamedTuple):
    minute: int
    station: str
    #: Whether the battery is brought; else it is taken along.
    is_brought: bool
    carried: Leg


def _one_walk(problem: Problem, words: str, stops: Sequence[_Stop]) -> Iterator[Broken]:
    """What is wrong with a round as one walk from the yard and home again."""
    in_order = sorted(stops, key=lambda stop: (stop.minute, stop.station))
    for before, after in pairwise(in_order):
        passed = after.minute - before.minute
        home = sum(problem.stations[one.station].walk_min for one in (before, after))
        if passed > home + PAUSE_MIN:
            yield Broken("round_not_one_walk", f"{words}: home between its stops")
        if before.station == after.station:
            continue
        least = problem.between_min(before.station, after.station)
        if passed < least:
            yield Broken("round_too_fast", f"{words}: {least} min at least")
    first, last = in_order[0], in_order[-1]
    leaves = first.minute - problem.stations[first.station].walk_min
    back = last.minute + problem.stations[last.station].walk_min
    back = min(back, problem.span_min)
    for stop in stops:
        leg = stop.carried
        if stop.is_brought and leg.start_min > leaves:
            yield Broken("carried_after_crew_left", f"{words}: leaves at {leaves}")
        if not stop.is_brought and leg.end_min < back:
            yield Broken("home_before_its_crew", f"{words}: back at {back}")


def _load(
    problem: Problem, words: str, stops: Sequence[_Stop], people: int
) -> Iterator[Broken]:
    """What is wrong with what a round carries: too heavy, or too many."""
    kg = {stop.carried.battery: problem.mass_kg(stop.carried.battery) for stop in stops}
    each_kg = CARRY_KG if len({stop.station for stop in stops}) > 1 else LIFT_KG
    carried = sum(kg[stop.carried.battery] for stop in stops if stop.is_brought)
    count = sum(stop.is_brought for stop in stops)
    most, most_kg = count, carried
    for minute in sorted({stop.minute for stop in stops}):
        at = [stop for stop in stops if stop.minute == minute]
        for stop in at:
            mass = kg[stop.carried.battery]
            carried += -mass if stop.is_brought else mass
        count += sum(-1 if stop.is_brought else 1 for stop in at)
        most, most_kg = max(most, count), max(most_kg, carried)
    if most_kg > people * each_kg + 1e-9:
        limit = f"{people * each_kg:g} kg"
        yield Broken("round_too_heavy", f"{words}: {most_kg:.1f} of {limit}")
    if most > people * HANDS:
        limit = f"{people * HANDS} in hand"
        yield Broken("round_too_many", f"{words}: {most} of {limit}")


class _Walk(NamedTuple):
    station: str
    #: Whether a battery is brought there; else it is taken from there.
    is_out: bool
    #: There and back, laden or not.
    start_min: int
    end_min: int


def walks_of(
    problem: Problem, lives: dict[str, list[Leg]]
) -> Iterator[tuple[Leg, _Walk | None]]:
    """Each carried leg's walk; None where it leads from or to no station."""
    for life in lives.values():
        for at, leg in enumerate(life):
            if leg.kind == CARRIED:
                yield leg, _walk_of(problem, life, at)


def _walk_of(problem: Problem, life: Sequence[Leg], at: int) -> _Walk | None:
    ends = [life[i] for i in (at - 1, at + 1) if 0 <= i < len(life)]
    stations = [leg.station for leg in ends if leg.station]
    if len(stations) != 1:
        return None
    walk_min = problem.stations[stations[0]].walk_min
    is_out = at + 1 < len(life) and life[at + 1].station != ""
    start, end = life[at].start_min, life[at].end_min
    if is_out:
        return _Walk(stations[0], True, start, end + walk_min)
    return _Walk(stations[0], False, start - walk_min, end)


def _crews(
    problem: Problem, rounds: dict[tuple[str, int], list[tuple[int, int]]]
) -> Iterator[Broken]:
    busy: dict[str, list[tuple[int, int]]] = defaultdict(list)
    for (crew, number), stretches in sorted(rounds.items()):
        start, end = min(s for s, _ in stretches), max(e for _, e in stretches)
        on_duty = _on_duty(problem, crew, start, end)
        is_known = any(
            duty.name == crew and duty.does == "walks"
            for duty in problem.scenario.crews
        )
        if not is_known:
            yield Broken("no_such_crew", f"round {number} by '{crew}'")
        elif not on_duty:
            yield Broken("crew_off_duty", f"{crew} on round {number}, {start} to {end}")
        is_alone = on_duty and all(duty.people < 2 for duty in on_duty)
        must_not = problem.scenario.two_at_night and problem.is_night(start, end)
        if is_alone and must_not:
            yield Broken("alone_at_night", f"{crew} on round {number} at {start}")
        busy[crew].append((start, end))
    for crew, times in busy.items():
        for before, after in pairwise(sorted(times)):
            if after[0] < before[1]:
                yield Broken("crew_on_two_rounds", f"{crew} at {after[0]}")


def _on_duty(problem: Problem, crew: str, start: int, end: int) -> list[CrewPlan]:
    """Duties of a crew that cover a walk."""
    return [
        duty
        for duty in problem.scenario.crews
        if (duty.name, duty.does) == (crew, "walks")
        and duty.start_min <= start
        and end <= duty.end_min
    ]


def _bays(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    settle_min = problem.scenario.settle_min
    for life in by(legs, "battery").values():
        came = -settle_min
        for leg in life:
            if leg.kind == CARRIED:
                came = leg.end_min
            elif leg.kind == CHARGE and leg.start_min < came + settle_min:
                words = words_of(problem, leg)
                yield Broken(
                    "charged_too_soon",
                    f"{words}: back at {came}, {settle_min} min of rest",
                )
    for leg in (leg for leg in legs if leg.kind == CHARGE):
        for minute in (leg.start_min, leg.end_min):
            if minute in (0, problem.span_min):
                continue
            if not problem.is_watched(minute):
                yield Broken(
                    "bay_change_unwatched", f"{words_of(problem, leg)} at {minute}"
                )
        yield from _unminded(problem, leg)


def _unminded(problem: Problem, leg: Leg) -> Iterator[Broken]:
    """
    A charge that goes on while nobody watches, on a bay that must be watched.

    What charges there when it begins goes on until somebody comes.
    """
    if not problem.needs_watch(leg.place, leg.battery):
        return
    is_found = problem.batteries[leg.battery].start_place == leg.place
    since = problem.first_watch_min if is_found and leg.start_min == 0 else 0
    for window in problem.unminded[leg.place]:
        start = max(leg.start_min, window.start_min, since)
        end = min(leg.end_min, window.end_min)
        if end > start:
            yield Broken(
                "charges_unwatched", f"{words_of(problem, leg)}: {start}–{end}"
            )


def by(legs: Sequence[Leg], name: str) -> dict[str, list[Leg]]:
    """Legs by one of their fields, in order of time."""
    groups: dict[str, list[Leg]] = defaultdict(list)
    for leg in sorted(legs, key=lambda leg: (leg.start_min, leg.end_min)):
        groups[getattr(leg, name)].append(leg)
    return groups


def words_of(problem: Problem, leg: Leg) -> str:
    """A leg as a finding names it."""
    tag = (
        problem.batteries[leg.battery].tag if leg.battery in problem.batteries else "?"
    )
    where = (
        problem.stations[leg.place].name if leg.place in problem.stations else leg.place
    )
    return f"{tag} {leg.kind} {where} {leg.start_min}–{leg.end_min}"


def broken_rules(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    """Rules that well-formed legs break, one kind after the other."""
    for rule in (_batteries, _places, _spares, _carrying, _bays):
        yield from rule(problem, legs)
