"""
What a change at one station would buy: hours on the air, energy, mass.

Each change makes another scenario (and another rotation, where a spare stands at
the station); both are run through the same futures, so that what differs is the
change alone.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from powercore.errors import OutOfRange, UnknownKey
from powercore.event.plans import BatteryPlan, StationPlan
from powercore.event.problem import SERVE, Leg, Problem
from powercore.event.scenario import low_power
from powercore.futures.budget import StationBudget, Suns, ledgers_of
from powercore.physics.loads import Load, Opening, Pattern, Step
from powercore.sun.arrays import Array
from powercore.values import Window

#: Key of the battery that a spare is in a changed rotation.
SPARE = "what-if-spare"
#: A panel to try where a station has none: 100 W, tracking, facing the equator.
USUAL_PANEL = Array(
    name="100 W panel", vmp_v=18.0, imp_a=5.56, voc_v=22.3, isc_a=6.0, tilt=30
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """One change at a station."""

    words: str
    #: "low", "watch", "duty", "panels", "battery", "spare", "reserve" or "off".
    kind: str
    #: Where it holds only then. [min]
    window: Window | None = None
    #: Times the transmit share; panels more or fewer; points of reserve.
    amount: float = 0.0
    #: A battery of the event, or a load's name.
    what: str = ""
    #: Carried more (or less). [kg]
    mass_kg: float | None = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Gain:
    """What a change buys at its station; more is better but for need."""

    change: Change
    before: StationBudget
    after: StationBudget

    @property
    def on_air_h(self) -> float:
        """Hours on the air gained as planned. [h]"""
        return self.after.on_air_h - self.before.on_air_h

    @property
    def on_air_bad_h(self) -> float:
        """Hours gained 1 time in 10. [h]"""
        return self.after.on_air_bad_h - self.before.on_air_bad_h

    @property
    def reserve_min(self) -> float:
        """Minutes fewer into reserve."""
        return self.before.reserve_min - self.after.reserve_min

    @property
    def saved_wh(self) -> float:
        """Energy that is not needed any more. [Wh]"""
        return self.before.need_wh - self.after.need_wh


def changed(
    problem: Problem,
    legs: Sequence[Leg],
    suns: Suns,
    station: str,
    change: Change,
) -> tuple[Problem, tuple[Leg, ...], Suns]:
    """
    The event, its rotation and its sun after a change.

    Raises
    ------
    UnknownKey
        If the change names something that is not there.
    """
    scenario, plan = problem.scenario, problem.stations[station]
    new_legs = tuple(legs)
    batteries = scenario.batteries
    if change.kind == "low":
        plan = low_power(plan, change.window)
    elif change.kind == "watch":
        plan = _watching(plan, change.window)
    elif change.kind == "duty":
        plan = replace(
            plan,
            openings=tuple(_duty(one, change.amount) for one in plan.openings),
        )
    elif change.kind == "off":
        plan = replace(plan, loads=tuple(_unplugged(plan, change, scenario.span_min)))
    elif change.kind == "panels":
        suns = _panels(problem, suns, station, change.amount)
    elif change.kind in ("battery", "spare"):
        batteries, new_legs = _battery(problem, new_legs, station, change)
    elif change.kind == "reserve":
        here = {
            leg.battery for leg in legs if leg.kind == SERVE and leg.place == station
        }
        batteries = tuple(
            _reserve(one, change.amount) if one.key in here else one
            for one in batteries
        )
    else:
        raise UnknownKey(f"There is no change '{change.kind}'.")
    stations = tuple(plan if one.key == station else one for one in scenario.stations)
    new = replace(scenario, stations=stations, batteries=batteries)
    return Problem(new), new_legs, suns


def what_if(
    problem: Problem,
    legs: Sequence[Leg],
    suns: Suns,
    station: str,
    changes: Sequence[Change],
    *,
    count: int = 30,
) -> list[Gain]:
    """
    What each change alone would buy at a station under the one sky of `suns`.

    Parameters
    ----------
    problem, legs : Problem, sequence of Leg
        The event and the rotation that is changed.
    suns : dict
        What panels give under one sky.
    station : str
        Key of the station.
    changes : sequence of Change
    count : int
        Futures that say what is bad, 1 in 10.

    Returns
    -------
    list of Gain
        One for each change, in their order.
    """
    (sky,) = suns
    cases: list[tuple[Problem, tuple[Leg, ...], Suns]] = [(problem, tuple(legs), suns)]
    cases += [changed(problem, legs, suns, station, one) for one in changes]
    # Cases with the same legs and batteries are worked out together.
    groups: dict[object, list[int]] = {}
    for number, (new, new_legs, _) in enumerate(cases):
        groups.setdefault((new_legs, tuple(new.batteries)), []).append(number)
    lines: dict[int, StationBudget] = {}
    for numbers in groups.values():
        problems, all_legs, all_suns = zip(*(cases[n] for n in numbers), strict=True)
        found = ledgers_of(problems, all_legs[0], all_suns, count=count)
        for number, every in zip(numbers, found, strict=True):
            lines[number] = every[sky].line(station)
    return [
        Gain(change=change, before=lines[0], after=lines[number])
        for number, change in enumerate(changes, start=1)
    ]


def usual_changes(
    problem: Problem, legs: Sequence[Leg], station: str, night: Window | None
) -> list[Change]:
    """Changes worth a look at a station: those that its equipment allows."""
    plan = problem.stations[station]
    found = []
    if any(load.low is not None and load.low != load.draw for load in plan.loads):
        found.append(Change(words="low power all the time", kind="low"))
        if night is not None:
            found.append(
                Change(words="low power in the dark", kind="low", window=night)
            )
    if any(one.pattern.transmit_share > 0 for one in plan.openings):
        found.append(Change(words="transmits a quarter less", kind="duty", amount=0.75))
    for load in plan.loads:
        if load.name and load.draw.key_down_a == load.draw.receive_a and night:
            found.append(
                Change(
                    words=f"{load.name} unplugged in the dark",
                    kind="off",
                    what=load.name,
                    window=night,
                )
            )
            break
    spare = _usual_spare(problem, legs, station)
    if spare is not None:
        found.append(
            Change(
                words=f"{spare.tag}, {spare.pack.nameplate_ah:g} Ah, waits as spare",
                kind="spare",
                what=spare.key,
                mass_kg=spare.mass_kg,
            )
        )
    found.append(
        Change(
            words="one more 100 W panel" if plan.arrays else "a 100 W panel",
            kind="panels",
            amount=1,
            mass_kg=None,
        )
    )
    return found


def _usual_spare(
    problem: Problem, legs: Sequence[Leg], station: str
) -> BatteryPlan | None:
    """The largest battery that fits and is used nowhere in the rotation."""
    used = {leg.battery for leg in legs if leg.kind == SERVE}
    free = [
        one
        for key, one in problem.batteries.items()
        if not one.is_on_hold and problem.feed(station, key).refusal is None
    ]
    idle = [one for one in free if one.key not in used]
    return max(idle or free, key=lambda one: one.pack.trusted_ah, default=None)


def _watching(plan: StationPlan, window: Window | None) -> StationPlan:
    low = low_power(plan, window)
    return replace(
        low,
        openings=tuple(
            replace(one, step=Step.WATCH) if one.step == Step.LOW else one
            for one in low.openings
        ),
    )


def _duty(opening: Opening, factor: float) -> Opening:
    was = opening.pattern
    share = was.transmit_share * factor
    if not 0 <= share <= 1 - was.standby_share:
        raise OutOfRange(
            "Transmit share", round(share, 3), low=0, high=1 - was.standby_share
        )
    pattern = Pattern(
        transmit_share=share, duty=was.duty, standby_share=was.standby_share
    )
    return replace(opening, pattern=pattern)


def _unplugged(plan: StationPlan, change: Change, span_min: int) -> list[Load]:
    """A load without its use inside the window."""
    if not any(load.name == change.what for load in plan.loads):
        raise UnknownKey(f"{plan.name} has no {change.what}.")
    gap = change.window or Window(start_min=0, end_min=span_min)
    found = []
    for load in plan.loads:
        if load.name != change.what:
            found.append(load)
            continue
        left = [
            Window(start_min=start, end_min=end)
            for start, end in ((0, gap.start_min), (gap.end_min, span_min))
            if end > start
        ]
        if left:
            found.append(replace(load, windows=tuple(left)))
    return found


def _panels(problem: Problem, suns: Suns, station: str, more: float) -> Suns:
    """Scale a station's harvest as panels are added to or taken from it."""
    number = list(problem.stations).index(station)
    arrays = problem.stations[station].arrays
    now_w = sum(array.watts for array in arrays)
    new = {}
    for sky, (at_stations, at_sources) in suns.items():
        offered = list(at_stations)
        if now_w > 0:
            factor = max(0.0, (now_w + more * USUAL_PANEL.watts) / now_w)
            offered[number] = np.asarray(offered[number]) * factor
        else:
            from powercore.event.sky import SkyView

            view = SkyView.of(problem.scenario)
            if view is not None:
                is_north = view.site.latitude >= 0
                panel = replace(USUAL_PANEL, azimuth=180.0 if is_north else 0.0)
                offered[number] = more * view.offered_w(
                    (panel,),
                    sky,
                    problem.scenario.charging_v(problem.stations[station]),
                )
        new[sky] = (offered, at_sources)
    return new


def _battery(
    problem: Problem, legs: tuple[Leg, ...], station: str, change: Change
) -> tuple[tuple[BatteryPlan, ...], tuple[Leg, ...]]:
    """Another first battery at a station, or a full spare that waits there."""
    batteries = problem.scenario.batteries
    if change.what not in problem.batteries:
        raise UnknownKey(f"The event has no battery {change.what}.")
    other = problem.batteries[change.what]
    serving = sorted(
        (leg for leg in legs if leg.kind == SERVE and leg.place == station),
        key=lambda leg: leg.start_min,
    )
    if change.kind == "battery":
        first = serving[0].battery if serving else change.what
        return (
            tuple(
                replace(one, pack=other.pack, mass_kg=other.mass_kg)
                if one.key == first
                else one
                for one in batteries
            ),
            legs,
        )
    spare = replace(
        other, key=SPARE, tag=f"{other.tag} (spare)", start_soc=1.0, members=()
    )
    if not serving:
        whole = Leg(
            kind=SERVE,
            battery=SPARE,
            place=station,
            start_min=0,
            end_min=problem.span_min,
        )
        return (*batteries, spare), (*legs, whole)
    return (*batteries, spare), _with_spare(problem, legs, serving)


def _with_spare(
    problem: Problem, legs: tuple[Leg, ...], serving: list[Leg]
) -> tuple[Leg, ...]:
    """The spare takes over where the last battery there reaches its reserve."""
    last = serving[-1]
    feed = problem.feed(last.place, last.battery)
    drawn, edges = problem.drawn_wh[last.place], problem.grid.edges_min
    given = float(np.interp(last.start_min, edges, drawn))
    target = given + (1 - feed.reserve_soc) * feed.capacity_wh
    at = int(np.interp(target, drawn, edges)) if target < drawn[-1] else last.end_min
    at = min(max(at, last.start_min + 1), last.end_min - 1)
    return (
        *(leg for leg in legs if leg is not last),
        replace(last, end_min=at),
        replace(last, battery=SPARE, start_min=at),
    )


def _reserve(one: BatteryPlan, points: float) -> BatteryPlan:
    value = one.pack.reserve_soc + points
    return replace(one, pack=replace(one.pack, reserve=min(0.95, max(0.0, value))))
