"""A table as a rotation: legs, with a crew for each walk."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from powercore.event.problem import CARRIED, CHARGE, HANDS, SERVE, WAIT, YARD, Leg
from powercore.rotation.timetable.table import Timetable
from powercore.values import IntArray


class NoCrewLeft(Exception):
    """The walks of a table don't fit the crews' duties."""


def legs_of(table: Timetable, at: IntArray) -> tuple[Leg, ...]:
    """
    Return a table of places as a plan in whole minutes, with crews and rounds.

    Raises
    ------
    NoCrewLeft
        If no crew is left for one of the walks.
    """
    problem, points = table.problem, table.points
    stays: dict[int, list[tuple[int, int, int]]] = {}
    for number, row in enumerate(at):
        changes = [0, *(np.flatnonzero(np.diff(row)) + 1).tolist(), table.count]
        stays[number] = [
            (int(row[a]), int(points[a]), int(points[b]))
            for a, b in pairwise(changes)
            if row[a] > 0
        ]
    rounds = _manned(table, _stops(table, stays))
    legs: list[Leg] = []
    for number, life in stays.items():
        battery = problem.batteries[table.batteries[number]]
        if not battery.is_on_hold:
            legs += _life(table, battery.key, life, rounds)
    return tuple(legs)


class _Load(NamedTuple):
    """Batteries of one stop, by number: brought, and taken along."""

    brought: list[int]
    taken: list[int]


#: What is carried at each stop: a minute, and a station's number.
_Stops = dict[tuple[int, int], _Load]


def _stops(
    table: Timetable, stays: Mapping[int, Sequence[tuple[int, int, int]]]
) -> _Stops:
    """What is carried at each stop of a plan, in order of time."""
    found: _Stops = defaultdict(lambda: _Load([], []))
    for number, life in stays.items():
        for station, start, end in _visits(table, life):
            if start > 0:
                found[start, station].brought.append(number)
            if end < table.problem.span_min:
                found[end, station].taken.append(number)
    return dict(sorted(found.items()))


def _visits(
    table: Timetable, life: Sequence[tuple[int, int, int]]
) -> list[tuple[int, int, int]]:
    """Stations a battery is at and from when to when, in use or as a spare."""
    found: list[tuple[int, int, int]] = []
    for place, start, end in life:
        station = table.station_of(place)
        if station < 0:
            continue
        if found and found[-1][0] == station and found[-1][2] == start:
            start = found.pop()[1]
        found.append((station, start, end))
    return found


def _manned(table: Timetable, stops: _Stops) -> dict[tuple[int, int], tuple[str, int]]:
    """
    A crew and a number for each stop.

    Whoever is free, alone and strong enough goes first, then who goes off duty first.
    """
    problem = table.problem
    kg = [problem.mass_kg(key) for key in table.batteries]
    free_at: dict[str, int] = {}
    given = {}
    by_leaving = sorted(
        stops, key=lambda stop: (stop[0] - table.walk_min[stop[1]], stop)
    )
    for number, (minute, station) in enumerate(by_leaving, start=1):
        walk = int(table.walk_min[station])
        load = stops[minute, station]
        load_kg = max(sum(kg[number] for number in part) for part in load)
        count = max(map(len, load))
        able = [
            crew
            for crew in problem.crews_for(minute - walk, minute + walk, kg=load_kg)
            if free_at.get(crew.name, 0) <= minute - walk
            and crew.people * HANDS >= count
        ]
        if not able:
            raise NoCrewLeft(f"at minute {minute}")
        crew = min(able, key=lambda crew: (crew.people > 1, crew.end_min, crew.name))
        free_at[crew.name] = minute + walk
        given[minute, station] = (crew.name, number)
    return given


def _life(
    table: Timetable,
    key: str,
    life: Sequence[tuple[int, int, int]],
    rounds: dict[tuple[int, int], tuple[str, int]],
) -> list[Leg]:
    first_bay, span = 1 + table.seats, table.problem.span_min
    visits = _visits(table, life)
    came = {(station, start) for station, start, _ in visits}
    leaves = {(station, end) for station, _, end in visits}
    legs: list[Leg] = []
    now = 0
    for place, start, end in life:
        station = table.station_of(place)
        if station < 0:
            legs += _wait(key, now, start)
            legs.append(_leg(CHARGE, key, table.bays[place - first_bay], start, end))
            now = end
            continue
        walk = int(table.walk_min[station])
        if start > 0 and (station, start) in came:
            crew, number = rounds[start, station]
            legs += _wait(key, now, start - walk)
            legs.append(_carried(key, start - walk, start, crew, number))
        kind = SERVE if place < first_bay else WAIT
        if (
            legs
            and now == start
            and (legs[-1].kind, legs[-1].place)
            == (
                kind,
                table.stations[station],
            )
        ):
            start = legs.pop().start_min  # the other seat there
        legs.append(_leg(kind, key, table.stations[station], start, end))
        now = end
        if end < span and (station, end) in leaves:
            crew, number = rounds[end, station]
            now = min(end + walk, span)
            legs.append(_carried(key, end, now, crew, number))
    return legs + _wait(key, now, span)


def _leg(kind: str, key: str, place: str, start: int, end: int) -> Leg:
    return Leg(kind=kind, battery=key, place=place, start_min=start, end_min=end)


def _wait(key: str, start: int, end: int) -> list[Leg]:
    return [_leg(WAIT, key, YARD, start, end)] if end > start else []


def _carried(key: str, start: int, end: int, crew: str, number: int) -> Leg:
    return Leg(
        kind=CARRIED,
        battery=key,
        place="",
        start_min=start,
        end_min=end,
        crew=crew,
        round=number,
    )
