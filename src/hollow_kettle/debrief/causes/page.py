"""Values of the page on causes: a ledger for each station that ran short."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from hollow_kettle.debrief.history import baseline_of
from hollow_kettle.debrief.models import Causes
from hollow_kettle.plan.models import Event, Rotation
from hollow_kettle.ui.drawing import Scale
from powercore.debrief.attribute import Amount, Attribution, CauseLedger, Part

from .services import attribution_of, basis_of

NAMES = {
    "load": "Load",
    "sun": "Sun",
    "capacity": "Usable capacity",
    "start": "Charge at the start",
    "moves": "Walks and swaps",
    "source": "Source or bay",
    "fault": "Connection or equipment",
    "saving": "Low power",
    "unexplained": "Not explained",
}
#: Width of a drawing of shares, and the room at its ends.
WIDTH, EDGE = 260, 6
#: A share below this many minutes and watt-hours is told in one line with others.
SMALL_MIN, SMALL_WH = 0.5, 5.0


@dataclass(frozen=True, slots=True)
class Row:
    """One line of a ledger; minutes and watt-hours are rounded so that they add up."""

    name: str
    minutes: int
    band_min: tuple[int, int] | None
    #: Tens of watt-hours.
    energy_wh: int
    band_wh: tuple[int, int] | None
    words: str
    #: The bar from what came before to what comes after, and its whiskers.
    left: float = 0.0
    width: float = 0.0
    whiskers: tuple[float, float] | None = None
    kind: str = "share"

    @property
    def is_less(self) -> bool:
        """Whether it made things better."""
        return self.minutes < 0

    @property
    def right(self) -> float:
        """Where the bar ends."""
        return self.left + self.width


@dataclass(frozen=True, slots=True)
class Ledger:
    """How a station's plan became what happened."""

    name: str
    rows: list[Row]
    #: Names of causes that changed nothing there.
    nothing: list[str]
    zero: float


@dataclass(frozen=True, slots=True)
class Page:
    """The causes of an event, as far as they are worked out."""

    event: Event
    baseline: Rotation | None
    row: Causes | None
    ledgers: list[Ledger]
    #: Stations that had what they asked for, as planned.
    well: list[str]
    #: Stations and batteries that the plan did not know.
    unplanned: str
    versions: int
    is_stale: bool

    @property
    def percent(self) -> int:
        """How much is done."""
        return round(100 * self.row.progress) if self.row else 0

    @property
    def is_active(self) -> bool:
        """Whether it is being worked out."""
        return self.row is not None and self.row.is_active


def page_of(event: Event) -> Page:
    """The causes of an event for their page."""
    row = Causes.objects.select_related("baseline").filter(event=event).first()
    found = attribution_of(row) if row else None
    if found is None and row is not None and row.content is not None:
        row = None
    names = {str(one.pk): one.name for one in event.stations.all()}
    ledgers, well = [], []
    if found is not None and row is not None:
        for one in found.stations:
            if one.planned == one.actual == (0, 0):
                well.append(names.get(one.station, "a station"))
                continue
            ledgers.append(
                _ledger(
                    one,
                    names.get(one.station, "a station"),
                    row.words.get(one.station, {}),
                )
            )
        if len(ledgers) > 1:
            ledgers.insert(0, _ledger(found.total, "All stations", {}))
    return Page(
        event=event,
        baseline=baseline_of(event),
        row=row,
        ledgers=ledgers,
        well=well,
        unplanned=row.words.get("unplanned", "") if row else "",
        versions=_versions(found),
        is_stale=bool(found and row and row.basis != basis_of(event)),
    )


def _versions(found: Attribution | None) -> int:
    return found.versions if found else 0


def _ledger(one: CauseLedger, name: str, words: dict[str, str]) -> Ledger:
    minutes = _whole([one.planned[1], *(p.time.exact for p in one.parts)], 60_000)
    tens = _whole([one.planned[0], *(p.energy.exact for p in one.parts)], 10**7)
    ends = [0.0, float(one.actual[1])]
    level = one.planned[1]
    for part in one.parts:
        level += part.time.exact
        ends.append(level)
    x = Scale(min(0.0, *ends), max(60_000.0, *ends), EDGE, WIDTH - EDGE)
    rows = [
        _end("Planned", minutes[0], 10 * tens[0], x, one.planned[1], "planned"),
    ]
    level, nothing = one.planned[1], []
    for part, whole, ten in zip(one.parts, minutes[1:], tens[1:], strict=True):
        is_small = abs(part.time.exact) < SMALL_MIN * 60_000
        if is_small and abs(part.energy.exact) < SMALL_WH * 1e6 and not (whole or ten):
            nothing.append(NAMES[part.cause].lower())
        else:
            rows.append(_share(part, whole, 10 * ten, x, level, words))
        level += part.time.exact
    rows.append(
        _end(
            "What happened",
            sum(minutes),
            10 * sum(tens),
            x,
            one.actual[1],
            "actual",
        )
    )
    return Ledger(name=name, rows=rows, nothing=nothing, zero=x(0.0))


def _end(
    name: str, minutes: int, energy_wh: int, x: Scale, level: float, kind: str
) -> Row:
    left, right = sorted((x(0.0), x(level)))
    return Row(
        name=name,
        minutes=minutes,
        band_min=None,
        energy_wh=energy_wh,
        band_wh=None,
        words="",
        left=left,
        width=round(right - left, 1),
        kind=kind,
    )


def _share(
    part: Part, minutes: int, energy_wh: int, x: Scale, level: float, words: dict
) -> Row:
    left, right = sorted((x(level), x(level + part.time.exact)))
    return Row(
        name=NAMES[part.cause],
        minutes=minutes,
        band_min=_band(part.time, 60_000, 1),
        energy_wh=energy_wh,
        band_wh=_band(part.energy, 10**7, 10),
        words=words.get(part.cause, ""),
        left=left,
        width=round(max(1.5, right - left), 1),
        whiskers=(x(level + part.time.low), x(level + part.time.high)),
        kind="unexplained" if part.cause == "unexplained" else "share",
    )


def _band(amount: Amount, unit: int, times: int) -> tuple[int, int]:
    return times * round(amount.low / unit), times * round(amount.high / unit)


def _whole(amounts: Sequence[int], unit: int) -> list[int]:
    """Amounts in whole units that add up to the sum in whole units."""
    found, before, level = [], 0, 0
    for one in amounts:
        level += one
        now = round(level / unit)
        found.append(now - before)
        before = now
    return found
