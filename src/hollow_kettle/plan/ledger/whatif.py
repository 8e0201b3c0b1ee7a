"""What a change at a station would buy."""

from __future__ import annotations

from dataclasses import dataclass

from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.ui.templatetags.kettle import minutes, signed, wh
from powercore.errors import PowercoreError
from powercore.event.plans import NO_SUN
from powercore.futures.whatif import Change, Gain, usual_changes, what_if
from powercore.values import Window

from .page import nights_of, plan_of, set_up_only


@dataclass(frozen=True, slots=True)
class GainLine:
    """A change as the page shows it: what it buys, and what it weighs."""

    change: str
    #: Hours gained, with their sign; empty where there are none.
    hours: str
    bought: str
    mass: str

    @classmethod
    def of(cls, gain: Gain) -> GainLine:
        """Put a gain into words."""
        hours, bought = "", ["no hour more"]
        if abs(gain.on_air_h) >= 0.05:
            hours, bought = f"{signed(gain.on_air_h)} h", ["on the air"]
        elif gain.on_air_bad_h >= 0.05:
            hours, bought = f"{signed(gain.on_air_bad_h)} h", ["in the bad case"]
        if gain.after.uncovered_wh >= 1:
            bought.append(f"{wh(gain.after.uncovered_wh)} Wh still missing")
        elif gain.before.uncovered_wh >= 1:
            bought.append("nothing uncovered")
        if abs(gain.reserve_min) >= 1:
            less = "less" if gain.reserve_min > 0 else "more"
            bought.append(f"{minutes(abs(gain.reserve_min))} min {less} into reserve")
        if gain.saved_wh >= 1:
            bought.append(f"needs {wh(gain.saved_wh)} Wh less")
        kg = gain.change.mass_kg
        mass = "?" if kg is None else signed(kg) if kg else "0"
        return cls(gain.change.words, hours, " · ".join(bought), mass)


@dataclass(frozen=True, slots=True)
class WhatIf:
    """What changes at one station would buy, under the sky shown."""

    station: Station
    sky: str
    gains: list[Gain]
    batteries: list[tuple[str, str]]
    loads: list[str]
    night: Window | None
    trouble: str = ""

    @property
    def lines(self) -> list[GainLine]:
        """What each change buys, in words."""
        return [GainLine.of(gain) for gain in self.gains]


def what_if_page(
    event: Event, station: Station, sky: str, change: Change | None = None
) -> WhatIf:
    """
    Work out what changes at a station would buy.

    Parameters
    ----------
    change : Change, optional
        One of the coordinator's own, put first.
    """
    found, _, legs = plan_of(event)
    key = str(station.pk)
    if key not in found.problem.stations:  # the rotation knows nothing of it yet
        found = problem_for(event)
        legs = set_up_only(found.problem)
    chosen = next(one for one in (sky, event.other_sky, NO_SUN) if one in found.suns)
    nights = nights_of(found)
    night = max(nights, key=lambda one: one.end_min - one.start_min, default=None)
    changes = usual_changes(found.problem, legs, key, night)
    if found.view is None:
        changes = [one for one in changes if one.kind != "panels"]
    trouble, gains = "", []
    try:
        own = [change] if change is not None else []
        gains = what_if(
            found.problem,
            legs,
            {chosen: found.suns[chosen]},
            key,
            [*own, *changes],
        )
    except PowercoreError as error:
        trouble = str(error)
    plan = found.problem.stations[key]
    return WhatIf(
        station=station,
        sky=chosen,
        gains=gains,
        batteries=[
            (battery.key, f"{battery.tag}, {battery.pack.trusted_ah:.0f} Ah")
            for battery in found.problem.batteries.values()
            if found.problem.feed(key, battery.key).refusal is None
        ],
        loads=[load.name for load in plan.loads],
        night=night,
        trouble=trouble,
    )
