"""How late reliefs came against the plan."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from powercore.event.following import NotedMove, PlannedMove, followed
from powercore.event.problem import SERVE, Leg

#: A relief so near to its planned time is on time. [min]
ON_TIME_MIN = 3


def reliefs_of(legs: Iterable[Leg], station: str) -> list[tuple[str, int]]:
    """Return battery and minute of each relief at a station, its first left out."""
    return [
        (leg.battery, leg.start_min)
        for leg in legs
        if leg.kind == SERVE and leg.place == station and leg.start_min > 0
    ]


def late_of(
    planned: Sequence[tuple[str, int]], real: Iterable[tuple[str, int]]
) -> tuple[list[int], int]:
    """
    Match the reliefs that a station got with those that were planned.

    Parameters
    ----------
    planned, real : sequence of (str, int)
        Battery and minute of each relief at one station; matched one to one as the
        board does it (`powercore.event.following`), with another battery too.

    Returns
    -------
    late, extra : list of int, int
        Minutes after the planned time of each that was made, early ones below zero;
        and how many came that were not planned.
    """
    came = [
        NotedMove(key=str(number), battery=battery, station="here", at_min=minute)
        for number, (battery, minute) in enumerate(real)
    ]
    due = [
        PlannedMove(station="here", battery=battery, arrive_min=minute)
        for battery, minute in planned
    ]
    now_min = max((one.at_min for one in came), default=0.0)
    late = [
        round(one.by.at_min - plan.arrive_min)
        for plan, one in zip(due, followed(due, came, now_min), strict=True)
        if one.by is not None
    ]
    return late, len(came) - len(late)
