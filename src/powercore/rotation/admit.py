"""Whether a station that comes later can be served, and who pays for it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from powercore.event.plans import LOW, Pin
from powercore.event.problem import Problem
from powercore.event.scenario import Scenario
from powercore.rotation.compare import Replayed
from powercore.rotation.construct import construct

CAN, WITH_LOW, CANNOT = "can", "with_low", "cannot"
#: Fewer minutes off the air than this are the grid's, not anybody's. [min]
LEAST_MIN = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Admission:
    """What serving one more station comes to, against the same event without it."""

    station: str
    #: "can": nobody loses a minute; "with_low": so on its low power; "cannot".
    verdict: str
    #: Off the air at the station itself. [min]
    own_min: float
    #: More minutes off the air at others, where there are any.
    pays: tuple[tuple[str, float], ...]
    walks: int


def admission(problem: Problem, station: str) -> Admission:
    """
    Say whether a station can be served beside the others.

    First complete rotations are compared, so that "cannot" means that no plan at hand
    does it; a long search may find one.

    Parameters
    ----------
    problem : Problem
        The event with the station.
    station : str
        Its key.

    Returns
    -------
    Admission
        At full power where that can be; else on low power where it has that and that
        can be; else at full power, with what it costs.

    Raises
    ------
    powercore.rotation.pins.PinRefused
        If a pin can't be kept.
    """
    scenario = problem.scenario
    without = _rotation(Problem(_without(scenario, station)))
    full = _against(station, _rotation(problem), without, CAN)
    if full.verdict == CAN:
        return full
    if bool((problem.all_low.asked_w[station] < problem.asked_w[station]).any()):
        pin = Pin(kind=LOW, start_min=0, end_min=problem.span_min, place=station)
        lowered = Problem(replace(scenario, pins=(*scenario.pins, pin)))
        low = _against(station, _rotation(lowered), without, WITH_LOW)
        if low.verdict == WITH_LOW:
            return low
    return full


def _rotation(problem: Problem) -> Replayed:
    return Replayed.of(problem, construct(problem))


def _against(
    station: str, made: Replayed, without: Replayed, verdict: str
) -> Admission:
    off: Mapping[str, float] = made.off_air_min
    before: Mapping[str, float] = without.off_air_min
    pays = tuple(
        (key, minutes - before.get(key, 0.0))
        for key, minutes in sorted(off.items())
        if key != station and minutes - before.get(key, 0.0) >= LEAST_MIN
    )
    own = off.get(station, 0.0)
    return Admission(
        station=station,
        verdict=CANNOT if pays or own >= LEAST_MIN else verdict,
        own_min=own,
        pays=pays,
        walks=made.report.outcome.walks - without.report.outcome.walks,
    )


def _without(scenario: Scenario, station: str) -> Scenario:
    """The event as if the station were not there; what it holds is in the yard."""
    return replace(
        scenario,
        stations=tuple(one for one in scenario.stations if one.key != station),
        batteries=tuple(
            one.in_yard if one.start_place == station else one
            for one in scenario.batteries
        ),
        pins=tuple(pin for pin in scenario.pins if pin.place != station),
        steps=tuple(step for step in scenario.steps if step.place != station),
    )
