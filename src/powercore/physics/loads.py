"""Loads: how much current a station draws, on the mean and at its peak."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from powercore import limits
from powercore.errors import OutOfRange
from powercore.values import (
    STATED_V,
    FloatArray,
    TimeGrid,
    Window,
    in_range,
    overlap_min,
)

#: Quantile of a normal distribution above which 1 case in 10 lies.
ONE_IN_TEN = 1.2815515655446004
#: What something on charge draws once it is full, against charging. Common practice,
#: no source: little.
TRICKLE = 0.1


class Step(StrEnum):
    """Power steps that a station agrees to: what it drops to."""

    FULL = "full"
    LOW = "low"
    #: Receives only; nobody transmits.
    WATCH = "watch"


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
class Load:
    """Some devices of one kind at a station."""

    draw: Draw
    count: int = 1
    name: str = ""
    #: What it draws on the low step; None where it has only one.
    low: Draw | None = None
    #: Of a converter between battery and device, and its own draw. (0 to 1), [A]
    efficiency: float = 1.0
    idle_a: float = 0.0
    #: Energy at the battery after which it is full and draws a trickle; each time the
    #: station opens after an hour or more it starts empty. [Wh]
    fills_wh: float | None = None
    #: Used only then; None: whenever the station is open.
    windows: tuple[Window, ...] | None = None
    #: Switched off when the battery's charge there falls to this. (0 to 1)
    shed_soc: float | None = None

    def __post_init__(self) -> None:
        limits.COUNT.check("How many", self.count)
        limits.EFFICIENCY.check("Efficiency", self.efficiency)
        limits.IDLE_A.check("A converter's own draw", self.idle_a)
        if self.fills_wh is not None:
            limits.FILLS_WH.check("Full after", self.fills_wh)
        if self.shed_soc is not None:
            limits.SHARE.check("Shed at", self.shed_soc)

    def at(self, step: str) -> Draw:
        """Currents at a power step."""
        return self.low if step == Step.LOW and self.low is not None else self.draw

    def mean_a(self, pattern: Pattern, step: str = Step.FULL) -> float:
        """Mean current of all of them at the battery. [A]"""
        if step == Step.WATCH:
            pattern = pattern.watching
        return self.at_battery_a(mean_current_a(self.at(step), pattern))

    def at_battery_a(self, device_a: float) -> float:
        """Current at the battery for a device's current, for all of them. [A]"""
        return self.count * (device_a / self.efficiency + self.idle_a)


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
        limits.SHARE.check("Transmit share", self.transmit_share)
        limits.SHARE.check("Duty factor", self.duty)
        in_range(
            "Standby share",
            self.standby_share,
            low=0,
            high=round(1 - self.transmit_share, 9),
            why="transmit and standby together can't pass the whole time",
        )

    @property
    def watching(self) -> Pattern:
        """The same hours with nobody transmitting."""
        return Pattern(
            transmit_share=0, duty=self.duty, standby_share=self.standby_share
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
    power_w: float, efficiency: float, bus_v: float = STATED_V
) -> float:
    """
    Battery current of a constant-power load behind a converter. [A]

    Parameters
    ----------
    power_w, efficiency, bus_v : float
        What the load draws, the converter's share of it that comes out, the volts at
        its input. [W], (0 to 1), [V]

    Raises
    ------
    OutOfRange
        If the efficiency is none.
    """
    limits.EFFICIENCY.check("Efficiency", efficiency)
    return power_w / efficiency / bus_v


@dataclass(frozen=True, slots=True, kw_only=True)
class Opening:
    """A stretch of time in which a station is open, and how it is operated."""

    #: First and last minute, counted from the event's start. [min]
    start_min: int
    end_min: int
    pattern: Pattern
    step: str = Step.FULL
    #: Switched on only for so long, every so often: listening windows; 0: always.
    on_for_min: int = 0
    every_min: int = 0

    def __post_init__(self) -> None:
        if self.end_min <= self.start_min:
            raise OutOfRange(
                "End of an opening",
                self.end_min,
                low=self.start_min + 1,
                unit="min",
                why="it must come after its start",
            )
        limits.LISTENS_MIN.check("A listening window", self.on_for_min)
        if self.on_for_min:
            in_range(
                "Time between listening windows",
                self.every_min,
                low=self.on_for_min,
                high=limits.LISTENS_MIN.high,
                unit="min",
                why="a window must end before the next begins",
            )
        Step(self.step)

    @property
    def stretches(self) -> list[tuple[float, float]]:
        """When it is switched on. [min]"""
        if not self.on_for_min:
            return [(self.start_min, self.end_min)]
        begins = range(self.start_min, self.end_min, self.every_min)
        return [(at, min(at + self.on_for_min, self.end_min)) for at in begins]


def listening_share(on_for_min: float, every_min: float) -> float:
    """
    Share of the time that a station listening in windows is on. (0 to 1)

    Parameters
    ----------
    on_for_min, every_min : float
        It is on for so long, every so often; 0 for always on. [min]

    Raises
    ------
    OutOfRange
        If a window does not end before the next begins.
    """
    in_range("Time between listening windows", every_min, low=on_for_min, unit="min")
    return on_for_min / every_min if on_for_min else 1.0


def load_w(
    grid: TimeGrid, load: Load, openings: Sequence[Opening], bus_v: float = STATED_V
) -> FloatArray:
    """
    Power one load asks of the battery, step by step. [W], shape (grid.count,)

    A step partly on counts with its share; closed means switched off.
    """
    series = np.zeros(grid.count)
    left_wh, last_end = load.fills_wh, -np.inf
    for opening in sorted(openings, key=lambda opening: opening.start_min):
        if opening.start_min - last_end >= 60:
            left_wh = load.fills_wh
        last_end = opening.end_min
        watts = load.mean_a(opening.pattern, opening.step) * bus_v
        idle_w = min(
            load.at_battery_a(load.at(opening.step).standby_a) * bus_v, TRICKLE * watts
        )
        for start, end in _used(load, opening):
            if left_wh is None:
                series += watts * overlap_min(grid, start, end) / grid.step_min
                continue
            hours = left_wh / watts if watts > 0 else np.inf
            full_at = min(end, start + 60 * hours)
            left_wh = max(0.0, left_wh - watts * (full_at - start) / 60)
            series += watts * overlap_min(grid, start, full_at) / grid.step_min
            series += idle_w * overlap_min(grid, full_at, end) / grid.step_min
    return series


def _used(load: Load, opening: Opening) -> list[tuple[float, float]]:
    if load.windows is None:
        return opening.stretches
    common = [
        (max(start, window.start_min), min(end, window.end_min))
        for start, end in opening.stretches
        for window in load.windows
    ]
    return sorted((start, end) for start, end in common if end > start)


def demand_w(
    grid: TimeGrid,
    loads: Sequence[Load],
    openings: Sequence[Opening],
    bus_v: float = STATED_V,
) -> FloatArray:
    """Power a station asks of its battery, step by step. [W], shape (grid.count,)"""
    series = np.zeros(grid.count)
    for load in loads:
        series += load_w(grid, load, openings, bus_v)
    return series


def bad_day_w(mean_w: float, spread: float = limits.USUAL_SPREAD) -> float:
    """Mean power that only 1 day in 10 goes above (P90). [W]"""
    return mean_w * (1 + ONE_IN_TEN * spread)


def peak_current_a(loads: Sequence[Load], steps: Sequence[str] = (Step.FULL,)) -> float:
    """Current with everything on and one of the keyed devices key down. [A]"""
    return max((_peak_a(loads, step) for step in steps), default=0.0)


def _peak_a(loads: Sequence[Load], step: str) -> float:
    base, rise = 0.0, 0.0
    for load in loads:
        draw = load.at(step)
        resting = max(draw.receive_a, draw.standby_a)
        base += load.at_battery_a(resting)
        if step != Step.WATCH:
            rise = max(rise, (draw.key_down_a - resting) / load.efficiency)
    return base + rise
