"""What binds a rotation, in words, for its board."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime

from hollow_kettle.clock import told
from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.models import Event, Rotation
from hollow_kettle.plan.rotation.changes import low_asked
from powercore.event.problem import Problem
from powercore.rotation import binds as core
from powercore.rotation.verify import Outcome

#: Most rows shown; waiting below this is not worth a word. [battery-hours]
ROWS, NOTICED_H = 6, 1.0

#: Why a station runs short, and what would cure it.
WORDS = {
    core.NO_BATTERY: ("there is no battery", "batteries for the event"),
    core.NO_FIT: ("no battery may feed it: {about}", "a battery that fits it"),
    core.PINNED: ("a pin is in the way{until}", "lifting the pin"),
    core.NO_CREW: ("nobody may walk there{until}", "a crew on duty then"),
    core.ALONE: ("one alone would walk in the dark{until}", "two to walk together"),
    core.CREW_BUSY: ("the crews are on other walks", "one more crew then"),
    core.TOO_HEAVY: (
        "{about} is charged, and too heavy for the crew on duty",
        "more people to carry it, or its weight noted if it is less",
    ),
    core.TOO_WEAK: (
        "none holds {about} there; power falls first, then it is off",
        "a shorter or thicker feed, batteries as a set, or less power",
    ),
    core.TOO_SMALL: (
        "what is charged, like {about}, does not last there",
        "a bigger battery or a set, or low power",
    ),
    core.KEPT: ("charged batteries are kept for {about}", "one more battery"),
    core.AT_HAND: ("{about} is charged in the yard", "a better plan"),
    core.NO_POWER: ("empty batteries wait for power", "power at a free bay"),
    core.NO_WATCH: (
        "empty batteries wait for somebody at the yard",
        "somebody at the yard",
    ),
    core.NO_BAY: ("empty batteries wait for a bay", "one more bay"),
    core.TOO_COLD: ("it is too cold in the yard to charge them", "a warm yard"),
    core.BAY_FREE: ("{about} could have charged", "a better plan"),
    core.TOO_FEW: (
        "every battery is out, charging or empty",
        "one more battery, or low power",
    ),
}
#: What empty batteries waited for.
WAITS = {
    core.NO_BAY: "for a bay",
    core.TOO_COLD: "for warmth",
    core.NO_POWER: "for power",
    core.NO_WATCH: "for somebody at the yard",
}


@dataclass(frozen=True, slots=True)
class BindRow:
    """Why one station is off the air, or into reserve."""

    station: str
    is_off: bool
    starts: datetime
    ends: datetime
    #: How many stretches have this cause, and their open minutes together.
    stretches: int
    minutes: float
    why: str
    cure: str
    #: What a pin asks that puts it on low power for as long as that helps.
    low: dict[str, str] | None
    low_from: datetime | None


@dataclass(frozen=True, slots=True)
class BindsPage:
    """What binds, by station and cause, and what is used how far."""

    rows: tuple[BindRow, ...]
    more: int
    bay_share: float | None
    walk_share: float | None
    waits: tuple[tuple[float, str], ...]
    fewest: int
    fewest_at: datetime


def binds_page(event: Event, rotation: Rotation, outcome: Outcome) -> BindsPage:
    """Say what binds a rotation, from what its replay gave."""
    problem, legs = problem_of(rotation)
    found = core.binds(problem, legs, outcome)
    groups: dict[tuple[str, ...], list[core.Bind]] = defaultdict(list)
    for bind in (*found.off_air, *found.reserve):
        why, cure = _words(event, rotation, problem, bind)
        groups[bind.station, bind.what, why, cure].append(bind)
    rows = [
        _row(event, rotation, problem, binds, why, cure)
        for (_, _, why, cure), binds in groups.items()
    ]
    use = found.use
    return BindsPage(
        rows=tuple(rows[:ROWS]),
        more=max(0, len(rows) - ROWS),
        bay_share=use.bay_used_h / use.bay_h if use.bay_h else None,
        walk_share=use.walked_h / use.duty_h if use.duty_h else None,
        waits=tuple(
            (use.waited_h[cause], words)
            for cause, words in WAITS.items()
            if use.waited_h.get(cause, 0.0) >= NOTICED_H
        ),
        fewest=use.fewest,
        fewest_at=event.moment_of(use.fewest_min + rotation.from_min),
    )


def _row(
    event: Event,
    rotation: Rotation,
    problem: Problem,
    binds: list[core.Bind],
    why: str,
    cure: str,
) -> BindRow:
    """Stretches of one station with one cause; the longest may be bridged."""

    def moment(minute: float) -> datetime:
        return event.moment_of(minute + rotation.from_min)

    worst, low, low_from = binds[0], None, None
    if worst.low_from_min is not None:
        low_from = moment(worst.low_from_min)
        low = low_asked(rotation, worst.station, worst.low_from_min, worst.end_min)
    return BindRow(
        problem.stations[worst.station].name,
        worst.what == "off_air",
        moment(min(bind.start_min for bind in binds)),
        moment(max(bind.end_min for bind in binds)),
        len(binds),
        sum(bind.open_min for bind in binds),
        why,
        cure,
        low,
        low_from,
    )


def _words(
    event: Event, rotation: Rotation, problem: Problem, bind: core.Bind
) -> tuple[str, str]:
    """A cause and its cure, with the names of what they are about."""
    about = bind.about
    if about == bind.station:
        about = "later there"
    elif about in problem.stations:
        about = problem.stations[about].name
    elif about in problem.batteries:
        about = problem.batteries[about].tag
    until = ""
    if bind.until_min is not None:
        moment = event.moment_of(bind.until_min + rotation.from_min)
        until = f" until {told(moment, event.zone)}"
    why, cure = WORDS[bind.cause]
    return why.format(about=about, until=until), cure
