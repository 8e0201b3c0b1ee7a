"""
Which planned moves were made: plan and log matched one to one, in their order.

Each planned move is in exactly one state. What was noted at a place is laid beside
what was planned there so that as much as possible agrees, and neither order changes:
the alignment of two sequences by dynamic programming [1]_.

References
----------
.. [1] S. B. Needleman and C. D. Wunsch, "A general method applicable to the search for
   similarities in the amino acid sequence of two proteins", Journal of Molecular
   Biology 48(3), 1970.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

TO_COME, TOLD, LEFT = "to come", "told", "left"
MADE, OTHERWISE, GIVEN_UP = "made", "made otherwise", "given up"
STATES = (TO_COME, TOLD, LEFT, MADE, OTHERWISE, GIVEN_UP)
#: States of a move that somebody may still make.
OPEN = (TO_COME, TOLD, LEFT)

# Common practice, no source.
#: A swap is the one planned at most so long after it, whatever battery it was. [min]
SAME_MIN = 60.0
#: The planned battery may come so early and make its move; later it always does. [min]
EARLY_MIN = 180.0
#: What was due so long ago, and nobody left for, is given up. Another battery that
#: comes by then made it in its place. [min]
GIVEN_UP_MIN = 120.0
#: How well things agree: the same battery at its time, another one, the same one at
#: another time; a minute apart takes a little away.
_OWN, _OTHER, _OWN_FAR, _MINUTE, _FAR_MINUTE = 10.0, 5.0, 3.0, 1 / 60, 1 / 1440


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedMove:
    """One thing that a plan brings to a station, or only takes away from it."""

    station: str
    #: What is brought; empty: something is only taken away.
    battery: str
    #: What is taken away.
    taken: str = ""
    #: When somebody is there, counted from the event's start. [min]
    arrive_min: float
    is_spare: bool = False
    #: Whether it stands there as the plan begins: what is noted of it is no move.
    is_start: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class NotedMove:
    """What somebody noted of a battery: told, left, there, put away."""

    key: str
    battery: str
    #: Where it goes; empty: away from stations.
    station: str
    at_min: float
    #: Of a crew: "told" or "left"; empty: the battery is there now.
    said: str = ""
    is_spare: bool = False
    #: Whether it is somewhere now; else it is on its way.
    is_put_down: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Followed:
    """How far a planned move is."""

    state: str
    told_min: float | None = None
    left_min: float | None = None
    #: The entry that made it.
    by: NotedMove | None = None


def followed(
    planned: Sequence[PlannedMove],
    noted: Sequence[NotedMove],
    now_min: float,
    *,
    since_min: float = float("-inf"),
) -> list[Followed]:
    """
    Say of each planned move in which one state it is.

    Parameters
    ----------
    planned : sequence of PlannedMove
        In any order.
    noted : sequence of NotedMove
        All of the event, in order of time.
    now_min : float
        Counted from the event's start. [min]
    since_min : float
        What came before is of the plan before; what was told for later still counts.

    Returns
    -------
    list of Followed
        One for each planned move, in their order. An entry made at most one of them;
        a spare that went into use at once is made otherwise by that swap.
    """
    groups: defaultdict[tuple[str, str], list[int]] = defaultdict(list)
    for number in sorted(range(len(planned)), key=lambda n: planned[n].arrive_min):
        groups[_group(planned[number])].append(number)
    here: defaultdict[tuple[str, str], list[NotedMove]] = defaultdict(list)
    for one in (*_arrivals(noted), *_departures(noted)):
        kind, report = one
        if report.at_min >= since_min:
            here[kind, report.station].append(report)
    made: dict[int, NotedMove] = {}
    passed: set[int] = set()
    for key, numbers in groups.items():
        found = _aligned([planned[n] for n in numbers], here[key])
        made |= {numbers[at]: report for at, report in found.items()}
        if found:
            passed |= set(numbers[: max(found)]) - made.keys()
    states = [
        _settled(one, made.get(number), number in passed, here, now_min)
        for number, one in enumerate(planned)
    ]
    return _with_crews(planned, states, made, noted, now_min)


def _group(one: PlannedMove) -> tuple[str, str]:
    if not one.battery:
        return "fetch", one.station
    return ("spare" if one.is_spare else "swap"), one.station


def _arrivals(noted: Sequence[NotedMove]) -> list[tuple[str, NotedMove]]:
    return [
        ("spare" if one.is_spare else "swap", one)
        for one in noted
        if one.station and not one.said
    ]


def _departures(noted: Sequence[NotedMove]) -> list[tuple[str, NotedMove]]:
    """What was put elsewhere than at the station where it last was, as taken there."""
    found, where = [], dict[str, str]()
    for one in noted:
        if one.said:
            continue
        before = where.pop(one.battery, "")
        if before and before != one.station:
            found.append(("fetch", replace(one, station=before)))
        if one.station:
            where[one.battery] = one.station
    return found


def _aligned(
    planned: Sequence[PlannedMove], reports: Sequence[NotedMove]
) -> dict[int, NotedMove]:
    """The best way to lay reports beside plans at one place, both in order."""
    if not planned or not reports:
        return {}
    later = [one.at_min for one in reports[1:]] + [float("inf")]
    best = [[0.0] * (len(reports) + 1) for _ in range(len(planned) + 1)]
    for i, plan in enumerate(planned):
        for j, report in enumerate(reports):
            agrees = _agrees(plan, report, later[j])
            best[i + 1][j + 1] = max(
                best[i][j + 1], best[i + 1][j], best[i][j] + agrees
            )
    found: dict[int, NotedMove] = {}
    i, j = len(planned), len(reports)
    while i and j:
        if best[i][j] == best[i - 1][j]:
            i -= 1
        elif best[i][j] == best[i][j - 1]:
            j -= 1
        else:
            i, j = i - 1, j - 1
            found[i] = reports[j]
    return found


def _agrees(plan: PlannedMove, report: NotedMove, next_min: float) -> float:
    """How well a report tells of a planned move; 0: it does not."""
    off = report.at_min - plan.arrive_min
    if report.battery == (plan.battery or plan.taken):
        if abs(off) <= SAME_MIN:
            return _OWN - abs(off) * _MINUTE
        # Long before: only while it stays there until it was due.
        is_still = not plan.battery or next_min > plan.arrive_min
        if off > 0 or plan.is_start or (off >= -EARLY_MIN and is_still):
            return max(0.1, _OWN_FAR - abs(off) * _FAR_MINUTE)
        return 0.0
    if not plan.battery or plan.is_spare:
        return 0.0
    if -SAME_MIN <= off <= GIVEN_UP_MIN:
        return _OTHER - abs(off) * _MINUTE
    return 0.0


def _settled(
    one: PlannedMove,
    by: NotedMove | None,
    is_passed: bool,
    here: dict[tuple[str, str], list[NotedMove]],
    now_min: float,
) -> Followed:
    if by is None and one.is_spare and one.battery:
        by = next(
            (
                swap
                for swap in here.get(("swap", one.station), ())
                if swap.battery == one.battery
                and swap.at_min >= one.arrive_min - SAME_MIN
            ),
            None,
        )
        if by is not None:
            return Followed(state=OTHERWISE, by=by)
    if by is not None:
        is_own = by.battery == (one.battery or one.taken)
        return Followed(state=MADE if is_own else OTHERWISE, by=by)
    is_over = is_passed and one.arrive_min <= now_min
    if is_over or one.arrive_min < now_min - GIVEN_UP_MIN:
        return Followed(state=GIVEN_UP)
    return Followed(state=TO_COME)


def _with_crews(
    planned: Sequence[PlannedMove],
    states: list[Followed],
    made: dict[int, NotedMove],
    noted: Sequence[NotedMove],
    now_min: float,
) -> list[Followed]:
    """Give what was said of crews to the one move that each word of it is about."""
    by_report = {(one.key, one.station): number for number, one in made.items()}
    waits: dict[tuple[str, str], dict[str, float]] = {}
    for one in noted:
        if one.said:
            own = waits.setdefault((one.station, one.battery), {})
            own.setdefault(one.said, one.at_min)
            continue
        if not one.is_put_down:
            continue
        if one.station:
            own = waits.pop((one.station, one.battery), {})
            number = by_report.get((one.key, one.station))
            if number is not None and planned[number].battery == one.battery:
                states[number] = _said(states[number], own)
        # Whatever else it was to do, it is somewhere else now.
        for key in [key for key in waits if key[1] == one.battery]:
            waits[key].pop(LEFT, None)
            if one.station:
                del waits[key]
    for (station, battery), own in waits.items():
        if not own:
            continue
        number = _next(planned, states, station, battery, min(own.values()))
        if number is None:
            continue
        told = _said(states[number], own)
        if told.left_min is not None:
            states[number] = replace(told, state=LEFT)
        elif told.state == TO_COME:
            states[number] = replace(told, state=TOLD)
        else:
            states[number] = told
    return states


def _next(
    planned: Sequence[PlannedMove],
    states: Sequence[Followed],
    station: str,
    battery: str,
    said_min: float,
) -> int | None:
    """The move of a battery to a station that words of that moment are about."""
    there = [
        number
        for number, one in enumerate(planned)
        if (one.station, one.battery) == (station, battery)
        and states[number].by is None
        and one.arrive_min >= said_min - GIVEN_UP_MIN
    ]
    return min(there, key=lambda number: planned[number].arrive_min, default=None)


def _said(one: Followed, own: dict[str, float]) -> Followed:
    return replace(one, told_min=own.get(TOLD), left_min=own.get(LEFT))
