"""Why a battery serves a station from a minute on, in words' parts."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from hollow_kettle.plan.bridge.rotations import core_leg, problem_of
from hollow_kettle.plan.models import Event, Leg
from hollow_kettle.plan.rotation.queries import tags_of
from powercore.rotation.change import CannotChange, uncharged
from powercore.rotation.compare import Cost, Replayed
from powercore.rotation.explain import explain


@dataclass(frozen=True, slots=True)
class WhyPage:
    """One stay, explained."""

    tag: str
    station: str
    at: datetime
    is_set_up: bool
    relieved: str
    relieved_soc: float | None
    skipped: str
    second: str
    second_cost: str
    able: int
    refused: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class ChargePage:
    """One charge on a bay, explained."""

    tag: str
    bay: str
    at: datetime
    until: datetime
    start_soc: float
    end_soc: float
    #: What doing without it costs; empty where nothing else can be.
    skipped: str


def cost_words(cost: Cost) -> str:
    """A cost, most important first: "70 min off the air, 120 Wh not served"."""
    parts = [
        f"{cost.off_air_min:.0f} min off the air" if cost.off_air_min >= 0.5 else "",
        f"{cost.unserved_wh:.0f} Wh not served" if cost.unserved_wh >= 0.5 else "",
        f"{cost.reserve_min:.0f} min into reserve" if cost.reserve_min >= 0.5 else "",
        f"{cost.thin_min:.0f} min of slack" if cost.thin_min >= 0.5 else "",
    ]
    return ", ".join(part for part in parts if part) or "nothing that counts"


def charge_page(event: Event, leg: Leg) -> ChargePage:
    """Explain one charge of a rotation."""
    problem, legs = problem_of(leg.rotation)
    asked = core_leg(leg, leg.rotation.from_min)
    skipped = ""
    try:
        made = uncharged(problem, legs, asked)
    except CannotChange:
        pass
    else:
        before = Replayed.of(problem, legs)
        skipped = cost_words(Replayed.of(problem, made).cost(before))
    return ChargePage(
        tag=tags_of(leg.rotation).get(leg.battery, "?"),
        bay=problem.bays[str(leg.place)].name,
        at=event.moment_of(leg.start_min),
        until=event.moment_of(leg.end_min),
        start_soc=leg.start_soc,
        end_soc=leg.end_soc,
        skipped=skipped,
    )


def why_page(event: Event, leg: Leg) -> WhyPage:
    """Explain one serving leg of a rotation."""
    problem, legs = problem_of(leg.rotation)
    rotation, tags = leg.rotation, tags_of(leg.rotation)
    found = explain(problem, legs, core_leg(leg, rotation.from_min))
    by_key = {str(key): tag for key, tag in tags.items()}
    return WhyPage(
        tag=tags.get(leg.battery, "?"),
        station=problem.stations[str(leg.place)].name,
        at=event.moment_of(leg.start_min),
        is_set_up=leg.start_min == rotation.from_min,
        relieved=by_key.get(found.relieved or "", ""),
        relieved_soc=found.relieved_soc,
        skipped=cost_words(found.skipped) if found.skipped else "",
        second=by_key.get(found.second or "", ""),
        second_cost=cost_words(found.second_cost) if found.second_cost else "",
        able=found.able,
        refused=tuple((by_key.get(key, "?"), why) for key, why in found.refused[:4]),
    )
