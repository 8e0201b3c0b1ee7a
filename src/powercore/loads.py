"""Loads: how much current a station draws, on the mean and at its peak."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from powercore.errors import OutOfRange
from powercore.values import BUS_V, FloatArray, TimeGrid, in_range


@dataclass(frozen=True, slots=True, kw_only=True)
class Draw:
    """Currents of one device at one power step. [A]"""

    standby_a: float = 0.0
    receive_a: float
    #: Keyed or unkeyed carrier path on, but no radio power.
    transmit_idle_a: float
    key_down_a: float

    def __post_init__(self) -> None:
        for name in ("standby_a", "receive_a", "transmit_idle_a", "key_down_a"):
            in_range(name, getattr(self, name), low=0, high=200, unit="A")
        if self.key_down_a < self.transmit_idle_a:
            raise OutOfRange(
                "Key-down current",
                self.key_down_a,
                low=self.transmit_idle_a,
                unit="A",
                why="key down can't draw less than transmit idle",
            )


@dataclass(frozen=True, slots=True, kw_only=True)
class Pattern:
    """How a station is operated."""

    #: Share of the time that it transmits. (0 to 1)
    transmit_share: float
    #: Mean over peak power while transmitting: the mode's duty factor. (0 to 1)
    duty: float
    #: Share of the time on standby. (0 to 1)
    standby_share: float = 0.0

    def __post_init__(self) -> None:
        in_range("Transmit share", self.transmit_share, low=0, high=1)
        in_range("Duty factor", self.duty, low=0, high=1)
        in_range(
            "Standby share",
            self.standby_share,
            low=0,
            high=round(1 - self.transmit_share, 9),
            why="transmit and standby together can't pass the whole time",
        )


def mean_current_a(draw: Draw, pattern: Pattern) -> float:
    """
    Mean current of a device operated in a pattern. [A]

    Receiving share × receive + transmit share × (idle + duty × (key-down - idle)),
    and standby for the rest: the radio draws its idle transmit current between
    syllables, so the duty factor of the radio power alone would promise too much.
    """
    receive_share = 1 - pattern.transmit_share - pattern.standby_share
    transmitting_a = draw.transmit_idle_a + pattern.duty * (
        draw.key_down_a - draw.transmit_idle_a
    )
    return (
        pattern.standby_share * draw.standby_a
        + receive_share * draw.receive_a
        + pattern.transmit_share * transmitting_a
    )


def converter_current_a(
    power_w: float, efficiency: float, bus_v: float = BUS_V
) -> float:
    """Battery current of a constant-power load behind a converter. [A]"""
    in_range("Efficiency", efficiency, low=0.05, high=1)
    return power_w / efficiency / bus_v


@dataclass(frozen=True, slots=True, kw_only=True)
class Opening:
    """A stretch of time in which a station is open, and how it is operated."""

    #: First and last minute, counted from the event's start. [min]
    start_min: int
    end_min: int
    pattern: Pattern

    def __post_init__(self) -> None:
        if self.end_min <= self.start_min:
            raise OutOfRange(
                "End of an opening",
                self.end_min,
                low=self.start_min + 1,
                unit="min",
                why="it must come after its start",
            )


def demand_w(
    grid: TimeGrid,
    draws: Sequence[tuple[Draw, int]],
    openings: Sequence[Opening],
    bus_v: float = BUS_V,
) -> FloatArray:
    """
    Power a station asks of its battery, step by step. [W], shape (grid.count,)

    A step partly open counts with its open share; closed means switched off.
    """
    series = np.zeros(grid.count)
    edges = grid.edges_min
    for opening in openings:
        mean_a = sum(
            count * mean_current_a(draw, opening.pattern) for draw, count in draws
        )
        open_min = np.minimum(edges[1:], opening.end_min) - np.maximum(
            edges[:-1], opening.start_min
        )
        series += mean_a * bus_v * np.clip(open_min / grid.step_min, 0, 1)
    return series


def peak_current_a(draws: Sequence[tuple[Draw, int]]) -> float:
    """Current with everything on and one of each keyed device key down. [A]"""
    if not draws:
        return 0.0
    resting = [max(draw.receive_a, draw.standby_a) for draw, _ in draws]
    base = sum(rest * count for rest, (_, count) in zip(resting, draws, strict=True))
    rise = max(
        draw.key_down_a - rest for rest, (draw, _) in zip(resting, draws, strict=True)
    )
    return base + max(0.0, rise)
