"""
Make a rotation keep its event's pins, changing as little as can be.

Each battery that breaks a pin, or stands where a pin wants another, is taken out of
the plan and put back by a shortest path over points in time and places: it is where
it was for as many minutes as the pins, the crews and the others allow. Charge is left
out of account: how well such a plan serves, the verifier says, and the search makes
it better. Plain numpy; it always ends, with a plan that breaks no rule or with the
pin that can't be kept and why.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from powercore.errors import PowercoreError
from powercore.event.plans import AWAY, LOW, NO_SWAP, NO_WALK, STAYS, YARD, Pin
from powercore.event.problem import Leg, Problem
from powercore.rotation.compare import key_if_valid
from powercore.rotation.timetable import (
    ON_THE_WAY,
    NoCrewLeft,
    Timetable,
    keeping,
    legs_of,
    places_of,
    timetable,
)
from powercore.rotation.verify import verify
from powercore.values import BoolArray, IntArray

#: What a stop of a walk, a bay change and a swap with a spare count for, in minutes
#: in another place.
STOP_MIN, BAY_MIN, SWAP_MIN = 15.0, 5.0, 5.0
#: A minute at a station that needs a battery and has none counts for less.
HELPS = 0.3
#: Points for walks beside those of the plan. [min]
STEP_MIN = 15
_NEVER = np.inf


class PinRefused(PowercoreError):
    """No rotation of the event keeps this pin; the words say why."""

    def __init__(self, problem: Problem, pin: Pin, words: str) -> None:
        super().__init__(f"“{said(problem, pin)}” can't be kept: {words}.")
        self.pin = pin
        self.words = words


def repaired(
    problem: Problem, legs: Sequence[Leg], *, keep_until_min: int = 0
) -> tuple[Leg, ...]:
    """
    Return a rotation that keeps all pins and breaks no other rule.

    Parameters
    ----------
    problem : Problem
        The event with its pins.
    legs : sequence of Leg
        A rotation that breaks no rule but, it may be, pins.
    keep_until_min : int
        Nothing that happens before is changed, nor a walk that is under way. [min]

    Returns
    -------
    tuple of Leg
        The rotation given, when it keeps all pins already.

    Raises
    ------
    PinRefused
        If a pin can't be kept, alone or with the others.
    ValueError
        If a rule is broken without any pin.
    """
    report = verify(problem, legs)
    if report.is_valid:
        return tuple(legs)
    if not problem.scenario.pins:
        raise ValueError(f"The rotation breaks {report.broken[0].rule}.")
    table, at = _laid_out(problem, legs, keep_until_min)
    wrong = _wrong(table, at)
    pinned = {pin.battery for pin in problem.scenario.pins if pin.kind == STAYS}
    every = list(range(len(table.batteries)))
    for loose, may in (
        (wrong, table.may),
        (every, table.may),
        (every, _without_bays(table)),
    ):
        found = []
        for sign in (1, -1):
            turn = [(table.batteries[b] not in pinned, sign * b, b) for b in loose]
            order = [b for _, _, b in sorted(turn)]
            made = _put_back(replace(table, may=may), at, order)
            key = key_if_valid(problem, made) if made is not None else None
            if made is not None and key is not None:
                found.append((key, made))
        if found:
            return min(found, key=lambda one: one[0])[1]
    raise _refusal(problem, legs, keep_until_min)


def _laid_out(
    problem: Problem, legs: Sequence[Leg], keep_until_min: int
) -> tuple[Timetable, IntArray]:
    edges = [minute for leg in legs for minute in (leg.start_min, leg.end_min)]
    # Walks that are there or back just when a pin begins or ends.
    ends = [m for pin in problem.scenario.pins for m in (pin.start_min, pin.end_min)]
    walks = {one.walk_min for one in problem.stations.values()}
    ends += [m + sign * walk for m in ends for walk in walks for sign in (-1, 1)]
    table = timetable(problem, step_min=STEP_MIN, extra=[*edges, *ends, keep_until_min])
    at = places_of(table, legs)
    return keeping(table, at, keep_until_min) if keep_until_min else table, at


def _wrong(table: Timetable, at: IntArray) -> list[int]:
    """Batteries that are where they may not be, or move when nobody may move them."""
    wrong = []
    for number, row in enumerate(at):
        is_there = table.may[number, np.maximum(row, 0), np.arange(table.count)]
        stops = _stops(table, row)
        if (
            not is_there.all()
            or any(not table.duty[s, i] for s, i in stops)
            or any(not table.swaps[rack, i] for rack, i in _swaps(table, row))
        ):
            wrong.append(number)
    return wrong


def _swaps(table: Timetable, row: IntArray) -> list[tuple[int, int]]:
    """Racks and points at which operators put a spare to use or take it off."""
    found = []
    for i in np.flatnonzero(np.diff(row)) + 1:
        before, now = (table.station_of(int(place)) for place in (row[i - 1], row[i]))
        if before == now >= 0:
            found.append((table.rack_at.tolist().index(now), int(i)))
    return found


def _stops(table: Timetable, row: IntArray) -> list[tuple[int, int]]:
    """Stations and points at which a battery comes or leaves."""
    found = []
    for i in np.flatnonzero(np.diff(row)) + 1:
        before, now = (table.station_of(int(place)) for place in (row[i - 1], row[i]))
        if before != now:
            found += [(station, int(i)) for station in (before, now) if station >= 0]
    return found


def _without_bays(table: Timetable) -> BoolArray:
    """Where batteries may be when none charges that needn't."""
    may = table.may.copy()
    first = 1 + len(table.stations)
    bays = slice(first, table.first_rack)
    elsewhere = np.any(may[:, :first], axis=1)
    may[:, bays] &= ~np.asarray(elsewhere)[:, None, :]
    for number, place in enumerate(table.start_at):
        if first <= place < table.first_rack:
            may[number, place] = table.may[number, place]
    return may


# --- least change -----------------------------------------------------------------


@dataclass(slots=True)
class _Others:
    """What the batteries on the table leave for the next one."""

    is_taken: BoolArray
    #: How many wait in each rack for spares.
    racked: IntArray
    used: IntArray
    stops: set[tuple[int, int]]

    @classmethod
    def of(cls, table: Timetable, at: IntArray, rows: Iterable[int]) -> _Others:
        taken = np.zeros((table.places, table.count), dtype=bool)
        racked = np.zeros((table.rack_at.size, table.count), dtype=np.int64)
        used = np.zeros(table.problem.span_min, dtype=np.int64)
        made = cls(taken, racked, used, set())
        for number in rows:
            made.add(table, at[number])
        return made

    def add(self, table: Timetable, row: IntArray) -> None:
        """Put one battery's life on the table."""
        placed = row > 0
        self.is_taken[row[placed], np.flatnonzero(placed)] = True
        spare = np.flatnonzero(row >= table.first_rack)
        self.racked[row[spare] - table.first_rack, spare] += 1
        racks = slice(table.first_rack, None)
        self.is_taken[racks] = self.racked >= table.rack_room[:, None]
        for station, i in _stops(table, row):
            if (station, i) not in self.stops:
                self.stops.add((station, i))
                self.used[self._minutes(table, station, i)] += 1

    def may_stop(self, table: Timetable, station: int, i: int) -> bool:
        """Whether somebody comes to a station at a point anyway, or could."""
        if (station, i) in self.stops:
            return True
        during = self._minutes(table, station, i)
        return bool(
            table.duty[station, i] and np.all(self.used[during] < table.crews[during])
        )

    @staticmethod
    def _minutes(table: Timetable, station: int, i: int) -> slice:
        minute, walk = int(table.points[i]), int(table.walk_min[station])
        return slice(max(0, minute - walk), minute + walk)


def _put_back(
    table: Timetable, at: IntArray, order: Sequence[int]
) -> tuple[Leg, ...] | None:
    """Put batteries back one by one; None when one finds no way."""
    at = at.copy()
    loose = set(order)
    others = _Others.of(table, at, (b for b in range(len(at)) if b not in loose))
    for number in order:
        row = _least_changed(table, number, at[number], others)
        if row is None:
            return None
        at[number] = row
        others.add(table, row)
    try:
        return legs_of(table, at)
    except NoCrewLeft:
        return None


def _least_changed(
    table: Timetable, battery: int, old: IntArray, others: _Others
) -> IntArray | None:
    """The life of a battery that is most like an old one; None when there is none."""
    return _Path(table, battery, old, others).found()


class _Path:
    """
    The shortest path of one battery's life.

    Its length is minutes in another place than before, and something for each stop
    and bay change.
    """

    def __init__(
        self, table: Timetable, battery: int, old: IntArray, others: _Others
    ) -> None:
        self.table, self.others = table, others
        self.stations, self.count = len(table.stations), table.count
        places = table.places
        may = table.may[battery] & ~others.is_taken
        minutes = np.diff(table.points).astype(float)
        strays = np.where(np.arange(places)[:, None] == old, 0.0, minutes)
        strays[1 : 1 + self.stations] *= np.where(table.need_wh > 0, HELPS, 1.0)
        self.cost = np.where(may, strays, _NEVER)
        # A way leads through intervals in which it might be in the yard.
        strays = np.where(old == ON_THE_WAY, 0.0, minutes)
        self.strays = np.concatenate([[0.0], np.cumsum(strays)])
        self.blocked = np.concatenate([[0], np.cumsum(~may[0])])
        # Best to be in a place through an interval, and to be in the yard at a
        # point; and where it was before each: a place, and the point of leaving it.
        self.inside = np.full((places, self.count), _NEVER)
        self.home = np.full(self.count + 1, _NEVER)
        self.came = np.full((places, self.count, 2), -1, dtype=np.int64)
        self.homed = np.full((self.count + 1, 2), -1, dtype=np.int64)
        self.first = int(table.start_at[battery])
        #: Places at stations, with their stations; and the use and the rack of a
        #: station, each with the other and the row of the rack.
        self.visited = [
            (place, table.station_of(place))
            for place in range(places)
            if table.station_of(place) >= 0
        ]
        self.swaps: dict[int, tuple[int, int]] = {}
        for rack, station in enumerate(table.rack_at.tolist()):
            use, place = 1 + station, table.first_rack + rack
            self.swaps |= {use: (place, rack), place: (use, rack)}

    def found(self) -> IntArray | None:
        """Where the battery is in each interval; None when nothing is possible."""
        at_first = slice(None) if self.first == 0 else self.first
        self.inside[at_first, 0] = self.cost[at_first, 0]
        if self.first == 0:
            self.home[0] = 0.0
        elif swap := self._swapped(self.first, 0):
            self.inside[swap, 0] = self.cost[swap, 0]
        for i in range(1, self.count):
            self._come_home(i)
            for place in np.flatnonzero(self.cost[:, i] < _NEVER).tolist():
                best, origin = self._arrived(place, i)
                if place and self.inside[place, i - 1] < best:
                    best, origin = self.inside[place, i - 1], (place, i)
                swap = self._swapped(place, i)
                if swap and self.inside[swap, i - 1] + SWAP_MIN < best:
                    best, origin = self.inside[swap, i - 1] + SWAP_MIN, (swap, -1)
                self.inside[place, i] = best + self.cost[place, i]
                self.came[place, i] = origin
        last = int(np.argmin(self.inside[:, -1]))
        return None if self.inside[last, -1] == _NEVER else self._traced(last)

    def _come_home(self, i: int) -> None:
        """Be in the yard at a point: from there, off a bay, or from a station."""
        self._home(i, 0, i, 0.0)
        if self.table.watched[i]:
            for place in range(1 + self.stations, self.table.first_rack):
                self._home(i, place, i, BAY_MIN)
        for place, station in self.visited:
            back = int(self.table.back_at[station, i])
            if self.inside[place, i - 1] == _NEVER or not 0 <= back <= self.count:
                continue
            if self._is_free(i, back) and self.others.may_stop(self.table, station, i):
                strays = float(self.strays[back] - self.strays[i])
                self._home(back, place, i, self._stop(station, i) + strays)

    def _home(self, at: int, place: int, left: int, more: float) -> None:
        value = self.inside[place, left - 1] + more
        if value < self.home[at]:
            self.home[at], self.homed[at] = value, (place, left)

    def _is_free(self, first: int, last: int) -> bool:
        return bool(self.blocked[first] == self.blocked[last])

    def _arrived(self, place: int, i: int) -> tuple[float, tuple[int, int]]:
        """Come to a place from the yard, left at an earlier point or now."""
        if place == 0:
            return float(self.home[i]), (0, i)
        station = self.table.station_of(place)
        if station < 0:
            is_watched = self.table.watched[i]
            return float(self.home[i]) + BAY_MIN if is_watched else _NEVER, (0, i)
        out = int(self.table.out_from[station, i])
        if out < 0 or not self._is_free(out, i):
            return _NEVER, (0, i)
        if not self.others.may_stop(self.table, station, i):
            return _NEVER, (0, i)
        strays = float(self.strays[i] - self.strays[out])
        return float(self.home[out]) + self._stop(station, i) + strays, (0, out)

    def _swapped(self, place: int, i: int) -> int:
        """Where operators take a battery from to bring it to a place; 0: nowhere."""
        other, rack = self.swaps.get(place, (0, 0))
        return other if other and self.table.swaps[rack, i] else 0

    def _stop(self, station: int, i: int) -> float:
        return 0.0 if (station, i) in self.others.stops else STOP_MIN

    def _traced(self, place: int) -> IntArray:
        row = np.zeros(self.count, dtype=np.int64)
        i = self.count - 1
        while i >= 0:
            row[i] = place
            before, left = (int(x) for x in self.came[place, i])
            if before > 0:
                place, i = before, i - 1
                continue
            if left < 0:
                break
            row[left:i] = ON_THE_WAY
            before, since = (int(x) for x in self.homed[left])
            if since < 0:
                break
            row[since:left] = ON_THE_WAY
            place, i = before, since - 1
        return row


# --- why not ------------------------------------------------------------------------


def _refusal(problem: Problem, legs: Sequence[Leg], keep_until_min: int) -> PinRefused:
    """Which pin can't be kept, and why; the last that is in the way of the others."""
    pins = problem.scenario.pins
    for pin in (one for one in pins if one.kind != LOW):
        why = _plainly(problem, pin) or _alone(problem, pin, legs, keep_until_min)
        if why:
            return PinRefused(problem, pin, why)
    for number, pin in enumerate(pins):
        for other in pins[:number]:
            if _contradict(pin, other):
                words = f"“{said(problem, other)}” is pinned too, for the same time"
                return PinRefused(problem, pin, words)
    words = "with the other pins no crew or no bay is left for it"
    return PinRefused(problem, pins[-1], words)


def _plainly(problem: Problem, pin: Pin) -> str | None:
    """Why a battery can't stay at a place at all."""
    if pin.kind != STAYS:
        return None
    battery = problem.batteries[pin.battery]
    if battery.is_on_hold:
        return f"{battery.tag} is on hold"
    if pin.place in problem.stations:
        return problem.feed(pin.place, pin.battery).refusal
    return problem.bay_refusal(pin.place, pin.battery)


def _alone(
    problem: Problem, pin: Pin, legs: Sequence[Leg], keep_until_min: int
) -> str | None:
    """Why nothing else than the past stands in a pin's way and it can't be kept."""
    only = Problem(replace(problem.scenario, pins=(pin,)))
    table, at = _laid_out(only, legs, keep_until_min)
    loose = range(len(table.batteries))
    if _put_back(replace(table, may=_without_bays(table)), at, list(loose)) is not None:
        return None
    if pin.kind == AWAY:
        return "what is there can't be taken away by then: no crew is on duty for it"
    if pin.kind == NO_WALK:
        return "a walk that can't be put off falls into it"
    if pin.kind == NO_SWAP:
        return "a swap that can't be put off falls into it"
    tag, start = problem.batteries[pin.battery].tag, problem.batteries[pin.battery]
    if pin.place in problem.stations:
        where = "" if start.start_place == YARD else " from where it is now"
        return f"nobody on duty can bring {tag} there in time{where}"
    return f"nobody watches the yard to put {tag} on that bay in time"


def _contradict(one: Pin, other: Pin) -> bool:
    if one.end_min <= other.start_min or other.end_min <= one.start_min:
        return False
    kinds = {one.kind, other.kind}
    if kinds == {STAYS}:
        same = one.battery == other.battery, one.place == other.place
        return same in ((True, False), (False, True))
    if kinds == {STAYS, AWAY}:
        stays, away = (one, other) if one.kind == STAYS else (other, one)
        return stays.place == away.place and away.battery in ("", stays.battery)
    return False


def said(problem: Problem, pin: Pin) -> str:
    """A pin in words, without its times."""
    tag = problem.batteries[pin.battery].tag if pin.battery else "no battery"
    places = problem.stations | problem.bays
    where = places[pin.place].name if pin.place else "any station"
    if pin.kind == NO_WALK:
        return f"no walk to {where}"
    if pin.kind == NO_SWAP:
        return f"no swap at {where}"
    if pin.kind == LOW:
        return f"low power at {where}"
    if pin.kind == AWAY and pin.battery:
        return f"{tag} not at {where}"
    return f"{tag} at {where}"
