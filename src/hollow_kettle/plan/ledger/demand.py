"""What a station asks for: its demand with its parts, its steps, what lasts there."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np

from hollow_kettle.plan.bridge.problems import EventProblem, problem_for
from hollow_kettle.plan.drawing import hour_ticks
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.ui.drawing import Scale, marks, points
from powercore.belief.runtime import hours_at
from powercore.errors import PowercoreError
from powercore.event.plans import FORECAST, StationPlan
from powercore.event.problem import Problem
from powercore.futures.advice import Advice, advice
from powercore.futures.budget import Endurance, endurance
from powercore.futures.sets import (
    Member,
    SetReport,
    chargers_needed,
    parallel_set,
    sets_needed,
)
from powercore.physics.charging import Recharge, recharge
from powercore.physics.loads import (
    ONE_IN_TEN,
    Step,
    bad_day_w,
    demand_w,
    load_w,
    peak_current_a,
)
from powercore.sun.sizing import CRITICAL_RATIO, BatterySize, battery_size, panel_w
from powercore.values import FloatArray

#: Room for the watts beside a demand drawing, and how many of them. [px]
_LEFT, _MARKS = 44, 3


@dataclass(frozen=True, slots=True)
class DemandPart:
    """One load's share of a demand drawing, stacked on those before it."""

    name: str
    outline: str
    wh: float
    mean_w: float


@dataclass(frozen=True, slots=True)
class StepRow:
    """A power step: what it draws, and how long the first battery lasts on it."""

    words: str
    mean_w: float
    peak_a: float
    lasts_h: float
    say: str


@dataclass(frozen=True, slots=True)
class StationPage:
    """What one station asks for, and how long each battery would keep it on."""

    need_wh: float = 0.0
    mean_a: float = 0.0
    bad_a: float = 0.0
    peak_a: float = 0.0
    open_h: float = 0.0
    #: Tag, how long it lasts, and its turn from first to last-ditch.
    batteries: list[tuple[str, Endurance, str]] = field(default_factory=list)
    #: Demand as stacked areas, sun over it, and the hours beneath.
    demand: list[DemandPart] = field(default_factory=list)
    sun: str = ""
    ticks: list[tuple[float, str]] = field(default_factory=list)
    #: Watts up the side: pixel and words.
    marks: list[tuple[float, str]] = field(default_factory=list)
    most_w: float = 0.0
    steps: list[StepRow] = field(default_factory=list)
    drop_v: float = 0.0
    #: What one would have to have for it, by hand formula. [Ah], [W]
    size: BatterySize | None = None
    panel_w: float | None = None
    advice: list[Advice] = field(default_factory=list)
    trouble: str = ""


def station_page(event: Event, station: Station) -> StationPage:
    """Work out a station's demand and endurance."""
    try:
        found = problem_for(event)
        problem, key = found.problem, str(station.pk)
        plan = problem.stations[key]
        feeding = problem.feeding(key)
        lasts = [
            (problem.batteries[item.battery].tag, item)
            for item in sorted(
                endurance(problem, key),
                key=lambda item: problem.batteries[item.battery].pack.tested_ah is None,
            )
        ]
        number = list(problem.stations).index(key)
        sun_w = found.suns[FORECAST][0][number] if FORECAST in found.suns else None
    except PowercoreError as error:
        return StationPage(trouble=str(error))
    watts = problem.load_w[key]
    open_steps = int((watts > 0).sum())
    most_w = float(max(watts.max(), 1.0 if sun_w is None else sun_w.max(), 1.0))
    x, y = Scale(0, event.span_min, _LEFT, 631), Scale(0, most_w, 132, 8)
    mean_w = float(watts.sum()) / open_steps if open_steps else 0.0
    mean_a = mean_w / problem.station_v(key)
    return StationPage(
        need_wh=float(watts.sum()) * problem.grid.step_min / 60,
        mean_a=mean_a,
        bad_a=bad_day_w(mean_a, plan.spread),
        peak_a=feeding.peak_a,
        open_h=open_steps * problem.grid.step_min / 60,
        batteries=[
            (tag, item, _turn(problem, item, number))
            for number, (tag, item) in enumerate(lasts)
        ],
        demand=_stacked(problem, plan, x, y),
        sun="" if sun_w is None or not plan.arrays else _stepped(problem, sun_w, x, y),
        ticks=hour_ticks(event, x),
        marks=marks(y, _MARKS),
        most_w=most_w,
        steps=_steps(problem, plan, lasts),
        drop_v=feeding.peak_a * plan.path_ohm,
        size=_size(key, watts, problem),
        panel_w=_panel_w(event, watts, found),
        advice=[one for one in advice(problem) if one.about == key],
    )


def _size(key: str, watts: FloatArray, problem: Problem) -> BatterySize | None:
    """A LiFePO4 battery for all of it without sun, by hand formula."""
    if not watts.any():
        return None
    days = days_of(problem.span_min)
    drawn_wh = float(watts.sum()) * problem.grid.step_min / 60
    return battery_size(drawn_wh / problem.station_v(key) / days, days, depth=0.8)


def days_of(span_min: float) -> float:
    """Days by which a day's charge is counted: of a short event, all it draws. [d]"""
    return max(1.0, span_min / 1440)


def _panel_w(event: Event, watts: FloatArray, found: EventProblem) -> float | None:
    """A panel that would carry it for ever under the forecast, by hand formula."""
    view = found.view
    if view is None or not watts.any():
        return None
    days = days_of(event.span_min)
    light = view.light(FORECAST).global_w
    sun_h = float(light.sum()) * view.grid.step_min / 60 / 1000 / days
    if sun_h < 0.1:
        return None
    daily_wh = float(watts.sum()) * view.grid.step_min / 60 / days
    return panel_w(daily_wh, sun_h, ratio=CRITICAL_RATIO)


@dataclass(frozen=True, slots=True)
class SetPage:
    """Batteries side by side at a station, and how many such sets it would take."""

    report: SetReport | None = None
    members: list[tuple[str, Member]] = field(default_factory=list)
    charge_h: float = 0.0
    sets: int = 0
    chargers: int = 0
    trouble: str = ""


def set_page(event: Event, station: Station, chosen: list[str]) -> SetPage:
    """Work out a full set of batteries in parallel at a station."""
    try:
        problem, key = problem_for(event).problem, str(station.pk)
        report = parallel_set(problem, key, chosen, [1.0] * len(chosen))
    except PowercoreError as error:
        return SetPage(trouble=str(error))
    members = [(problem.batteries[one.battery].tag, one) for one in report.members]
    hours = report.to_reserve_h
    if not 0 < hours < math.inf:
        return SetPage(report=report, members=members)
    charge_h = max(_charge_h(problem, battery) for battery in chosen)
    handling_h = 2 * problem.stations[key].walk_min / 60
    return SetPage(
        report=report,
        members=members,
        charge_h=charge_h,
        sets=sets_needed(hours, charge_h, handling_h),
        chargers=chargers_needed(hours, charge_h) * len(chosen),
    )


def recharges(event: Event, station: Station) -> dict[int, Recharge]:
    """
    How long each supply there that may charge takes, by its row's key.

    The battery that usually feeds the station, from its reserve, while the station
    draws its mean. Empty where nothing can be worked out.
    """
    supplies = station.supplies.filter(charges=True)
    if not supplies:
        return {}
    try:
        problem, key = problem_for(event).problem, str(station.pk)
    except PowercoreError:
        return {}
    able = [
        one
        for one in problem.batteries.values()
        if problem.feed(key, one.key).refusal is None
    ]
    if not able:
        return {}
    battery = able[0]
    volts = battery.pack.on_charge_v
    watts = problem.load_w[key]
    load_a = float(watts[watts > 0].mean()) / volts if (watts > 0).any() else 0.0
    return {
        supply.pk: recharge(
            battery.pack,
            supply.max_w / volts,
            limit_a=battery.charge_limit_a,
            load_a=load_a,
            from_soc=battery.pack.reserve_soc,
        )
        for supply in supplies
    }


def _charge_h(problem: Problem, battery: str) -> float:
    """Hours to fill a battery from its reserve on the best bay for it. [h]"""
    pack = problem.batteries[battery].pack
    models = [
        problem.charge_model(bay, battery)
        for bay in problem.bays
        if problem.bay_refusal(bay, battery) is None
    ] or [problem.field_model(battery)]
    return min(
        model.hours_to(pack.reserve_soc * model.capacity, 0.98 * model.capacity)
        for model in models
    )


def _stacked(
    problem: Problem, plan: StationPlan, x: Scale, y: Scale
) -> list[DemandPart]:
    """Each load's area on top of those before it; the largest at the bottom."""
    grid = problem.grid
    return _stack(
        problem,
        [
            (
                f"{load.count} × {load.name}" if load.count > 1 else load.name,
                load_w(grid, load, plan.openings),
            )
            for load in plan.loads
        ],
        x,
        y,
    )


def _stack(
    problem: Problem, series: list[tuple[str, FloatArray]], x: Scale, y: Scale
) -> list[DemandPart]:
    below, parts = np.zeros(problem.grid.count), []
    for name, watts in sorted(series, key=lambda pair: -float(pair[1].sum())):
        above = below + watts
        ran = watts > 0
        parts.append(
            DemandPart(
                name=name,
                outline=_between(problem, below, above, x, y),
                wh=float(watts.sum()) * problem.grid.step_min / 60,
                mean_w=float(watts[ran].mean()) if ran.any() else 0.0,
            )
        )
        below = above
    return parts


@dataclass(frozen=True, slots=True)
class EventDemand:
    """What all stations ask for together, stacked by station."""

    parts: list[DemandPart]
    sun: str
    ticks: list[tuple[float, str]]
    #: Watts up the side: pixel and words.
    marks: list[tuple[float, str]]
    most_w: float
    mean_w: float
    #: Mean that only 1 day in 10 goes above; stations vary each by itself. [W]
    bad_w: float


def _turn(problem: Problem, item: Endurance, number: int) -> str:
    """A battery's turn at a station: proved and long-lasting ones come first."""
    if item.refusal is not None:
        return ""
    if problem.batteries[item.battery].pack.tested_ah is None:
        return "last-ditch: untested"
    return "first" if number == 0 else f"{number + 1}"


def event_demand(event: Event, found: EventProblem, sky: str) -> EventDemand:
    """Draw the demand of all stations, with what their panels give under a sky."""
    problem, suns = found.problem, found.suns
    total = sum(problem.load_w.values(), np.zeros(problem.grid.count))
    sun_w = sum(suns[sky][0], np.zeros(problem.grid.count))
    most_w = float(max(total.max(), sun_w.max(), 1.0))
    # The problem's own minutes, where they lie in the event.
    x = Scale(-found.from_min, event.span_min - found.from_min, _LEFT, 831)
    y = Scale(0, most_w, 132, 8)
    means = {key: float(watts.mean()) for key, watts in problem.load_w.items()}
    spread = sum(
        (mean * problem.stations[key].spread) ** 2 for key, mean in means.items()
    )
    mean_w = sum(means.values())
    return EventDemand(
        parts=_stack(
            problem,
            [(problem.stations[k].name, watts) for k, watts in problem.load_w.items()],
            x,
            y,
        ),
        sun=_stepped(problem, sun_w, x, y) if sun_w.max() > 0 else "",
        ticks=hour_ticks(event, Scale(0, event.span_min, _LEFT, 831)),
        marks=marks(y, _MARKS),
        most_w=most_w,
        mean_w=mean_w,
        bad_w=mean_w + ONE_IN_TEN * spread**0.5,
    )


def _between(
    problem: Problem, low: FloatArray, high: FloatArray, x: Scale, y: Scale
) -> str:
    """The area between two stepped lines."""
    step = problem.grid.step_min
    there, back = [], []
    for number in range(problem.grid.count):
        left, right = x(number * step), x((number + 1) * step)
        there += [(left, y(float(high[number]))), (right, y(float(high[number])))]
        back += [(left, y(float(low[number]))), (right, y(float(low[number])))]
    return points(there + back[::-1])


def _stepped(problem: Problem, watts: FloatArray, x: Scale, y: Scale) -> str:
    step = problem.grid.step_min
    return points(
        [(x((n + 0.5) * step), y(float(value))) for n, value in enumerate(watts)]
    )


def _steps(
    problem: Problem, plan: StationPlan, lasts: list[tuple[str, Endurance]]
) -> list[StepRow]:
    """What each power step draws on the mean of the open hours."""
    usable = next((item for _, item in lasts if item.refusal is None), None)
    if usable is None or not plan.openings:
        return []
    feed = problem.feed(plan.key, usable.battery)
    held_wh = (1 - feed.reserve_soc) * feed.capacity_wh
    rows = []
    for step, words, say in (
        (Step.FULL, "full", ""),
        (Step.LOW, "low power", plan.low_words),
        (Step.WATCH, "receive watch", plan.watch_words),
    ):
        openings = [replace(one, step=step) for one in plan.openings]
        watts = demand_w(problem.grid, plan.loads, openings)
        mean_w = float(watts[watts > 0].mean()) if (watts > 0).any() else 0.0
        rows.append(
            StepRow(
                words=words,
                mean_w=mean_w,
                peak_a=peak_current_a(plan.loads, [step]),
                lasts_h=hours_at(held_wh, mean_w * plan.on_share),
                say=say,
            )
        )
    return rows
