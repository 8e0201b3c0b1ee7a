"""What really was at an event, as the core's attribution takes it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import pairwise
from uuid import UUID

import numpy as np

from hollow_kettle.debrief.history import History
from hollow_kettle.debrief.models import Shortfall
from hollow_kettle.debrief.shortfalls.queries import Falls
from hollow_kettle.field.beliefs import Turn, Walk, lives_of, readings_of, turns_of
from hollow_kettle.log.models import (
    FieldEntry,
    Kind,
    PlaceKind,
    SourceOff,
)
from hollow_kettle.log.services import counting
from hollow_kettle.plan.bridge.rotations import core_legs
from hollow_kettle.plan.bridge.scenario import scenario_from
from hollow_kettle.plan.bridge.windows import clipped
from hollow_kettle.plan.models import Rotation
from powercore.belief.mixture import FACTOR_EDGES, Mixture
from powercore.belief.steps import CounterReading, Step, Use
from powercore.debrief.attribute import Actual
from powercore.debrief.separate import (
    Ratio,
    ReadTurn,
    Separated,
    said_between,
    separate,
)
from powercore.debrief.shortfall import Stretch, shortfall
from powercore.debrief.versions import Given, versions_of
from powercore.event.plans import LOW, BatteryPlan, Pin
from powercore.event.problem import CHARGE, SERVE, Leg, Problem
from powercore.event.scenario import Scenario
from powercore.futures.draws import SKY_SD
from powercore.physics.loads import ONE_IN_TEN
from powercore.sun.sources import SUN
from powercore.values import Window

#: Ways of running short whose energy is known.
COUNTED = (Shortfall.What.OFF_AIR, Shortfall.What.LOW_POWER)
#: How far a station's draw may be from a plan that nobody measured: one standard
#: deviation of its logarithm. Common practice, no source.
PLAN_SD = 0.25
#: How far a battery may be from what it was trusted with, beside how sure that is: one
#: that was tested, and one that nobody tested. Common practice, no source: two thirds
#: of what is printed are not rare.
AGED_SD, UNPROVEN_SD = 0.1, 0.22
#: How well it is known where a battery's power ends: one standard deviation. (0 to 1)
#: Common practice, no source.
END_SD = 0.05
#: A turn of which less was planned says nothing. (0 to 1)
LEAST_SHARE = 0.03
#: What each turn begins with, so that its readings alone say what was used: wide.
ANYTHING = Mixture.normal(1.2, 0.7, FACTOR_EDGES)
#: How much less or more a bay gives than it should, before anything is read, and how
#: well one charge tells: standard deviations of logarithms. Common practice, no source.
BAY_SD, BAY_READ_SD = 0.2, 0.15
#: A charge of less time says nothing [h]; a battery above this was full. (0 to 1)
LEAST_BAY_H, FULL = 0.3, 0.95
#: What panels gave where somebody read their amps: each reading, as a share.
PANEL_SD = 0.2


@dataclass(frozen=True, slots=True)
class Game:
    """A plan and what became of it, ready to be shared among causes."""

    problem: Problem
    legs: list[Leg]
    actual: Actual
    separated: Separated
    #: Stations and batteries that the plan did not know, by name.
    unplanned: list[str]
    #: How many charges said what a bay gave, by its key.
    charges: dict[str, int]


def game_of(history: History, falls: Falls, baseline: Rotation) -> Game:
    """The plan that was published last before an event began, and what really was."""
    now = history.physics.problem.scenario
    whole, here = scenario_from(baseline.snapshot), {one.key for one in now.stations}
    planned = _of_stations(whole, here)
    known = {b.key for one in planned.batteries for b in one.singles}
    more = tuple(
        one.in_yard for one in now.batteries if not known & {b.key for b in one.singles}
    )
    span_min = min(planned.span_min, round(history.event.minute_of(history.until)))
    problem = Problem(
        replace(
            planned, batteries=(*planned.batteries, *more), span_min=max(1, span_min)
        )
    )
    separated = _separated(history, problem)
    bays, charges = _bays_gave(history, problem)
    real = Problem(_as_logged(problem.scenario, now))
    windows = [one.windows for one in problem.sources.values()]
    is_other = [one.windows for one in real.sources.values()] != windows
    actual = Actual(
        believed=versions_of(
            problem,
            separated,
            start_soc=_starts(history, problem),
            given=Given(
                station_sun_w=list(real.forecast_w.values()),
                source_sun_w=list(real.yard_forecast_w.values()),
                light=_light(history, problem),
                bays=bays,
            ),
        ),
        legs=tuple(_legs(history, problem)),
        sources=real if is_other else None,
        dead=_dead(history, problem),
        faults=_stretches(history, problem, (f for f in falls.every if f.group)),
        saving=_saving(history, problem),
        **_logged(falls, problem),
    )
    unplanned = [one.tag for one in more]
    unplanned += [
        one.name for one in history.stations if str(one.pk) not in problem.stations
    ]
    gone = {one.key for one in whole.stations} - here
    kept = [leg for leg in core_legs(baseline) if leg.place not in gone]
    legs = _until(kept, problem.span_min)
    return Game(problem, legs, actual, separated, unplanned, charges)


def _of_stations(planned: Scenario, keys: set[str]) -> Scenario:
    """A plan without stations that were taken out of the event since."""
    places = {"", *keys, *(bay.key for bay in planned.bays)}
    return replace(
        planned,
        stations=tuple(one for one in planned.stations if one.key in keys),
        pins=tuple(pin for pin in planned.pins if pin.place in places),
        steps=tuple(pin for pin in planned.steps if pin.place in keys),
    )


def _until(legs: Iterable[Leg], minute: int) -> list[Leg]:
    """Legs as far as they had come by a minute."""
    return [
        replace(leg, end_min=min(leg.end_min, minute))
        for leg in legs
        if leg.start_min < minute
    ]


def _as_logged(planned: Scenario, now: Scenario) -> Scenario:
    """A plan with sources and sky as they really were."""
    real = {one.key: one for one in now.sources}
    return replace(
        planned,
        sources=tuple(
            replace(
                one,
                windows=real[one.key].windows,
                arrays=real[one.key].arrays,
            )
            if one.key in real
            else one
            for one in planned.sources
        ),
        site=planned.site or now.site,
        sky=now.sky or planned.sky,
    )


def _legs(history: History, problem: Problem) -> Iterable[Leg]:
    """Who really fed what and who charged where, in whole minutes."""
    event = history.event
    for turn in history.lives:
        place = turn.placement.place if turn.placement else None
        key = str(turn.battery)
        if place is None or key not in problem.batteries:
            continue
        start, end = clipped(event, turn.start, turn.end or history.until, 0)
        if end <= start:
            continue
        if turn.station in problem.stations:
            kind, at = SERVE, turn.station
        elif place.kind == PlaceKind.BAY and str(place.pk) in problem.bays:
            kind, at = CHARGE, str(place.pk)
        else:
            continue
        yield Leg(kind=kind, battery=key, place=at, start_min=start, end_min=end)


def _dead(history: History, problem: Problem) -> dict[str, list[Window]]:
    """When bays gave nothing by the log."""
    event = history.event
    found: defaultdict[str, list[Window]] = defaultdict(list)
    for row in SourceOff.objects.filter(event_key=event.pk):
        start, end = clipped(event, row.started_at, row.ended_at or event.ends_at, 0)
        if end > start and str(row.source_key) in problem.bays:
            found[str(row.source_key)].append(Window(start_min=start, end_min=end))
    return dict(found)


def _stretches(
    history: History, problem: Problem, falls: Iterable
) -> dict[str, list[Window]]:
    """Stretches off the air, by station."""
    found: defaultdict[str, list[Window]] = defaultdict(list)
    for fall in falls:
        start, end = clipped(history.event, fall.start, fall.end, 0)
        key = str(fall.station.pk)
        if fall.what == "off_air" and end > start and key in problem.stations:
            found[key].append(Window(start_min=start, end_min=end))
    return dict(found)


def _saving(history: History, problem: Problem) -> tuple[Pin, ...]:
    """When stations were on low power."""
    found = []
    for span in history.spans:
        start, end = clipped(
            history.event, span.started_at, span.ended_at or history.until, 0
        )
        key = str(span.station_key)
        if span.what == "low_power" and end > start and key in problem.stations:
            found.append(Pin(kind=LOW, place=key, start_min=start, end_min=end))
    return tuple(found)


def _logged(falls: Falls, problem: Problem) -> dict[str, dict[str, float]]:
    """What each station had not of its plan, and for how long, by the log."""
    missed = dict.fromkeys(problem.stations, 0.0)
    off = dict.fromkeys(problem.stations, 0.0)
    low = problem.all_low
    for fall in falls.every:
        key = str(fall.station.pk)
        if key not in missed or fall.what not in COUNTED:
            continue
        measured = shortfall(
            fall.what,
            Stretch(start_min=fall.measured.start_min, end_min=fall.measured.end_min),
            grid=problem.grid,
            full_w=problem.load_w[key],
            low_w=low.load_w[key],
        )
        missed[key] += measured.energy_wh or 0.0
        if fall.what == "off_air":
            off[key] += measured.minutes
    return {"missed_wh": missed, "off_min": off}


# --- what readings say ---


def _separated(history: History, problem: Problem) -> Separated:
    """What stations drew and what batteries hold, by readings alone."""
    counted = _turns(history, _is_counter)
    others = _turns(history, lambda step: not _is_counter(step))
    ended = _ended(history)
    read = []
    for turn, drawn in counted.items():
        key, battery = turn[0], turn[1]
        used = others.get(turn)
        if key not in problem.stations or battery not in problem.batteries:
            continue
        one = ReadTurn(
            station=key,
            battery=battery,
            start_min=history.event.minute_of(drawn.start),
            end_min=history.event.minute_of(drawn.end or history.until),
            drawn=_said(drawn),
            used=ended.get(turn) or _said(used),
        )
        if one.drawn or one.used:
            read.append(one)
    return separate(
        read,
        station_sd={
            key: float(np.hypot(one.spread, PLAN_SD))
            for key, one in problem.stations.items()
        },
        battery_sd={key: _may_be_off(one) for key, one in problem.batteries.items()},
    )


def _may_be_off(battery: BatteryPlan) -> float:
    """How far a battery may be from what it was trusted with, as a share."""
    more = UNPROVEN_SD if battery.pack.tested_ah is None else AGED_SD
    return float(np.hypot(battery.trusted_sd, more))


def _said(turn: Turn | None) -> Ratio | None:
    """What was read in a turn says of what was used in it; None: nothing."""
    if turn is None or turn.factor is None:
        return None
    return said_between(ANYTHING, turn.factor)


def _is_counter(step: Step) -> bool:
    return isinstance(step, CounterReading)


def _turns(
    history: History, counts: Callable[[Step], bool]
) -> dict[tuple[str, str, datetime], Turn]:
    """Turns at stations, each walked by itself, by readings of one sort."""
    physics = history.physics
    uids = [UUID(key) for key in physics.problem.batteries]
    turns = [
        turn
        for turn in turns_of(lives_of(uids), readings_of(history.event), uids)
        if turn.start < history.until
    ]
    Walk(physics, counts=counts, prior=ANYTHING).through(turns, history.until)
    return {
        (turn.station, str(turn.battery), turn.start): turn
        for turn in turns
        if turn.station is not None and turn.station in physics.problem.stations
    }


def _ended(history: History) -> dict[tuple[str, str, datetime], Ratio]:
    """What turns used of what was planned, where their battery's power ended."""
    found = {}
    for span in history.spans:
        turn = history.power_ended(span)
        if turn is None or turn.station is None or turn.placement is None:
            continue
        ratio = _to_its_end(history, turn, span.started_at)
        if ratio is not None:
            found[turn.station, str(turn.battery), turn.start] = ratio
    return found


def _to_its_end(history: History, turn: Turn, at: datetime) -> Ratio | None:
    """Charge from a turn's start to its end, over what was planned till then."""
    physics = history.physics
    place = turn.placement.place if turn.placement else None
    pack = physics.problem.batteries[str(turn.battery)].pack
    planned = given = 0.0
    for step in physics.passed(place, turn.battery, turn.start, at):
        if isinstance(step, Use):
            rate_a = step.planned_ah / max(step.hours, 1e-3)
            planned += step.planned_ah / float(pack.ah_at(rate_a))
            given += step.given_ah / pack.trusted_ah
    begun = next(iter(turn.history.values()), None)
    if begun is None or planned < LEAST_SHARE:
        return None
    floor_soc = physics.problem.feed(turn.station or "", str(turn.battery)).floor_soc
    used = max(LEAST_SHARE, begun.typical - floor_soc + given)
    off = np.hypot(begun.sd, END_SD)
    return Ratio(log=float(np.log(used / planned)), sd=float(off / used))


def _starts(history: History, problem: Problem) -> dict[str, tuple[float, float]]:
    """What is believed of each battery's charge as the event began."""
    event, found = history.event, {}
    for turn in history.lives:
        begun = turn.start <= event.starts_at
        if not begun or (turn.end is not None and turn.end <= event.starts_at):
            continue
        if str(turn.battery) not in problem.batteries or not turn.history:
            continue
        moment = min(turn.history, key=lambda at: abs(at - event.starts_at))
        one = turn.history[moment]
        found[str(turn.battery)] = (one.typical, one.sd)
    return found


def _bays_gave(
    history: History, problem: Problem
) -> tuple[dict[str, Ratio], dict[str, int]]:
    """
    What bays gave over what they should, and by how many charges.

    A battery's charge is known best when it serves next; one that came off full says
    only that it had time enough. Bays that share a source that is too small for all
    of them say nothing: who got how much is not known.
    """
    seen: defaultdict[str, list[tuple[float, float]]] = defaultdict(list)
    lives: defaultdict[UUID, list[Turn]] = defaultdict(list)
    for turn in history.lives:
        lives[turn.battery].append(turn)
    for life in lives.values():
        for turn, after in pairwise(life):
            place = turn.placement.place if turn.placement else None
            key = str(place.pk) if place else ""
            if not turn.is_on_bay or key not in problem.bays or not turn.history:
                continue
            ratio = _bay_gave(history, problem, key, turn, after)
            if ratio is not None and _has_enough(problem, key):
                seen[key].append(ratio)
    found = {}
    for key, ratios in seen.items():
        precision = 1 / BAY_SD**2 + sum(1 / sd**2 for _, sd in ratios)
        log = sum(one / sd**2 for one, sd in ratios) / precision
        found[key] = Ratio(log=log, sd=precision**-0.5)
    return found, {key: len(ratios) for key, ratios in seen.items()}


def _has_enough(problem: Problem, bay: str) -> bool:
    """Whether a bay's source can feed all of its bays at once, whatever the sky."""
    source = problem.sources[problem.bays[bay].source]
    asked = sum(o.max_w for o in problem.bays.values() if o.source == source.key)
    return source.kind != SUN and source.energy_wh is None and asked <= source.max_w


def _bay_gave(
    history: History, problem: Problem, key: str, turn: Turn, after: Turn
) -> tuple[float, float] | None:
    """Logarithm and spread of the hours a charge took at the planned rate over real."""
    battery = str(turn.battery)
    end = min(turn.end or history.until, history.until)
    hours = history.physics.power_hours(key, turn.start, end)
    later = next(iter(after.history.values()), None)
    if battery not in problem.batteries or later is None or hours < LEAST_BAY_H:
        return None
    model = problem.charge_model(key, battery)
    before = next(iter(turn.history.values()))

    def needed(soc: float) -> float:
        return model.hours_to(
            before.typical * model.capacity, min(soc, FULL) * model.capacity
        )

    if later.typical >= FULL or not 0 < needed(later.typical) < float("inf"):
        return None
    low, high = max(1e-3, needed(later.low)), max(1e-3, needed(later.high))
    sd = float(np.hypot(np.log(high / low) / (2 * ONE_IN_TEN), BAY_READ_SD))
    return float(np.log(needed(later.typical) / hours)), sd


def _light(history: History, problem: Problem) -> Ratio:
    """What panels gave of what the sky was to give, by amps that were read."""
    has_panels = any(one.any() for one in problem.forecast_w.values()) or any(
        one.any() for one in problem.yard_forecast_w.values()
    )
    if not has_panels:
        return Ratio(log=0.0, sd=0.0)
    logs = []
    entries = FieldEntry.objects.filter(
        event_key=history.event.pk, kind=Kind.PANEL, amps__gt=0
    )
    for entry in counting(entries):
        owner = str(entry.station_key or entry.source_key or "")
        expected_w = history.physics.panels_w(owner, entry.effective_at)
        if expected_w > 1 and entry.amps:
            volts = entry.volts or history.physics.panels_v(owner)
            logs.append(float(np.log(max(0.05, entry.amps * volts / expected_w))))
    prior, each = 1 / SKY_SD**2, 1 / PANEL_SD**2
    precision = prior + each * len(logs)
    return Ratio(log=each * sum(logs) / precision, sd=precision**-0.5)
