"""
Check a rotation against its problem, independently of whatever made it.

First the rules: each broken one is reported by name. Then the physics: the plan is
replayed event by event, without slots, and the minutes off the air, in reserve and
the watt-hours not served are what really comes out.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from operator import itemgetter
from typing import NamedTuple

import numpy as np

from powercore.event.problem import (
    CARRIED,
    CARRY_KG,
    CHARGE,
    HANDS,
    SERVE,
    WAIT,
    YARD,
    Feed,
    Leg,
    Problem,
)
from powercore.event.scenario import AWAY, LOW, NO_SWAP, NO_WALK, CrewPlan, Pin
from powercore.sun.sources import ENGINES, SUN
from powercore.values import FloatArray


@dataclass(frozen=True, slots=True)
class Broken:
    """A broken rule: its name and what breaks it."""

    rule: str
    words: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Shortfall:
    """A stretch in which a station is off the air or into reserve. [min]"""

    station: str
    what: str
    start_min: float
    end_min: float
    #: Minutes of it in which the station is open.
    open_min: float
    unserved_wh: float
    #: Minutes into reserve, each by the share of the reserve that is gone by then.
    deep_min: float = 0.0


@dataclass(slots=True, kw_only=True)
class Outcome:
    """What really comes out of a rotation."""

    shortfalls: list[Shortfall] = field(default_factory=list)
    #: State of charge at start and end of each leg, in the order of the legs.
    leg_soc: list[tuple[float, float]] = field(default_factory=list)
    served_wh: dict[str, float] = field(default_factory=lambda: defaultdict(float))
    #: Planned breaks of the changeovers, never counted as failure. [min]
    changeover_min: float = 0.0
    walks: int = 0
    #: Walks during which the sun is down at some time.
    night_walks: int = 0
    bay_changes: int = 0
    #: How often one battery takes over from another at a station, by whomever.
    swaps: int = 0
    #: Minutes in which engines run for nothing but these batteries, and what charging
    #: burns. [L]
    engine_min: float = 0.0
    fuel_l: float = 0.0
    #: What each battery gave, in its own capacities.
    cycles: dict[str, float] = field(default_factory=lambda: defaultdict(float))
    #: What all batteries hold at the end. [Wh]
    left_wh: float = 0.0

    def total_min(
        self, what: str, tier: int | None = None, *, tiers: dict[str, int] | None = None
    ) -> float:
        """Open minutes of one kind of shortfall, of all stations or one tier."""
        return sum(
            fall.open_min
            for fall in self.shortfalls
            if fall.what == what
            and (tier is None or (tiers or {}).get(fall.station) == tier)
        )

    @property
    def unserved_wh(self) -> float:
        """Energy asked for and not delivered. [Wh]"""
        return sum(fall.unserved_wh for fall in self.shortfalls)


@dataclass(frozen=True, slots=True, kw_only=True)
class Report:
    """The verdict: broken rules, and what the replay gives."""

    broken: tuple[Broken, ...]
    outcome: Outcome

    @property
    def is_valid(self) -> bool:
        """Whether no rule is broken."""
        return not self.broken


def verify(problem: Problem, legs: Sequence[Leg]) -> Report:
    """
    Check the rules and replay the physics.

    Parameters
    ----------
    problem : Problem
        What the rotation is for.
    legs : sequence of Leg
        The rotation, in any order.

    Returns
    -------
    Report
        With `outcome.leg_soc` in the order of `legs`. When a leg names something
        unknown or runs backwards, only that is reported, and nothing is replayed.
    """
    broken = list(_malformed(problem, legs))
    if broken:
        return Report(broken=tuple(broken), outcome=Outcome())
    for check in (_batteries, _places, _spares, _carrying, _bays, _pins):
        broken += check(problem, legs)
    replay = _Replay(problem, legs)
    outcome = replay.run()
    broken += replay.broken
    return Report(broken=tuple(broken), outcome=outcome)


# --- rules ----------------------------------------------------------------------


def _malformed(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
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
            yield Broken("leg_not_forward", _words(problem, leg))
        elif leg.start_min < 0 or leg.end_min > problem.span_min:
            yield Broken("leg_outside_event", _words(problem, leg))


def _batteries(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    for key, life in _by(legs, "battery").items():
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
        if (
            not may_set_up
            and first.kind != CARRIED
            and first.place != battery.start_place
        ):
            yield Broken(
                "wrong_start", f"{battery.tag} starts at {battery.start_place}"
            )
        for before, after in pairwise(life):
            if after.start_min < before.end_min:
                yield Broken("battery_in_two_places", _words(problem, after))
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
                    "station_refuses_battery", f"{_words(problem, leg)}: {why}"
                )
        if leg.kind == CHARGE:
            why = problem.bay_refusal(leg.place, leg.battery)
            if why:
                yield Broken("bay_refuses_battery", f"{_words(problem, leg)}: {why}")
    holding = [leg for leg in legs if leg.kind in (SERVE, CHARGE)]
    for held in _by(holding, "place").values():
        for before, after in pairwise(held):
            if after.start_min < before.end_min:
                yield Broken("place_holds_two", _words(problem, after))


def _spares(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    """More spares at a station than there is room for; swaps that nobody is for."""
    waiting = [leg for leg in legs if leg.kind == WAIT and leg.station]
    for station, there in _by(waiting, "place").items():
        for leg in there:
            count = sum(one.start_min <= leg.start_min < one.end_min for one in there)
            if count > problem.stations[station].spares:
                yield Broken("too_many_spares", _words(problem, leg))
    for life in _by(legs, "battery").values():
        for before, after in pairwise(life):
            is_swap = before.station == after.station != "" and (
                before.kind != after.kind
            )
            if is_swap and not problem.may_swap(after.station, after.start_min):
                yield Broken("nobody_to_swap", _words(problem, after))


def _carrying(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    life = _by(legs, "battery")
    rounds: dict[tuple[str, int], list[tuple[int, int]]] = defaultdict(list)
    stops: dict[tuple[str, int], list[_Stop]] = defaultdict(list)
    for carried, walk in _walks(problem, life):
        if walk is None:
            yield Broken("carried_between_nowhere", _words(problem, carried))
            continue
        walk_min = problem.stations[walk.station].walk_min
        if carried.end_min - carried.start_min < walk_min:
            yield Broken(
                "walk_too_short", f"{_words(problem, carried)}: {walk_min} min"
            )
        if carried.round is None:
            yield Broken("carried_without_round", _words(problem, carried))
            continue
        rounds[carried.crew, carried.round].append((walk.start_min, walk.end_min))
        minute = carried.end_min if walk.is_out else carried.start_min
        mass = problem.mass_kg(carried.battery)
        stop = _Stop(minute, walk.station, walk.is_out, mass)
        stops[carried.crew, carried.round].append(stop)
    for (crew, number), found in stops.items():
        if len({stop.station for stop in found}) > 1:
            times = rounds[crew, number]
            start, end = min(s for s, _ in times), max(e for _, e in times)
            duties = _on_duty(problem, crew, start, end)
            people = max((duty.people for duty in duties), default=1)
            words = f"{crew} on round {number}"
            yield from _several(problem, words, found, people)
    yield from _crews(problem, rounds)


class _Stop(NamedTuple):
    minute: int
    station: str
    #: Whether the battery is brought; else it is taken along.
    is_brought: bool
    mass_kg: float


def _several(
    problem: Problem, words: str, stops: Sequence[_Stop], people: int
) -> Iterator[Broken]:
    """What is wrong with a round to several stations: too fast, or too much."""
    in_order = sorted(stops, key=lambda stop: (stop.minute, stop.station))
    for before, after in pairwise(in_order):
        if before.station == after.station:
            continue
        least = problem.between_min(before.station, after.station)
        if after.minute - before.minute < least:
            yield Broken("round_too_fast", f"{words}: {least} min at least")
    carried = sum(stop.mass_kg for stop in stops if stop.is_brought)
    count = sum(stop.is_brought for stop in stops)
    most, most_kg = count, carried
    for minute in sorted({stop.minute for stop in stops}):
        at = [stop for stop in stops if stop.minute == minute]
        carried -= sum(stop.mass_kg for stop in at if stop.is_brought)
        carried += sum(stop.mass_kg for stop in at if not stop.is_brought)
        count += sum(-1 if stop.is_brought else 1 for stop in at)
        most, most_kg = max(most, count), max(most_kg, carried)
    if most_kg > people * CARRY_KG + 1e-9:
        limit = f"{people * CARRY_KG:g} kg"
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


def _walks(
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
    for life in _by(legs, "battery").values():
        came = -settle_min
        for leg in life:
            if leg.kind == CARRIED:
                came = leg.end_min
            elif leg.kind == CHARGE and leg.start_min < came + settle_min:
                yield Broken(
                    "charged_too_soon",
                    f"{_words(problem, leg)}: back at {came}, {settle_min} min of rest",
                )
    for leg in (leg for leg in legs if leg.kind == CHARGE):
        for minute in (leg.start_min, leg.end_min):
            if minute in (0, problem.span_min):
                continue
            if not problem.is_watched(minute):
                yield Broken(
                    "bay_change_unwatched", f"{_words(problem, leg)} at {minute}"
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
            yield Broken("charges_unwatched", f"{_words(problem, leg)}: {start}–{end}")


def broken_pin(problem: Problem, legs: Sequence[Leg], pin: Pin) -> tuple[Broken, ...]:
    """
    Return how a rotation breaks one pin, empty if it keeps it.

    The pin's battery and place must be the event's; its legs must be well formed.
    """
    if pin.kind == NO_WALK:
        return tuple(_walks_in(problem, legs, pin))
    if pin.kind == NO_SWAP:
        return tuple(_swaps_in(problem, legs, pin))
    if pin.kind == LOW:
        return ()  # what the station asks for is the problem's
    start, end = pin.start_min, min(pin.end_min, problem.span_min)
    there = [
        leg
        for leg in legs
        if leg.place == pin.place
        and pin.battery in ("", leg.battery)
        and leg.start_min < end
        and start < leg.end_min
    ]
    if pin.kind == AWAY:
        return tuple(Broken("pinned_away", _words(problem, leg)) for leg in there)
    away = end - start
    away -= sum(
        min(x.end_min, end) - max(x.start_min, start) for x in there if x.kind != WAIT
    )
    if away <= 0:
        return ()
    tag = problem.batteries[pin.battery].tag
    return (Broken("pinned_stay", f"{tag} is away for {away} min"),)


def _pins(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    for pin in problem.scenario.pins:
        yield from broken_pin(problem, legs, pin)


def _walks_in(problem: Problem, legs: Sequence[Leg], pin: Pin) -> Iterator[Broken]:
    for leg, walk in _walks(problem, _by(legs, "battery")):
        if walk is None or pin.place not in ("", walk.station):
            continue
        if walk.start_min < pin.end_min and pin.start_min < walk.end_min:
            yield Broken("pinned_no_walk", _words(problem, leg))


def _swaps_in(problem: Problem, legs: Sequence[Leg], pin: Pin) -> Iterator[Broken]:
    for leg in legs:
        if leg.kind != SERVE or pin.place not in ("", leg.place):
            continue
        for minute, edge in ((leg.start_min, 0), (leg.end_min, problem.span_min)):
            if minute != edge and pin.start_min <= minute < pin.end_min:
                yield Broken("pinned_no_swap", f"{_words(problem, leg)} at {minute}")


def _by(legs: Sequence[Leg], name: str) -> dict[str, list[Leg]]:
    groups: dict[str, list[Leg]] = defaultdict(list)
    for leg in sorted(legs, key=lambda leg: (leg.start_min, leg.end_min)):
        groups[getattr(leg, name)].append(leg)
    return groups


def _words(problem: Problem, leg: Leg) -> str:
    tag = (
        problem.batteries[leg.battery].tag if leg.battery in problem.batteries else "?"
    )
    where = (
        problem.stations[leg.place].name if leg.place in problem.stations else leg.place
    )
    return f"{tag} {leg.kind} {where} {leg.start_min}–{leg.end_min}"


# --- physics --------------------------------------------------------------------


class _Replay:
    """Replays a rotation from one event to the next."""

    def __init__(self, problem: Problem, legs: Sequence[Leg]) -> None:
        self.problem, self.edges = problem, problem.grid.edges_min
        self.legs = legs
        self.soc = {key: b.start_soc for key, b in problem.batteries.items()}
        self.start_soc: dict[int, float] = {}
        self.end_soc: dict[int, float] = {}
        self.store_wh = {
            key: source.energy_wh for key, source in problem.sources.items()
        }
        #: Sources as they are, with all they can give.
        self.planned = {one.key: one for one in problem.scenario.sources}
        self.outcome = Outcome()
        self.broken: list[Broken] = []
        #: Legs whose power has ended, and when.
        self._cut_at: dict[int, float] = {}

    def run(self) -> Outcome:
        """Replay from start to end."""
        times = self._times()
        begins: dict[int, list[tuple[int, Leg]]] = defaultdict(list)
        for i, leg in enumerate(self.legs):
            begins[leg.start_min].append((i, leg))
        now: list[tuple[int, Leg]] = []
        for start, end in pairwise(times):
            still = [(i, leg) for i, leg in now if start < leg.end_min]
            now = sorted(still + begins[start], key=itemgetter(0))
            for i, leg in now:
                self.start_soc.setdefault(i, self.soc[leg.battery])
            self._fill_banks(start, end)
            self._charge([leg for _, leg in now if leg.kind == CHARGE], start, end)
            serving = {leg.place: (i, leg) for i, leg in now if leg.kind == SERVE}
            for station in self.problem.stations:
                self._serve(station, serving.get(station), start, end)
            for i, leg in now:
                self.end_soc[i] = self.soc[leg.battery]
        self.outcome.leg_soc = [
            (self.start_soc[i], self.end_soc[i]) for i in range(len(self.legs))
        ]
        self._count()
        for key, soc in self.soc.items():
            pack = self.problem.batteries[key].pack
            self.outcome.left_wh += soc * pack.trusted_wh
        self.outcome.shortfalls = _joined(self.outcome.shortfalls)
        return self.outcome

    def _times(self) -> list[int]:
        times = {0, self.problem.span_min}
        for leg in self.legs:
            times |= {leg.start_min, leg.end_min}
        for source in self.problem.sources.values():
            for window in source.windows:
                times |= {window.start_min, window.end_min}
        step = self.problem.grid.step_min
        changing = [*self.problem.offered_w.values(), *self.problem.fills_w.values()]
        changing += [
            self.problem.yard_sun_w[key]
            for key, source in self.problem.sources.items()
            if source.kind == SUN
        ]
        for watts in changing:
            for i in np.flatnonzero(watts > 0):
                times |= {int(i) * step, int(i + 1) * step}
        return sorted(time for time in times if 0 <= time <= self.problem.span_min)

    def _serve(
        self, station: str, served_by: tuple[int, Leg] | None, start: int, end: int
    ) -> None:
        asked = self.problem.asked_wh[station]
        need_wh = self._at(asked, end) - self._at(asked, start)
        if served_by is None:
            self._short(station, "off_air", start, end)
            return
        i, leg = served_by
        feed = self.problem.feed(station, leg.battery)
        soc = self.soc[leg.battery]
        step, hours = start // self.problem.grid.step_min, (end - start) / 60
        if self._is_still_cut(i, feed, start):
            offered_w = float(self.problem.offered_w[station][step])
            self._top_up(leg.battery, station, offered_w, hours)
            drawn = self.problem.drawn_wh[station]
            opens = self._when(drawn, start, 0.0)
            self._short(station, "off_air", opens, end)
            return
        if need_wh <= 0:
            surplus_w = float(self.problem.surplus_w[station][step])
            self._top_up(leg.battery, station, surplus_w, hours)
        left_wh = max(0.0, (soc - feed.floor_soc) * feed.capacity_wh)
        given_wh = min(need_wh, left_wh)
        self.soc[leg.battery] -= given_wh / feed.capacity_wh
        self.outcome.cycles[leg.battery] += given_wh / feed.capacity_wh
        self.outcome.served_wh[station] += given_wh
        cut_at = float(end)
        if need_wh > left_wh + 1e-9:
            cut_at = self._when(asked, start, left_wh)
            self._cut_at[i] = cut_at
            self._short(station, "off_air", cut_at, end)
        above_wh = max(0.0, (soc - feed.reserve_soc) * feed.capacity_wh)
        if given_wh > above_wh + 1e-9:
            at = self._when(asked, start, above_wh)
            below_wh = max(0.0, (feed.reserve_soc - soc) * feed.capacity_wh)
            deep_min = self._below(asked, at, cut_at, below_wh) / feed.reserve_wh
            self._short(station, "reserve", at, cut_at, deep_min)

    def _below(
        self, asked: FloatArray, start: float, end: float, below_wh: float
    ) -> float:
        """Minutes × watt-hours below reserve, from so many on. [Wh min]"""
        area, now, step = 0.0, start, self.problem.grid.step_min
        while now < end:
            then = min(end, step * (now // step + 1))
            more_wh = self._at(asked, then) - self._at(asked, now)
            area += (below_wh + more_wh / 2) * (then - now)
            now, below_wh = then, below_wh + more_wh
        return area

    def _is_still_cut(self, number: int, feed: Feed, minute: int) -> bool:
        """Whether power that ended has not come back: by charge, after its rest."""
        if number not in self._cut_at:
            return False
        leg = self.legs[number]
        rest_min = self.problem.stations[leg.place].rest_min
        has_rested = minute - self._cut_at[number] >= rest_min
        if has_rested and self.soc[leg.battery] >= feed.reconnect_soc:
            del self._cut_at[number]
            return False
        return True

    def _top_up(self, battery: str, station: str, watts: float, hours: float) -> None:
        """Charge a battery at its station by what is left over, in one step."""
        if watts <= 0:
            return
        model = self.problem.field_model(battery, station)
        stored = self.soc[battery] * model.capacity
        offered = watts / self.problem.bay_w(battery, 1.0)
        gain = min(offered, model.rate_at(stored)) * hours
        self.soc[battery] = min(1.0, (stored + gain) / model.capacity)

    def _fill_banks(self, start: int, end: int) -> None:
        """Fill the buffer banks with what sun and other sources give them."""
        step = start // self.problem.grid.step_min
        for key, store in self.store_wh.items():
            if store is not None:
                source = self.problem.sources[key]
                watts = float(self.problem.yard_sun_w[key][step])
                if self.problem.is_filled(source, start):
                    watts += source.fill_w
                room = max(0.0, (source.holds_wh or 0.0) - store)
                self.store_wh[key] = store + min(watts * (end - start) / 60, room)

    def _charge(self, charging: list[Leg], start: int, end: int) -> None:
        by_source: dict[str, list[Leg]] = defaultdict(list)
        for leg in charging:
            by_source[self.problem.bays[leg.place].source].append(leg)
        for source, legs in by_source.items():
            if not self.problem.source_is_on(source, start):
                continue
            watts = sum(self._bay_w(leg) for leg in legs)
            most_w, share = self.problem.sources[source].max_w, 1.0
            if self.problem.sources[source].kind == SUN:
                # All get the same part of what they ask for.
                step = start // self.problem.grid.step_min
                most_w = min(most_w, float(self.problem.yard_sun_w[source][step]))
                share = min(1.0, most_w / watts) if watts > 0 else 1.0
            elif watts > most_w + 1e-6:
                self.broken.append(
                    Broken(
                        "source_overloaded",
                        f"{watts:.0f} W of {most_w:.0f} W at {start}",
                    )
                )
            hours = (end - start) / 60
            store = self.store_wh[source]
            if store is not None:
                hours = self._hours_in_store(legs, hours, store)
            all_wh = 0.0
            for leg in legs:
                before, after = self.soc[leg.battery], self._soc_after(leg, hours)
                taken_wh = self._gained_wh(leg, after - before)
                self.soc[leg.battery] = share * after + (1 - share) * before
                all_wh += share * taken_wh
                if store is not None:
                    store -= taken_wh
            self._burn(source, watts, all_wh, hours)
            self.store_wh[source] = store

    def _burn(self, source: str, watts: float, taken_wh: float, hours: float) -> None:
        """Count what an engine does for batteries: all of it, or what they add."""
        plan = self.planned[source]
        if plan.kind not in ENGINES or watts <= 0:
            return
        is_extra = not self.problem.is_running_anyway(source)
        self.outcome.engine_min += 60 * hours * is_extra
        if plan.fuel is not None and plan.max_w > 0:
            self.outcome.fuel_l += plan.fuel.slope_l_h * taken_wh / plan.max_w
            self.outcome.fuel_l += float(plan.fuel.burns_l_h(0.0)) * hours * is_extra

    def _hours_in_store(self, legs: list[Leg], hours: float, store_wh: float) -> float:
        """Hours until a buffer bank runs dry, at the most `hours`; by bisection."""

        def taken(h: float) -> float:
            return sum(self._taken_wh(leg, h) for leg in legs)

        if taken(hours) <= store_wh:
            return hours
        low, high = 0.0, hours
        for _ in range(50):
            middle = (low + high) / 2
            low, high = (middle, high) if taken(middle) <= store_wh else (low, middle)
        return low

    def _bay_w(self, leg: Leg) -> float:
        model = self.problem.charge_model(leg.place, leg.battery)
        rate = model.rate_at(self.soc[leg.battery] * model.capacity)
        return self.problem.bay_w(leg.battery, rate)

    def _soc_after(self, leg: Leg, hours: float) -> float:
        model = self.problem.charge_model(leg.place, leg.battery)
        return (
            model.after(self.soc[leg.battery] * model.capacity, hours) / model.capacity
        )

    def _taken_wh(self, leg: Leg, hours: float) -> float:
        gain = self._soc_after(leg, hours) - self.soc[leg.battery]
        return self._gained_wh(leg, gain)

    def _gained_wh(self, leg: Leg, gain: float) -> float:
        model = self.problem.charge_model(leg.place, leg.battery)
        return self.problem.bay_w(leg.battery, gain * model.capacity)

    def _drawn(self, station: str, minute: float) -> float:
        return self._at(self.problem.drawn_wh[station], minute)

    def _at(self, cumulative: FloatArray, minute: float) -> float:
        """A sum that grows evenly in each step, at a minute."""
        step = self.problem.grid.step_min
        i = int(minute // step)
        if i >= cumulative.size - 1:
            return float(cumulative[-1])
        before, after = cumulative.item(i), cumulative.item(i + 1)
        return (after - before) / step * (minute - i * step) + before

    def _when(self, drawn: FloatArray, start: float, energy_wh: float) -> float:
        """Minute at which some energy was drawn since a minute."""
        target = self._at(drawn, start) + energy_wh
        edges = self.edges
        i = int(np.searchsorted(drawn, target, side="right"))
        if i >= drawn.size:
            return float(edges[-1])
        share = (target - drawn[i - 1]) / (drawn[i] - drawn[i - 1])
        return max(
            float(start), float(edges[i - 1] + share * self.problem.grid.step_min)
        )

    def _short(
        self,
        station: str,
        what: str,
        start: float,
        end: float,
        deep_min: float = 0.0,
    ) -> None:
        opened = self.problem.open_min[station]
        open_min = self._at(opened, end) - self._at(opened, start)
        if open_min <= 1e-9:
            return
        unserved = 0.0
        if what == "off_air":
            unserved = self._drawn(station, end) - self._drawn(station, start)
        self.outcome.shortfalls.append(
            Shortfall(
                station=station,
                what=what,
                start_min=start,
                end_min=end,
                open_min=open_min,
                unserved_wh=unserved,
                deep_min=deep_min,
            )
        )

    def _count(self) -> None:
        rounds: dict[tuple[str, int | None], bool] = defaultdict(bool)
        for leg, walk in _walks(self.problem, _by(self.legs, "battery")):
            rounds[leg.crew, leg.round] |= walk is not None and self.problem.is_night(
                walk.start_min, walk.end_min
            )
        self.outcome.walks = len(rounds)
        self.outcome.night_walks = sum(rounds.values())
        span = self.problem.span_min
        for leg in self.legs:
            if leg.kind == CHARGE:
                self.outcome.bay_changes += (leg.start_min > 0) + (leg.end_min < span)
            if leg.kind == SERVE and leg.start_min > 0:
                seconds = self.problem.stations[leg.place].changeover_s
                self.outcome.changeover_min += seconds / 60
                self.outcome.swaps += 1


def _joined(falls: list[Shortfall]) -> list[Shortfall]:
    """Join stretches that touch."""
    joined: list[Shortfall] = []
    for fall in sorted(falls, key=lambda f: (f.station, f.what, f.start_min)):
        last = joined[-1] if joined else None
        if (
            last is not None
            and (last.station, last.what) == (fall.station, fall.what)
            and fall.start_min - last.end_min < 1e-6
        ):
            joined[-1] = replace(
                last,
                end_min=fall.end_min,
                open_min=last.open_min + fall.open_min,
                unserved_wh=last.unserved_wh + fall.unserved_wh,
                deep_min=last.deep_min + fall.deep_min,
            )
        else:
            joined.append(fall)
    return sorted(joined, key=lambda f: (f.start_min, f.station))
