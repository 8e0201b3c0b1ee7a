"""What each cause of an event was, in a plain sentence for each station."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from hollow_kettle.debrief.history import History
from hollow_kettle.debrief.shortfalls.queries import Falls
from powercore.debrief.arrivals import ON_TIME_MIN, late_of, reliefs_of
from powercore.debrief.attribute import (
    CAPACITY,
    FAULT,
    LOAD,
    MOVES,
    SAVING,
    SOURCE,
    START,
    SUN,
    UNEXPLAINED,
    Attribution,
    Likely,
)
from powercore.event.problem import SERVE, Leg, Problem
from powercore.values import without

from .bridge import Game

#: A cause is named in a sentence when it is off its plan by more than this share.
WORTH = 0.05


def sentences_of(
    history: History, falls: Falls, game: Game, found: Attribution
) -> dict[str, dict[str, str]]:
    """For each station, by its key, a sentence for each cause."""
    told: dict[str, Callable[[str], str]] = {
        LOAD: lambda key: _load(found.draws[key]),
        SUN: lambda key: _sun(game.problem, key, found.light),
        CAPACITY: lambda key: _batteries(game, key, found.holds, "of what was trusted"),
        START: lambda key: _starts(game, key, found.starts),
        MOVES: lambda key: _moves(game, key),
        SOURCE: lambda key: _sources(game, found.bays),
        FAULT: lambda key: _faults(falls, key),
        SAVING: lambda key: _saving(game, key),
        UNEXPLAINED: lambda key: "",
    }
    return {
        one.station: {part.cause: told[part.cause](one.station) for part in one.parts}
        for one in found.stations
    }


def _load(one: Likely) -> str:
    if abs(one.typical - 1) < WORTH:
        return "drew about what was planned"
    more = "more" if one.typical > 1 else "less"
    return (
        f"drew {abs(one.typical - 1):.0%} {more} than planned "
        f"({one.low:.2f}–{one.high:.2f} times)"
    )


def _sun(problem: Problem, key: str, light: Likely) -> str:
    if not problem.stations[key].arrays:
        return "no panels there"
    return (
        f"panels gave about {light.typical:.0%} of what that sky gives "
        f"({light.low:.0%}–{light.high:.0%})"
    )


def _batteries(game: Game, key: str, all_of: dict[str, Likely], what: str) -> str:
    off = [
        f"{game.problem.batteries[battery].tag} held {all_of[battery].typical:.0%}"
        for battery in _served(game.actual.legs, key)
        if abs(all_of[battery].typical - 1) >= WORTH
    ]
    return f"{_listed(off)} {what}" if off else "batteries held about what was trusted"


def _starts(game: Game, key: str, starts: dict[str, Likely]) -> str:
    off = [
        f"{plan.tag} began at {starts[battery].typical:.0%}, "
        f"planned {plan.start_soc:.0%}"
        for battery in _served(game.actual.legs, key)
        for plan in [game.problem.batteries[battery]]
        if abs(starts[battery].typical - plan.start_soc) >= WORTH
    ]
    return _listed(off) if off else "batteries began about as planned"


def lateness_of(game: Game) -> list[int]:
    """How late each planned relief that was made came, early ones below zero. [min]"""
    return [one for key in game.problem.stations for one in _late(game, key)[0]]


def _late(game: Game, key: str) -> tuple[list[int], int]:
    """How late reliefs came to a station, and how many came that were not planned."""
    return late_of(reliefs_of(game.legs, key), reliefs_of(game.actual.legs, key))


def _moves(game: Game, key: str) -> str:
    """How reliefs were late, early, or not planned."""
    planned = reliefs_of(game.legs, key)
    late, extra = _late(game, key)
    parts = []
    behind = [one for one in late if one > ON_TIME_MIN]
    if behind:
        mean = sum(behind) / len(behind)
        parts.append(
            f"{len(behind)} of {len(planned)} swaps late, by {mean:.0f} min on average"
        )
    if extra:
        parts.append(f"{extra} {'swap' if extra == 1 else 'swaps'} not in the plan")
    missing = len(planned) - len(late)
    if missing > 0:
        parts.append(f"{missing} planned {'one' if missing == 1 else 'ones'} not made")
    return "; ".join(parts) if parts else "swaps as planned"


def _sources(game: Game, bays: dict[str, Likely]) -> str:
    parts = []
    real = game.actual.sources
    for key, one in game.problem.sources.items():
        gone = without(one.windows, real.sources[key].windows) if real else ()
        minutes = sum(window.end_min - window.start_min for window in gone)
        if minutes:
            parts.append(f"{one.name} off for {minutes:.0f} min")
    for key, windows in game.actual.dead.items():
        minutes = sum(window.end_min - window.start_min for window in windows)
        parts.append(f"{game.problem.bays[key].name} off for {minutes:.0f} min")
    parts += [
        f"{game.problem.bays[key].name} gave {one.typical:.0%} of what it should"
        for key, one in bays.items()
        if abs(one.typical - 1) >= WORTH
    ]
    return _listed(parts) if parts else "ran as planned, or longer"


def _faults(falls: Falls, key: str) -> str:
    off = [
        f"{one.why_words}, {one.measured.minutes:.0f} min"
        for one in falls.every
        if str(one.station.pk) == key and one.group and one.what == "off_air"
    ]
    return _listed(off) if off else "none noted there"


def _saving(game: Game, key: str) -> str:
    minutes = sum(
        pin.end_min - pin.start_min for pin in game.actual.saving if pin.place == key
    )
    return f"{minutes} min on low power" if minutes else "never on low power"


def _served(legs: Iterable[Leg], key: str) -> list[str]:
    return list(
        dict.fromkeys(
            leg.battery for leg in legs if leg.kind == SERVE and leg.place == key
        )
    )


def _listed(parts: list[str]) -> str:
    if len(parts) < 2:
        return "".join(parts)
    return f"{', '.join(parts[:-1])} and {parts[-1]}"
