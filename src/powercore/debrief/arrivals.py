"""How late reliefs came against the plan."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from powercore.event.problem import SERVE, Leg

#: A relief so near to its planned time is on time. [min]
ON_TIME_MIN = 3
#: A relief this far from any planned one of its battery was not planned. [min]
SAME_MIN = 120


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
        Battery and minute of each relief at one station. A planned one is matched
        once, with the nearest that came of its battery.

    Returns
    -------
    late, extra : list of int, int
        Minutes after the planned time of each that was matched, early ones below
        zero; and how many came that were not planned.
    """
    left, late, extra = list(planned), [], 0
    for battery, minute in real:
        near = [one for one in left if one[0] == battery]
        best = min(near, key=lambda one: abs(one[1] - minute), default=None)
        if best is None or abs(best[1] - minute) > SAME_MIN:
            extra += 1
            continue
        left.remove(best)
        late.append(minute - best[1])
    return late, extra
