"""Geometry for server-made drawings; the templates only place it."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Scale:
    """A linear scale from values to pixels."""

    low: float
    high: float
    start: float
    end: float

    def __call__(self, value: float) -> float:
        """Return the pixel of a value, kept inside the drawing."""
        if self.high == self.low:
            return self.start
        share = (value - self.low) / (self.high - self.low)
        return round(
            self.start + min(1.0, max(0.0, share)) * (self.end - self.start), 1
        )


def marks(scale: Scale, most: int = 4) -> list[tuple[float, str]]:
    """Round values along a scale from its low end: each with its pixel and words."""
    span = scale.high - scale.low
    if span <= 0:
        return []
    unit = 10.0 ** math.floor(math.log10(span / most))
    step = next(unit * n for n in (1, 2, 5, 10, 20) if span / (unit * n) <= most)
    values = [scale.low + n * step for n in range(int(span / step + 1e-9) + 1)]
    return [(scale(value), f"{value:,.10g}") for value in values]


def points(pairs: list[tuple[float, float]]) -> str:
    """Return pairs as an SVG points attribute."""
    return " ".join(f"{x:.1f},{y:.1f}" for x, y in pairs)


_TOP, _BOTTOM = 15.0, 45.0


def _wall(y: float) -> tuple[float, float]:
    """Left and right wall of the kettle at a height."""
    lean = (y - _TOP) / (_BOTTOM - _TOP) * 4
    return 9 - lean, 31 + lean


def _slice(from_y: float, to_y: float) -> str:
    top_left, top_right = _wall(to_y)
    low_left, low_right = _wall(from_y)
    return points(
        [(low_left, from_y), (top_left, to_y), (top_right, to_y), (low_right, from_y)]
    )


@dataclass(frozen=True, slots=True)
class Kettle:
    """The battery glyph: filled to the charge, a band for doubt, a notch."""

    fill: str
    band: str
    mean: tuple[float, float, float]
    notch: tuple[float, float, float] | None
    words: str


def kettle(
    mean: float, low: float, high: float, reserve: float | None, tag: str = ""
) -> Kettle:
    """Work out a kettle's polygons in its 40 × 50 box."""

    def y(soc: float) -> float:
        return _BOTTOM - min(1.0, max(0.0, soc)) * (_BOTTOM - _TOP)

    left, right = _wall(y(mean))
    notch = None
    if reserve is not None:
        _, wall = _wall(y(reserve))
        notch = (wall - 5, wall + 4, y(reserve))
    words = f"{tag} {mean:.0%}, between {low:.0%} and {high:.0%}".strip()
    return Kettle(
        fill=_slice(_BOTTOM, y(low)),
        band=_slice(y(low), y(high)),
        mean=(left, right, y(mean)),
        notch=notch,
        words=words,
    )
