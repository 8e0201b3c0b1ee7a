"""What a rotation becomes when things go wrong, for its board's side."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import msgspec

from hollow_kettle.clock import told
from hollow_kettle.plan.models import Event, Rotation, Trial
from hollow_kettle.plan.rotation.changes import low_asked
from powercore.futures.stress import Cure, Cures, Row, Stress, Weak

#: A cure that removes less of the risk than this is none. (0 to 1)
HELPS = 0.05


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
class CuresPage:
    """What would help, and what was tried in vain."""

    mean_min: float
    #: Each with what the pin form is sent for it, where it is low power.
    rows: tuple[tuple[str, Cure, dict[str, str] | None], ...]
    vain: tuple[str, ...]
    is_enough: bool


@dataclass(frozen=True, slots=True)
class StressPage:
    """How a trial stands, and what came of it."""

    trial: Trial | None
    futures: int = 0
    rows: tuple[tuple[Row, str], ...] = ()
    weak: tuple[WeakPoint, ...] = ()
    percent: str = ""
    #: What would help; None while nobody asked or it is worked out.
    cures: CuresPage | None = None


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
        _cures(event, rotation, trial),
    )


def _cures(event: Event, rotation: Rotation, trial: Trial) -> CuresPage | None:
    if trial.cures is None:
        return None
    found = msgspec.convert(trial.cures, Cures)
    rows = [
        (one.words + _when(event, rotation, one), one, _low(rotation, one))
        for one in found.cures
    ]
    return CuresPage(
        mean_min=found.mean_min,
        rows=tuple(row for row in rows if row[1].removes >= HELPS),
        vain=tuple(words for words, one, _ in rows if one.removes < HELPS),
        is_enough=found.is_enough,
    )


def _low(rotation: Rotation, one: Cure) -> dict[str, str] | None:
    if one.station is None:
        return None
    return low_asked(rotation, one.station, one.start_min, one.end_min)


def _when(event: Event, rotation: Rotation, one: Cure) -> str:
    """When a station goes to low power for a cure: ", 00:25 to 08:45"."""
    if one.station is None:
        return ""
    start, end = (
        told(event.moment_of(minute + rotation.from_min), event.zone)
        for minute in (one.start_min, one.end_min)
    )
    return f", {start} to {end}"
