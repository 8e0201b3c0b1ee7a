"""Which pins legs break."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from powercore.event.plans import AWAY, LOW, NO_SWAP, NO_WALK, Pin
from powercore.event.problem import SERVE, WAIT, Leg, Problem
from powercore.rotation.verify.report import Broken
from powercore.rotation.verify.rules import by, walks_of, words_of


def broken_pin(problem: Problem, legs: Sequence[Leg], pin: Pin) -> tuple[Broken, ...]:
    """
    Return how a rotation breaks one pin, empty if it keeps it.

    The pin's battery and place must be the event's; its legs must be well formed.
    """
    if pin.kind == NO_WALK:
        return tuple(_walks_in(problem, legs, pin))
    if pin.kind == NO_SWAP:
        return tuple(_swaps_in(problem, legs, pin))
    if pin.kind == LOW:
        return ()  # what the station asks for is the problem's
    start, end = pin.start_min, min(pin.end_min, problem.span_min)
    there = [
        leg
        for leg in legs
        if leg.place == pin.place
        and pin.battery in ("", leg.battery)
        and leg.start_min < end
        and start < leg.end_min
    ]
    if pin.kind == AWAY:
        return tuple(Broken("pinned_away", words_of(problem, leg)) for leg in there)
    away = end - start
    away -= sum(
        min(x.end_min, end) - max(x.start_min, start) for x in there if x.kind != WAIT
    )
    if away <= 0:
        return ()
    tag = problem.batteries[pin.battery].tag
    return (Broken("pinned_stay", f"{tag} is away for {away} min"),)


def broken_pins(problem: Problem, legs: Sequence[Leg]) -> Iterator[Broken]:
    """Pins of the event that legs break."""
    for pin in problem.scenario.pins:
        yield from broken_pin(problem, legs, pin)


def _walks_in(problem: Problem, legs: Sequence[Leg], pin: Pin) -> Iterator[Broken]:
    for leg, walk in walks_of(problem, by(legs, "battery")):
        if walk is None or pin.place not in ("", walk.station):
            continue
        if walk.start_min < pin.end_min and pin.start_min < walk.end_min:
            yield Broken("pinned_no_walk", words_of(problem, leg))


def _swaps_in(problem: Problem, legs: Sequence[Leg], pin: Pin) -> Iterator[Broken]:
    for leg in legs:
        if leg.kind != SERVE or pin.place not in ("", leg.place):
            continue
        for minute, edge in ((leg.start_min, 0), (leg.end_min, problem.span_min)):
            if minute != edge and pin.start_min <= minute < pin.end_min:
                yield Broken("pinned_no_swap", f"{words_of(problem, leg)} at {minute}")
