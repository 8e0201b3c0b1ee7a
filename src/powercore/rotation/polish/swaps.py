"""
Do without swaps of operators that gain nothing.

Where spares wait at a station, a search may have one battery relieve another and be
relieved by it again. The one in between then serves before or after the other, all at
once, where the rotation is better by the strict order for it. The search itself hardly
pays for such a swap, since nobody walks.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from powercore.event.problem import SERVE, WAIT, Leg, Problem, lives_of, visit_of
from powercore.rotation.compare import key_if_valid

#: Rotations replayed at the most.
TRIES = 40


def with_fewer_swaps(
    problem: Problem, legs: Sequence[Leg], *, keep_until_min: int = 0
) -> tuple[Leg, ...]:
    """
    Return a rotation with fewer swaps by operators, or the one given.

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    keep_until_min : int
        What begins before is left alone. [min]
    """
    best = tuple(legs)
    if next(_candidates(problem, best, keep_until_min), None) is None:
        return best
    key, tries, is_gain = key_if_valid(problem, best), TRIES, True
    while is_gain and key is not None:
        is_gain = False
        for made in _candidates(problem, best, keep_until_min):
            if tries == 0:
                return best
            tries -= 1
            found = key_if_valid(problem, made)
            if found is not None and found < key:
                best, key, is_gain = made, found, True
                break
    return best


def _candidates(
    problem: Problem, legs: Sequence[Leg], keep_until_min: int
) -> Iterator[tuple[Leg, ...]]:
    """Rotations in which one battery serves at once what it now does in two parts."""
    lives = lives_of(legs)
    for key, station in problem.stations.items():
        if not station.spares:
            continue
        serves = [leg for leg in legs if leg.kind == SERVE and leg.place == key]
        serves.sort(key=lambda leg: leg.start_min)
        for a, b, c in zip(serves, serves[1:], serves[2:], strict=False):
            if a.battery != c.battery or a.start_min < keep_until_min:
                continue
            if not a.end_min == b.start_min < b.end_min == c.start_min:
                continue
            lasts = b.end_min - b.start_min
            outer, inner = (visit_of(lives[leg.battery], leg) for leg in (a, b))
            for start in (a.start_min, c.end_min - lasts):
                end = start + lasts
                if c not in outer or not _is_there(inner, start, end):
                    continue
                rest = [(a.start_min, start), (end, c.end_min)]
                yield (
                    *(leg for leg in legs if leg not in outer and leg not in inner),
                    *_serving(outer, (a, c), [one for one in rest if one[0] < one[1]]),
                    *_serving(inner, (b,), [(start, end)]),
                )


def _is_there(visit: Sequence[Leg], start: int, end: int) -> bool:
    return visit[0].start_min <= start and end <= visit[-1].end_min


def _serving(
    visit: Sequence[Leg], old: Sequence[Leg], new: Sequence[tuple[int, int]]
) -> Iterator[Leg]:
    """A visit in which some legs' serving is done at other times; else it waits."""
    spans = [
        (leg.start_min, leg.end_min)
        for leg in visit
        if leg.kind == SERVE and leg not in old
    ]
    at, first = visit[0].start_min, visit[0]
    for start, end in sorted([*spans, *new]):
        if at < start:
            yield replace(first, kind=WAIT, start_min=at, end_min=start)
        yield replace(first, kind=SERVE, start_min=start, end_min=end)
        at = end
    if at < visit[-1].end_min:
        yield replace(first, kind=WAIT, start_min=at, end_min=visit[-1].end_min)
