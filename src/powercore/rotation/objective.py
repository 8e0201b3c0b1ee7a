"""
What makes one rotation better than another: a strict order, smaller first.

By tier, its stations weighed: minutes off the air, then minutes on a lower power step
by a pin or by its own choice, then watt-hours not served. Then minutes into reserve by
tier, each by how deep, then minutes by which reliefs lack the slack they should have,
then rounds, those in the dark dearer, then bay changes and swaps, hours that engines
run and fuel, then how odd the times of walks are, how unevenly batteries are used, and
charge left at the end. A changeover's planned break counts nowhere, and the minute or
two that somebody walks for with what is nearly empty is no service.
Each figure is rounded to what anybody could notice, so that no minute is traded for
the arithmetic's last digits.
"""

from __future__ import annotations

from collections.abc import Sequence, Set

import numpy as np

from powercore.event.problem import SERVE, Leg, Problem, Stop, stops_of
from powercore.rotation.verify import Outcome, Shortfall
from powercore.values import FloatArray

Key = tuple[float, ...]

#: What a walk in the dark costs more, in walks. Common practice, no source.
NIGHT = 0.5

#: Times of the clock that are easily kept in mind, the easiest first. [min]
ROUND_MIN = (60, 30, 15, 5)

#: How many of a key's last figures are not worth looking on for: odd times, wear,
#: charge left.
TAIL = 3

#: What is brought and keeps a station on the air for less before it ends is not worth
#: its walk: those minutes count as if they were off the air. [min] Common practice, no
#: source.
WORTH_MIN = 10.0

#: A relief should be this many times the usual lateness before the reserve.
SLACK_LATENESS = 2


def thin_min(problem: Problem, legs: Sequence[Leg], outcome: Outcome) -> float:
    """Minutes by which all reliefs together lack the slack they should have."""
    wanted = SLACK_LATENESS * problem.scenario.lateness_min
    lacking = 0.0
    for leg, (_, soc) in zip(legs, outcome.leg_soc, strict=True):
        if leg.kind != SERVE or leg.end_min >= problem.span_min:
            continue
        watts = problem.asked_w[leg.place]
        at = min(leg.end_min // problem.grid.step_min, watts.size - 1)
        if watts[at] <= 0:
            continue
        feed = problem.feed(leg.place, leg.battery)
        left_wh = max(0.0, (soc - feed.reserve_soc) * feed.capacity_wh)
        lacking += max(0.0, wanted - left_wh / float(watts[at]) * 60)
    return lacking


def odd_times(problem: Problem, legs: Sequence[Leg]) -> float:
    """
    How odd the times are at which crews are at stations, each round by its first stop.

    None at a full hour by the clock, or where a walk begins or ends with a crew's duty;
    a half hour counts 1, a quarter 2, five minutes 3 and any other 4.
    """
    edges, first = edges_of_duty(problem), dict[tuple[str, int], Stop]()
    for stop in stops_of(legs):
        first.setdefault((stop.crew, stop.round), stop)
    stops = first.values()
    return float(sum(oddness(problem, x.station, x.minute, edges) for x in stops))


def edges_of_duty(problem: Problem) -> set[int]:
    """Minutes at which somebody's duty begins or ends."""
    crews = problem.scenario.crews
    return {m for crew in crews for m in (crew.start_min, crew.end_min)}


def oddness(problem: Problem, station: str, minute: int, edges: Set[int]) -> int:
    """How odd a stop's time is; `edges` are when people's duties change."""
    walk = problem.stations[station].walk_min
    if minute - walk in edges or minute + walk in edges:
        return 0
    clock = problem.clock_min(minute)
    for number, step in enumerate(ROUND_MIN):
        if clock % step == 0:
            return number
    return len(ROUND_MIN)


def key_of(problem: Problem, legs: Sequence[Leg], outcome: Outcome) -> Key:
    """Return what a rotation is compared by, from what the verifier says of it."""
    service, effort = _parts(problem, legs, outcome)
    return (*service, *effort)


def key_with_risk(
    problem: Problem, legs: Sequence[Leg], outcome: Outcome, risk: dict[str, float]
) -> Key:
    """
    Return what a rotation is compared by that is looked for against futures.

    Service and reserve as planned come first, then what its stations risk by tier, and
    slack, rounds and the rest last.

    Parameters
    ----------
    risk : dict
        Minutes for each station; see `powercore.futures.stress.risk`.
    """
    service, effort = _parts(problem, legs, outcome)
    by_tier: dict[int, float] = {}
    for key, one in problem.stations.items():
        by_tier[one.tier] = by_tier.get(one.tier, 0.0) + one.weight * risk[key]
    risks = [float(round(by_tier[tier])) for tier in sorted(by_tier)]
    return (*service, *risks, *effort)


def key_with_margin(
    problem: Problem, legs: Sequence[Leg], outcome: Outcome, more: Outcome
) -> Key:
    """
    Return what a rotation is compared by that should also stand more use.

    Service as planned comes first, then what is lost off the air when everybody uses
    more, and slack, rounds, bay changes and swaps last.

    Parameters
    ----------
    outcome, more : Outcome
        What the verifier says of it as planned, and with more use.
    """
    service, effort = _parts(problem, legs, outcome)
    tier_of = {key: one.tier for key, one in problem.stations.items()}
    lost = []
    for tier in sorted(set(tier_of.values())):
        falls = [f for f in more.shortfalls if tier_of[f.station] == tier]
        lost.append(round(_weighed_min(problem, falls, "off_air"), 1))
    return (*service, *lost, *effort)


def _scraps(
    problem: Problem, legs: Sequence[Leg], falls: Sequence[Shortfall]
) -> dict[str, tuple[float, float]]:
    """Minutes on the air, and Wh, by station that are not worth the walks they take."""
    found: dict[str, tuple[float, float]] = {}
    off = [fall for fall in falls if fall.what == "off_air"]
    for leg in legs:
        ends = [
            (max(fall.start_min, leg.start_min), min(fall.end_min, leg.end_min))
            for fall in off
            if fall.station == leg.place
            and fall.start_min <= leg.end_min
            and fall.end_min > leg.start_min
        ]
        if leg.kind != SERVE or leg.start_min == 0 or not ends:
            continue
        on, wh = (
            _between(problem, sums[leg.place], leg.start_min, leg.end_min)
            - sum(_between(problem, sums[leg.place], *end) for end in ends)
            for sums in (problem.open_min, problem.drawn_wh)
        )
        if 0.0 < on < WORTH_MIN:
            before = found.get(leg.place, (0.0, 0.0))
            found[leg.place] = before[0] + on, before[1] + wh
    return found


def _between(problem: Problem, sums: FloatArray, start: float, end: float) -> float:
    """What a sum over the grid's edges grows by between two minutes."""
    edges = problem.grid.edges_min
    return float(np.interp(end, edges, sums) - np.interp(start, edges, sums))


def _weighed_min(problem: Problem, falls: Sequence[Shortfall], what: str) -> float:
    """Open minutes of one kind of shortfall, each station's by its weight."""
    return sum(
        problem.stations[fall.station].weight * fall.open_min
        for fall in falls
        if fall.what == what
    )


def _parts(problem: Problem, legs: Sequence[Leg], outcome: Outcome) -> tuple[Key, Key]:
    """Service by tier and reserve; then slack, rounds, bay changes and swaps."""
    tier_of = {key: one.tier for key, one in problem.stations.items()}
    weight = {key: one.weight for key, one in problem.stations.items()}
    tiers = sorted(set(tier_of.values()))
    scraps = _scraps(problem, legs, outcome.shortfalls)
    served, reserve = [], []
    for tier in tiers:
        falls = [f for f in outcome.shortfalls if tier_of[f.station] == tier]
        off = [fall for fall in falls if fall.what == "off_air"]
        of_tier = [key for key, number in tier_of.items() if number == tier]
        lost = [
            sum(weight[key] * scraps[key][part] for key in of_tier if key in scraps)
            for part in (0, 1)
        ]
        served.append(round(_weighed_min(problem, falls, "off_air") + lost[0], 1))
        served.append(sum(weight[key] * problem.lowered_min[key] for key in of_tier))
        unserved_wh = sum(weight[f.station] * f.unserved_wh for f in off)
        served.append(round(unserved_wh + lost[1], 1))
        deep = sum(weight[fall.station] * fall.deep_min for fall in falls)
        reserve.append(round(deep, 1))
    thin = float(round(thin_min(problem, legs, outcome)))
    walks = outcome.walks + NIGHT * outcome.night_walks
    used = [
        outcome.cycles.get(key, 0.0)
        for key, one in problem.batteries.items()
        if not one.is_on_hold
    ]
    effort = (
        thin,
        float(walks),
        float(outcome.bay_changes + outcome.swaps),
        round(outcome.engine_min / 60, 1),
        round(outcome.fuel_l, 1),
        odd_times(problem, legs),
        round(float(np.std(used)), 2) if used else 0.0,
        -float(round(outcome.left_wh)),
    )
    return (*served, *reserve), effort
