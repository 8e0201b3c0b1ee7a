"""Ruin and recreate: batteries taken out of a table and put back one by one."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from powercore.rotation.tours.arrays import (
    DEAD,
    Arrays,
    Fees,
    Left,
    Room,
    State,
    compiled,
    workspace,
)
from powercore.rotation.tours.path import best_tour
from powercore.rotation.tours.prices import stop_prices, value_of
from powercore.rotation.tours.table import laid, lay, put
from powercore.rotation.tours.together import is_shared, settle
from powercore.values import FloatArray, IntArray


class Effort(NamedTuple):
    """How a search goes about it."""

    #: How often something is taken out and put back.
    rounds: int
    seed: int
    #: How much worse a plan may become at the start, as a share of what all demand
    #: is worth; it falls to nothing.
    heat: float
    #: Into how many buckets charge is cut.
    buckets: int
    #: Most batteries taken out at once.
    most: int


class _Kept(NamedTuple):
    """The tours of some batteries as they were."""

    at: IntArray
    soc: FloatArray
    share: FloatArray
    below: FloatArray
    watts: FloatArray
    took: FloatArray


@compiled
def _lost(t: Arrays, state: State) -> FloatArray:
    """What is not served of each station's worth in each interval. (S, P)"""
    stations, seats, intervals = t.walk_min.size, t.worth.shape[0], t.worth.shape[1]
    lost = np.zeros((stations, intervals))
    for x in range(stations):
        for j in range(intervals):
            if state.rent_s[x, j] < np.inf:
                lost[x, j] = t.worth[x, j]
    for b in range(state.at.shape[0]):
        for j in range(intervals):
            p = state.at[b, j]
            if 0 < p <= seats:
                got = state.share[b, j] * t.worth[p - 1, j]
                x = t.seat_at[p - 1]
                lost[x, j] = max(0.0, t.worth[x, j] - got)
    return lost


@compiled
def _where(t: Arrays, state: State) -> tuple[int, int]:
    """A station and an interval: mostly where something is not served, else any."""
    stations, intervals = t.walk_min.size, t.worth.shape[1]
    s, i = np.random.randint(stations), np.random.randint(intervals)
    if np.random.random() < 0.7:
        lost = _lost(t, state)
        total = lost.sum()
        if total > 1e-9:
            mark = np.random.random() * total
            for x in range(stations):
                for j in range(intervals):
                    mark -= lost[x, j]
                    if mark <= 0.0 and lost[x, j] > 0.0:
                        return x, j
                if mark <= 0.0:
                    break
    return s, i


@compiled
def _chosen(count: int, t: Arrays, state: State) -> IntArray:
    """Related batteries: around one stretch of one station, and some at random."""
    at, seats, intervals = state.at, t.worth.shape[0], t.worth.shape[1]
    batteries = at.shape[0]
    picked = np.full(count, -1, dtype=np.int64)
    n = 0
    s, i = _where(t, state)
    for width in range(intervals):
        if n >= (count + 1) // 2 or width > 2 + intervals // 4:
            break
        for j in (i - width, i + width):
            if 0 <= j < intervals:
                for b in range(batteries):
                    is_there = 0 < at[b, j] <= seats and t.seat_at[at[b, j] - 1] == s
                    if is_there and n < count and not np.any(picked == b):
                        picked[n] = b
                        n += 1
    for _ in range(50 * count):
        if n >= count:
            break
        b = np.random.randint(batteries)
        if not np.any(picked == b):
            picked[n] = b
            n += 1
    return picked[:n]


@compiled
def _interests(interest: FloatArray, count: int) -> None:
    """What a watt-hour seems worth for once: low, and nothing in some stretches."""
    low = 0.2 + 0.8 * np.random.random()
    masked = np.random.random() * 0.8
    for s in range(interest.shape[0]):
        interest[s] = low
        if np.random.random() < masked:
            first = np.random.randint(count)
            last = first + 1 + np.random.randint(max(1, count // 2))
            interest[s, first:last] = 0.0


@compiled
def _coming(
    s: int, i: int, since: int, may_begin: bool, t: Arrays, state: State
) -> int:
    """A stop before a point that a battery in the yard since another could join."""
    found, seen = -1, 0
    for j in range(i):
        joins = state.stops[s, j] > 0 and t.out_from[s, j] >= since
        if joins or (j == 0 and since == 0 and may_begin):
            seen += 1
            if np.random.randint(seen) == 0:
                found = j
    return found


@compiled
def _going(s: int, i: int, until: int, t: Arrays, state: State) -> int:
    """A stop after a point, or the end, for a battery not wanted until another."""
    count, found, seen = state.at.shape[1], -1, 0
    for j in range(i + 1, count + 1):
        joins = j < count and state.stops[s, j] > 0 and 0 <= t.back_at[s, j] <= until
        if joins or (j == count and until == count):
            seen += 1
            if np.random.randint(seen) == 0:
                found = j
    return found


@compiled
def _brought(r: int, t: Arrays, state: State) -> tuple[int, int, int]:
    """
    A stop at the station of a rack that brings a battery, chosen at random.

    Returns
    -------
    new, old, i : int
        What comes and what goes, -1 for nothing; the point. Without such a stop
        nothing comes.
    """
    at, count, s = state.at, state.at.shape[1], t.rack_at[r]
    new, old, i, first = -1, -1, 0, np.random.randint(count)
    for n in range(count):
        i = (first + n) % count
        if i == 0 or state.stops[s, i] == 0 or not t.swaps[r, i]:
            continue
        new, old = -1, -1
        for b in range(at.shape[0]):
            before, now = t.station_at[at[b, i - 1]], t.station_at[at[b, i]]
            if at[b, i] == s + 1 and before != s:
                new = b
            if at[b, i - 1] == s + 1 and now != s:
                old = b
        if new >= 0:
            break
    return new, old, i


@compiled
def _idle(new: int, s: int, i: int, back: int, t: Arrays, state: State) -> int:
    """A battery that stands idle and could come in another's stead, if there is one."""
    at = state.at
    start = np.random.randint(at.shape[0])
    for n in range(at.shape[0]):
        b = (start + n) % at.shape[0]
        if np.all(at[b, i - 1 : back] == 0) and t.may[b, s + 1, i]:
            return b
    return new


@compiled
def _waits_before(
    row: IntArray, r: int, stop: tuple[int, int], b: int, t: Arrays, state: State
) -> bool:
    """
    Let a battery come with an earlier walk and wait in a rack up to a point.

    `stop` is since when it is not wanted elsewhere, and that point. False where no
    walk or start brings it.
    """
    s, place = t.rack_at[r], t.may.shape[1] - t.rack_at.size + r
    since, i = stop
    free = since
    while free > 0 and row[free - 1] == 0:
        free -= 1
    come = _coming(s, i, free, t.start_at[b] == 0, t, state)
    if come < 0:
        return False
    row[free:i] = 0
    if come > 0:
        row[t.out_from[s, come] : come] = -1
    row[come:i] = place
    return True


@compiled
def _waits_after(
    row: IntArray, r: int, i: int, old: int, t: Arrays, state: State
) -> bool:
    """Let a battery wait in a rack for a later walk; False where there is none."""
    count, s, place = row.size, t.rack_at[r], t.may.shape[1] - t.rack_at.size + r
    until = t.back_at[s, i]
    while until < count and state.at[old, until] == 0:
        until += 1
    go = _going(s, i, until, t, state)
    if go < 0:
        return False
    row[i:until] = 0
    row[i:go] = place
    if go < count:
        row[go : t.back_at[s, go]] = -1
    return True


@compiled
def _stocked(t: Arrays, state: State) -> tuple[IntArray, IntArray]:
    """
    Do without one stop of a walk at a station that has a rack.

    What that walk brings comes with an earlier one, or is there from the start, and
    waits; or a battery that stands idle does so in its stead. What the walk takes
    away waits for a later one. Chosen at random.

    Returns
    -------
    picked : int array
        The batteries whose tours change; empty where there is no such stop.
    rows : int array, shape (picked, P)
        Their new tours, which may still find no room or no crew.
    """
    at, count = state.at, state.at.shape[1]
    none = np.zeros(0, dtype=np.int64), np.zeros((0, count), dtype=np.int64)
    r = np.random.randint(t.rack_at.size)
    s = t.rack_at[r]
    new, old, i = _brought(r, t, state)
    if new < 0:
        return none
    leaves = i
    while leaves < count and at[new, leaves] == s + 1:
        leaves += 1
    stays = leaves < count and t.station_at[at[new, leaves]] == s
    back = leaves if leaves == count else t.back_at[s, leaves]
    comes = new
    if np.random.random() < 0.5 and not stays:
        comes = _idle(new, s, i, back, t, state)
    rows = np.zeros((3, count), dtype=np.int64)
    picked = np.array([comes, new, old])
    rows[0], rows[1] = at[comes], at[new]
    out = t.out_from[s, i]
    since = out if comes == new else i - 1
    if not _waits_before(rows[0], r, (since, i), comes, t, state):
        return none
    size = 1
    if comes != new:
        rows[0, i:back] = at[new, i:back]
        rows[1, out:back] = 0
        size = 2
    if old >= 0:
        picked[size], rows[size] = old, at[old]
        if not _waits_after(rows[size], r, i, old, t, state):
            return none
        size += 1
    for n in range(size):
        if not t.moves[picked[n]]:
            return none
        for j in range(count):
            if not t.may[picked[n], max(rows[n, j], 0), j]:
                return none
    return picked[:size], rows[:size]


@compiled
def _has_room(t: Arrays, state: State) -> bool:
    """Whether no rack holds more spares than it can."""
    for r in range(t.rack_room.size):
        if np.max(state.racked[r]) > t.rack_room[r]:
            return False
    return True


@compiled
def _kept(picked: IntArray, state: State) -> _Kept:
    """Copies of the tours of some batteries."""
    return _Kept(
        state.at[picked],
        state.soc[picked],
        state.share[picked],
        state.below[picked],
        state.watts[picked],
        state.took[picked],
    )


@compiled
def _restore(picked: IntArray, kept: _Kept, t: Arrays, state: State) -> None:
    """Put batteries back as they were: anew, they might share a store otherwise."""
    for n in range(picked.size):
        b = picked[n]
        state.at[b], state.soc[b], state.share[b] = (
            kept.at[n],
            kept.soc[n],
            kept.share[n],
        )
        state.below[b], state.watts[b] = kept.below[n], kept.watts[n]
        state.took[b] = kept.took[n]
        lay(b, 1, t, state)


@compiled
def _snatching(
    interest: FloatArray,
    plain: Fees,
    rents: tuple[FloatArray, FloatArray],
    t: Arrays,
    state: State,
) -> Fees:
    """Fees for one that must not snatch what it can get: low, and masked at random."""
    stations, count = interest.shape
    price, asked_s, asked_y = plain.come, plain.rent_s, plain.rent_y
    _interests(interest, count)
    if t.rack_at.size > 0 and np.random.random() < 0.5:
        # As if nobody came anyway: a spare saves a walk only when what it relieves
        # does without that walk as well.
        price = np.maximum(price, t.stop_prices)
    if rents[0].sum() > 0.0 and np.random.random() < 0.7:
        weight = 1.2 * np.random.random()
        for s in range(stations):
            for i in range(count):
                interest[s, i] = 1.0 if interest[s, i] > 0.0 else 0.0
        asked_s = state.rent_s + weight * rents[0]
        asked_y = state.rent_y + weight * rents[1]
    return Fees(interest, asked_s, asked_y, price, price, plain.watt)


@compiled
def _put_back(
    picked: IntArray,
    rows: IntArray,
    rents: tuple[FloatArray, FloatArray],
    t: Arrays,
    state: State,
    room: Room,
) -> tuple[bool, int]:
    """
    Put batteries back: first those whose tours are given, then each by its best.

    Returns
    -------
    fits : bool
        Whether every walk found a crew, and every battery a way.
    done : int
        How many are on the table.
    """
    fits, done = True, 0
    interest = np.ones(state.rent_s.shape)
    factor, no_fee = np.ones(state.rent_s.shape), np.zeros(t.most_w.shape)
    for n in range(rows.shape[0]):
        fits = put(picked[n], rows[n], t, state) and fits
        done += 1
    for n in range(rows.shape[0], picked.size):
        price = stop_prices(t, state)
        fees = Fees(factor, state.rent_s, state.rent_y, price, price, no_fee)
        if n < picked.size - 1:
            fees = _snatching(interest, fees, rents, t, state)
        left = Left(state.power_w, state.store_wh, state.spilt, state.racked)
        tour, earned = best_tour(picked[n], t, fees, left, False, room)
        if earned <= DEAD:
            # It has no way: others took the crew of a walk that is kept.
            return False, done
        fits = put(picked[n], tour, t, state) and fits
        done += 1
    return fits, done


@compiled
def search(
    t: Arrays, at: IntArray, rents: tuple[FloatArray, FloatArray], effort: Effort
) -> tuple[IntArray, float]:
    """
    Improve a table by ruin and recreate.

    Parameters
    ----------
    t : Arrays
        The timetable.
    at : int array, shape (B, P)
        Where batteries are at the start; all of it can be carried out.
    rents : tuple of float arrays, shapes (S, P) and (Y, P)
        What being at a station and on a bay seems worth to others; zeros if unknown.
    effort : Effort
        How long, how far astray and how finely.

    Returns
    -------
    at : int array, shape (B, P)
        The best table.
    value : float
        What it is worth.
    """
    np.random.seed(effort.seed)
    batteries, count = at.shape
    state = laid(at, t)
    value = value_of(state, t)
    best_at, best_value = state.at.copy(), value
    shares = is_shared(t)
    start_heat = effort.heat * t.worth[: t.walk_min.size].sum()
    room = workspace(count, t.may.shape[1], effort.buckets)
    for number in range(effort.rounds):
        limit = start_heat * (1.0 - number / effort.rounds) ** 3
        size = min(batteries, 1 + np.random.randint(effort.most))
        picked: IntArray = np.zeros(0, dtype=np.int64)
        rows = np.zeros((0, count), dtype=np.int64)
        if t.rack_at.size > 0 and np.random.random() < 0.3:
            picked, rows = _stocked(t, state)
            limit = min(limit, t.prices[0])
        if picked.size == 0:
            picked = _chosen(size, t, state)
            np.random.shuffle(picked)
        kept = _kept(picked, state)
        for b in picked:
            lay(b, -1, t, state)
        fits, done = _put_back(picked, rows, rents, t, state, room)
        if shares and fits:
            fits = settle(t, state)
        new = value_of(state, t)
        fits = fits and _has_room(t, state)
        if fits and new >= value - limit * np.random.random():
            value = new
            if value > best_value + 1e-9:
                best_at, best_value = state.at.copy(), value
            continue
        for b in picked[:done]:
            lay(b, -1, t, state)
        _restore(picked, kept, t, state)
        if shares:
            settle(t, state)
    return best_at, best_value
