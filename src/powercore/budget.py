"""
The energy ledger: what each station needs against what reaches it.

Counted without sun. "In the kit" is what a station's first battery gives down to
its reserve; "carried" is what later batteries bring; the rest is not covered.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from powercore.rotation.problem import SERVE, Leg, Problem
from powercore.rotation.verify import Shortfall, verify
from powercore.runtime import hours_at
from powercore.values import BUS_V


@dataclass(frozen=True, slots=True, kw_only=True)
class Endurance:
    """How long one full battery alone would keep a station on the air."""

    battery: str
    #: Hours to the reserve (the promise) and to the disconnect. [h]
    to_reserve_h: float
    to_disconnect_h: float
    #: Which limit ends the power, in words.
    ends_by: str
    #: Why it can't feed the station; None when it can.
    refusal: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class StationBudget:
    """One station's line in the ledger."""

    station: str
    need_wh: float
    mean_a: float
    peak_a: float
    open_h: float
    #: From the first battery, from later ones, and not at all. [Wh]
    kit_wh: float
    carried_wh: float
    uncovered_wh: float
    on_air_h: float
    reserve_min: float
    #: When it first runs short, and how. [min]
    first_short: Shortfall | None
    first_battery: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Ledger:
    """The event's ledger."""

    stations: tuple[StationBudget, ...]
    need_wh: float
    #: What all batteries together hold above their reserves at the start. [Wh]
    stock_wh: float


def ledger(problem: Problem, legs: Sequence[Leg]) -> Ledger:
    """
    Work out the ledger of a rotation (without walks: of the set-up alone).

    Parameters
    ----------
    problem : Problem
        The event.
    legs : sequence of Leg
        A rotation that breaks no rule.
    """
    outcome = verify(problem, legs).outcome
    lines = []
    for key, station in problem.stations.items():
        feeding = station.feeding(problem.grid)
        serving = sorted(
            (i for i, leg in enumerate(legs) if leg.kind == SERVE and leg.place == key),
            key=lambda i: legs[i].start_min,
        )
        given = [
            (outcome.leg_soc[i][0] - outcome.leg_soc[i][1])
            * problem.feed(key, legs[i].battery).capacity_wh
            for i in serving
        ]
        falls = [fall for fall in outcome.shortfalls if fall.station == key]
        off_air = [fall for fall in falls if fall.what == "off_air"]
        open_h = float(problem.open_min[key][-1]) / 60
        lines.append(
            StationBudget(
                station=key,
                need_wh=float(problem.drawn_wh[key][-1]),
                mean_a=feeding.mean_a,
                peak_a=feeding.peak_a,
                open_h=open_h,
                kit_wh=given[0] if given else 0.0,
                carried_wh=sum(given[1:]),
                uncovered_wh=sum(fall.unserved_wh for fall in off_air),
                on_air_h=open_h - sum(fall.open_min for fall in off_air) / 60,
                reserve_min=sum(f.open_min for f in falls if f.what == "reserve"),
                first_short=off_air[0] if off_air else None,
                first_battery=legs[serving[0]].battery if serving else None,
            )
        )
    return Ledger(
        stations=tuple(lines),
        need_wh=sum(line.need_wh for line in lines),
        stock_wh=stock_wh(problem),
    )


def stock_wh(problem: Problem) -> float:
    """What the batteries that may be used hold above their reserves. [Wh]"""
    return sum(
        battery.pack.usable_wh(
            battery.start_soc, battery.pack.reserve_soc, battery.pack.trusted_ah / 20
        )
        for battery in problem.batteries.values()
        if not battery.is_on_hold
    )


def endurance(problem: Problem, station: str) -> list[Endurance]:
    """How long each battery, full, would last at a station, longest first."""
    feeding = problem.stations[station].feeding(problem.grid)
    mean_w = feeding.mean_a * BUS_V
    found = []
    for key, battery in problem.batteries.items():
        if battery.is_on_hold:
            continue
        feed = problem.feed(station, key)
        found.append(
            Endurance(
                battery=key,
                to_reserve_h=hours_at(
                    (1 - feed.reserve_soc) * feed.capacity_wh, mean_w
                ),
                to_disconnect_h=hours_at(
                    (1 - feed.floor_soc) * feed.capacity_wh, mean_w
                ),
                ends_by=feed.floor_cause,
                refusal=feed.refusal,
            )
        )
    return sorted(found, key=lambda e: (e.refusal is not None, -e.to_reserve_h))
