"""
What looks wrong in a scenario as a plan: findings before anything is carried out.

The findings on kits are in `checks`; these look at stations, sources and sun.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from powercore.event.problem import Problem
from powercore.event.scenario import arrays_of
from powercore.sun.arrays import Array
from powercore.sun.sources import (
    GENERATOR,
    PETROL_KWH_L,
    SUN,
    SourcePlan,
    Supply,
    over_supply_a,
)

#: No small petrol engine with its generator does better. (0 to 1) Common practice, no
#: source: about 0.2.
BEST_ENGINE = 0.35
#: Below it batteries give noticeably less. [°C] Common practice, no source.
NOT_COLD_C = 5.0
#: Sustained current against a fuse. (0 to 1) Common practice, no source.
SUSTAINED = 0.8


@dataclass(frozen=True, slots=True, kw_only=True)
class Advice:
    """Something that a coordinator should look at."""

    #: "stop", "caution" or "note".
    severity: str
    #: Key of the station or source it concerns; empty for the event.
    about: str
    words: str
    remedy: str


def advice(problem: Problem) -> list[Advice]:
    """All that looks wrong, stops first."""
    rank = {"stop": 0, "caution": 1, "note": 2}
    found = [*_stations(problem), *_sources(problem), *_event(problem)]
    return sorted(found, key=lambda one: rank[one.severity])


def _stations(problem: Problem) -> Iterator[Advice]:
    for key, station in problem.stations.items():
        if not station.openings or not station.loads:
            yield Advice(
                severity="note",
                about=key,
                words=f"{station.name} draws nothing",
                remedy="give it equipment and open hours",
            )
            continue
        yield from _feed(problem, key)
        usable = [
            battery
            for battery in problem.batteries
            if problem.feed(key, battery).refusal is None
            and not problem.batteries[battery].is_on_hold
        ]
        if not usable:
            yield Advice(
                severity="stop",
                about=key,
                words=f"no battery of the event can feed {station.name}",
                remedy="look at the volts its devices need and at peak currents",
            )
        yield from _drop(problem, key)
        for supply in station.supplies:
            yield from _supply(problem, key, supply, is_bridged=bool(usable))
        for array in station.arrays:
            yield from _array(key, station.name, array)
        yield from _cold(problem, key)


def _feed(problem: Problem, key: str) -> Iterator[Advice]:
    """A station's main fuse and feed."""
    station = problem.stations[key]
    feeding = problem.feeding(key)
    fuse = station.main_fuse_a
    if fuse is not None and feeding.peak_a > fuse:
        yield Advice(
            severity="caution",
            about=key,
            words=f"{station.name} peaks at {feeding.peak_a:.1f} A on a {fuse:g} A "
            "main fuse",
            remedy="transmit one at a time, or split the feed; never a fuse above "
            "the wire",
        )
    elif fuse is not None and feeding.mean_a > SUSTAINED * fuse:
        yield Advice(
            severity="caution",
            about=key,
            words=f"{station.name} draws {feeding.mean_a:.1f} A on the mean, over "
            f"80 % of its {fuse:g} A main fuse",
            remedy="fewer things on this feed",
        )
    carries = station.feed_carries_a
    if carries is not None and feeding.mean_a > carries:
        yield Advice(
            severity="stop",
            about=key,
            words=f"{station.name} draws {feeding.mean_a:.1f} A on the mean, its "
            f"feed carries {carries:.0f} A",
            remedy="a thicker feed, or the battery at the station",
        )


def _drop(problem: Problem, key: str) -> Iterator[Advice]:
    """Volts lost on the way to a station."""
    station, feeding = problem.stations[key], problem.feeding(key)
    drop_v = feeding.peak_a * station.path_ohm
    if drop_v > 0.1 * problem.station_v(key):
        yield Advice(
            severity="caution",
            about=key,
            words=f"{drop_v:.1f} V are lost at {station.name} key down",
            remedy="a shorter or thicker feed, or the battery at the station",
        )


def _supply(
    problem: Problem, key: str, supply: Supply, *, is_bridged: bool
) -> Iterator[Advice]:
    """A supply at a station: its power against peaks, and what it takes to begin."""
    station = problem.stations[key]
    if supply.max_w < station.peak_w:
        yield Advice(
            severity="caution",
            about=key,
            words=f"{supply.name or supply.kind} at {station.name} gives "
            f"{supply.max_w:.0f} W, key down takes "
            f"{station.peak_w:.0f} W",
            remedy="a battery beside it bridges the peaks",
        )
    yield from _budget(problem, key, supply)
    if supply.transfer_s > 0 and is_bridged:
        yield Advice(
            severity="note",
            about=key,
            words=f"{station.name} is dark for {supply.transfer_s:g} s when "
            f"{supply.name or supply.kind} takes over",
            remedy="try the transfer before the day: computers restart",
        )


def _cold(problem: Problem, key: str) -> Iterator[Advice]:
    """What sun or a supply would charge where it is too cold for that."""
    station = problem.stations[key]
    charges = station.arrays or any(one.charges for one in station.supplies)
    frozen = [
        why
        for battery, plan in problem.batteries.items()
        if (why := problem.cold_refusal(battery, station.cold_c))
        and problem.feed(key, battery).refusal is None
        and not plan.is_on_hold
    ]
    if charges and frozen:
        yield Advice(
            severity="stop",
            about=key,
            words=f"what charges at {station.name} must be off: {frozen[0]}",
            remedy="a warm box, batteries that warm themselves, or a charger that "
            "waits for warmth",
        )


def _budget(problem: Problem, key: str, supply: Supply) -> Iterator[Advice]:
    """Radio and charger together within the supply's rating."""
    if not supply.charges:
        return
    station = problem.stations[key]
    charger_a = max(
        (
            problem.field_model(battery).bulk
            for battery in problem.batteries
            if problem.feed(key, battery).refusal is None
        ),
        default=0.0,
    )
    supply_a = supply.max_w / problem.station_v(key)
    over = over_supply_a(supply_a, problem.feeding(key).peak_a, charger_a)
    if over > 0:
        yield Advice(
            severity="note",
            about=key,
            words=f"radio and charger at {station.name} could ask {over:.0f} A more "
            f"than {supply.name or supply.kind} gives",
            remedy="a charger that can be turned down, or charge between transmissions",
        )


def _array(key: str, where: str, array: Array) -> Iterator[Advice]:
    if array.max_a is not None and array.watts / 13.4 > 1.25 * array.max_a:
        yield Advice(
            severity="note",
            about=key,
            words=f"{array.name or 'the array'} at {where} can give more than its "
            f"controller's {array.max_a:g} A",
            remedy="expect the clipped figure",
        )
    if array.method == "pwm" and array.vmp_v > 24:
        yield Advice(
            severity="caution",
            about=key,
            words=f"{array.name or 'the array'} at {where}: {array.vmp_v:g} V panels "
            "on a controller that only switches waste more than half",
            remedy="a tracking controller, or panels in parallel",
        )


def _sources(problem: Problem) -> Iterator[Advice]:
    for source in problem.scenario.sources:
        bays_w = sum(
            bay.max_w for bay in problem.bays.values() if bay.source == source.key
        )
        can_w = problem.sources[source.key].max_w
        if source.kind not in (SUN,) and bays_w > can_w + 1e-6:
            yield Advice(
                severity="note",
                about=source.key,
                words=f"chargers on {source.name} could give {bays_w:.0f} W; it "
                f"feeds {can_w:.0f} W of them",
                remedy="not all bays run at full power at once; the rotation minds it",
            )
        if source.fuel is not None and _share_of_fuel(source) > BEST_ENGINE:
            yield Advice(
                severity="caution",
                about=source.key,
                words=f"{source.name} would turn {_share_of_fuel(source):.0%} of its "
                "petrol into power: no small engine does",
                remedy="look at the consumption again: litres an hour at full power",
            )
        if source.kind == GENERATOR and source.fuel is None:
            yield Advice(
                severity="note",
                about=source.key,
                words=f"nothing is known of the fuel of {source.name}",
                remedy="state tank, consumption and fuel on hand",
            )


def _share_of_fuel(source: SourcePlan) -> float:
    """Power out against the energy of the petrol burnt, at full power. (0 to 1)"""
    if source.fuel is None:
        return 0.0
    return source.max_w / 1000 / (source.fuel.full_l_h * PETROL_KWH_L)


def _event(problem: Problem) -> Iterator[Advice]:
    scenario = problem.scenario
    names = [load.name.lower() for one in scenario.stations for load in one.loads]
    is_club = len(scenario.stations) > 1
    if is_club and not any("power desk" in name for name in names):
        yield Advice(
            severity="note",
            about="",
            words="the laptop, access point and phones of the power desk are no "
            "station's load",
            remedy="give a station the power desk, or a battery of its own",
        )
    coldest = min((hour.air_c for hour in scenario.sky), default=NOT_COLD_C)
    warm = [one.name for one in scenario.stations if one.cold_c is None]
    if scenario.bays and scenario.yard_cold_c is None:
        warm.append("the yard")
    if coldest < NOT_COLD_C and warm:
        yield Advice(
            severity="caution",
            about="",
            words=f"the forecast goes down to {coldest:.0f} °C; the plan counts on "
            f"warm batteries at {', '.join(warm)}",
            remedy="say there how cold batteries get, or that they are kept warm",
        )
    has_panels = bool(arrays_of(scenario))
    if has_panels and scenario.site is None:
        yield Advice(
            severity="caution",
            about="",
            words="there are panels but no place under the sky",
            remedy="put the yard or a station on the map",
        )
    if has_panels and scenario.site is not None and not scenario.sky:
        yield Advice(
            severity="note",
            about="",
            words="no forecast: half cloud is assumed",
            remedy="import a forecast, or type the cloud",
        )
