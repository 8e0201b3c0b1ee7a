"""
Batteries side by side at a station: who gives how much, how long, what a loss does.

A set shares the load by volts and resistances, not evenly. It is changed as a whole:
a full battery put beside a half-empty one drives current between them.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from powercore.errors import UnknownKey
from powercore.event.problem import Problem
from powercore.physics.battery import shared_currents_a
from powercore.values import in_range

#: Resting volts that may differ when a set is joined. [V] Common practice, no source.
MATCHED_V = 0.1
#: A step of the walk down. [h]
_STEP_H = 1 / 12
#: Where the walk ends though nothing is empty. [h]
_LONGEST_H = 14 * 24.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One battery's part in a set."""

    battery: str
    #: Its share of the mean and of the peak current. [A]
    mean_a: float
    peak_a: float
    #: Its share of the peak when the strongest of the others is gone. [A]
    loss_a: float
    #: What its maker or protection allows; None where nobody knows. [A]
    limit_a: float | None
    #: Energy left above its reserve when the first of the set reaches its own. [Wh]
    left_wh: float

    @property
    def is_over(self) -> bool:
        """Whether the loss of one would ask too much of it."""
        return self.limit_a is not None and self.loss_a > self.limit_a


@dataclass(frozen=True, slots=True, kw_only=True)
class SetReport:
    """What a set gives at a station, and why it should not be joined."""

    members: tuple[Member, ...]
    #: Until the first of them reaches its reserve. [h]
    to_reserve_h: float
    #: Current that flows between them when they are joined as they are. [A]
    between_a: float
    faults: tuple[str, ...]


def parallel_set(
    problem: Problem, station: str, batteries: Sequence[str], soc: Sequence[float]
) -> SetReport:
    """
    Work out a parallel set at a station.

    Parameters
    ----------
    batteries : sequence of str
        Two or more batteries of the event.
    soc : sequence of float
        State of charge of each when they are joined. (0 to 1)

    Raises
    ------
    UnknownKey
        If fewer than two are named, or one is not of the event.
    """
    unknown = [key for key in batteries if key not in problem.batteries]
    if unknown or len(set(batteries)) < 2:
        raise UnknownKey("A set is two or more different batteries of the event.")
    packs = [problem.batteries[key].pack for key in batteries]
    feeding = problem.feeding(station, packs[0].nominal_v)
    ohms = [pack.resistance_ohm + feeding.path_ohm for pack in packs]

    def volts(state: Sequence[float]) -> list[float]:
        return [pack.rested_v(one) for pack, one in zip(packs, state, strict=True)]

    mean = shared_currents_a(volts(soc), ohms, feeding.mean_a)
    peak = shared_currents_a(volts(soc), ohms, feeding.peak_a)
    after = [
        _after_loss(i, volts(soc), ohms, peak, feeding.peak_a)
        for i in range(len(packs))
    ]
    hours, state = _walk_down(problem, batteries, list(soc), feeding.mean_a, ohms)
    between = shared_currents_a(volts(soc), ohms, 0.0)
    members = tuple(
        Member(
            battery=key,
            mean_a=mean[i],
            peak_a=peak[i],
            loss_a=after[i],
            limit_a=problem.batteries[key].max_discharge_a,
            left_wh=packs[i].usable_wh(state[i], packs[i].reserve_soc, mean[i]),
        )
        for i, key in enumerate(batteries)
    )
    return SetReport(
        members=members,
        to_reserve_h=hours,
        between_a=max(abs(amps) for amps in between),
        faults=tuple(_faults(problem, batteries, volts(soc), soc, members)),
    )


def _after_loss(
    index: int,
    rested_v: Sequence[float],
    ohms: Sequence[float],
    peak: Sequence[float],
    peak_a: float,
) -> float:
    """A member's share of the peak when the strongest of the others is gone. [A]"""
    others = [i for i in range(len(peak)) if i != index]
    gone = max(others, key=lambda i: peak[i])
    left = [i for i in range(len(peak)) if i != gone]
    shares = shared_currents_a(
        [rested_v[i] for i in left], [ohms[i] for i in left], peak_a
    )
    return shares[left.index(index)]


def _walk_down(
    problem: Problem,
    batteries: Sequence[str],
    soc: list[float],
    mean_a: float,
    ohms: Sequence[float],
) -> tuple[float, list[float]]:
    """Hours until the first reaches its reserve, and the charge of all then."""
    packs = [problem.batteries[key].pack for key in batteries]
    hours = 0.0
    if mean_a <= 0:
        return math.inf, soc
    while hours < _LONGEST_H:
        rested = [pack.rested_v(one) for pack, one in zip(packs, soc, strict=True)]
        amps = shared_currents_a(rested, ohms, mean_a)
        after = [
            min(1.0, one - share * _STEP_H / float(pack.ah_at(share)))
            for one, share, pack in zip(soc, amps, packs, strict=True)
        ]
        if any(one <= pack.reserve_soc for one, pack in zip(after, packs, strict=True)):
            return hours, soc
        soc, hours = after, hours + _STEP_H
    return hours, soc


def _faults(
    problem: Problem,
    batteries: Sequence[str],
    volts: Sequence[float],
    soc: Sequence[float],
    members: Sequence[Member],
) -> list[str]:
    plans = [problem.batteries[key] for key in batteries]
    found = []
    if len({(one.pack.chemistry, one.pack.series) for one in plans}) > 1:
        found.append("different chemistries or voltages: never in parallel")
    if max(volts) - min(volts) > MATCHED_V:
        found.append(
            f"{max(volts) - min(volts):.2f} V apart: match the volts first, or isolate"
        )
    if max(soc) - min(soc) > 0.1:
        found.append(
            "unequal charge: equal volts are not equal charge; change the whole set"
        )
    found += [
        f"{problem.batteries[one.battery].tag} would give {one.loss_a:.1f} A at the "
        f"peak if another dropped out, above its {one.limit_a:g} A"
        for one in members
        if one.is_over
    ]
    return found


def sets_needed(serve_h: float, charge_h: float, handling_h: float) -> int:
    """
    Sets that a station needs to go on for ever, with a charger for each that waits.

    ceil((serving + charging + handling) / serving).

    Parameters
    ----------
    serve_h, charge_h, handling_h : float
        How long one set serves, charges, and is on the way there and back. [h]

    Raises
    ------
    OutOfRange
        If a set serves no time at all, or a time is below 0.
    """
    in_range("Time a set serves", serve_h, low=1e-6, unit="h")
    in_range("Time it charges", charge_h, low=0, unit="h")
    in_range("Time of handling", handling_h, low=0, unit="h")
    return math.ceil(round((serve_h + charge_h + handling_h) / serve_h, 9))


def chargers_needed(serve_h: float, charge_h: float) -> int:
    """
    Chargers that keep up: ceil(charging / serving).

    Parameters
    ----------
    serve_h, charge_h : float
        How long one set serves, and how long it charges. [h]

    Raises
    ------
    OutOfRange
        If a set serves no time at all.
    """
    in_range("Time a set serves", serve_h, low=1e-6, unit="h")
    return math.ceil(round(charge_h / serve_h, 9))
