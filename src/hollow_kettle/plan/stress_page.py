"""What a rotation becomes when things go wrong, for its board's side."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import msgspec

from powercore.stress import Row, Stress, Weak

from .models import Event, Rotation, Trial


@dataclass(frozen=True, slots=True)
class WeakPoint:
    """A station that may run short, in words' parts."""

    name: str
    weak: Weak
    begins: datetime | None

    @property
    def percent(self) -> str:
        """Its chance with the Monte-Carlo error."""
        return chance_words(self.weak.chance, self.weak.error)


@dataclass(frozen=True, slots=True)
class StressPage:
    """How a trial stands, and what came of it."""

    trial: Trial | None
    futures: int = 0
    rows: tuple[tuple[Row, str], ...] = ()
    weak: tuple[WeakPoint, ...] = ()
    percent: str = ""


def chance_words(chance: float, error: float) -> str:
    """A chance in whole percents: "23 ± 2 %", "under 1 %" where it never came up."""
    if chance == 0:
        return f"under {max(1, round(100 * error))} %"
    return f"{100 * chance:.0f} ± {max(1, round(100 * error))} %"


def stress_page(event: Event, rotation: Rotation) -> StressPage:
    """Read what is known of a rotation in many futures."""
    trial = Trial.objects.filter(rotation=rotation).first()
    if trial is None or trial.content is None:
        return StressPage(trial)
    result = msgspec.convert(trial.content, Stress)
    names = {str(station.pk): station.name for station in event.stations.all()}
    weak = [
        WeakPoint(
            names.get(one.station, "?"),
            one,
            event.moment_of(one.begins_min + rotation.from_min)
            if one.begins_min is not None
            else None,
        )
        for one in result.stations
        if one.bad_min >= 1
    ]
    return StressPage(
        trial,
        result.futures,
        tuple((row, names.get(row.station or "", "–")) for row in result.rows),
        tuple(weak[:3]),
        chance_words(result.chance, result.error),
    )
