"""A battery's charge and tests through the years, as one drawing."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from hollow_kettle.log.models import FieldEntry, Kind
from hollow_kettle.people.models import Club
from hollow_kettle.shelf.bench.queries import accepted_ah_by_battery
from hollow_kettle.shelf.bridge import pack_of
from hollow_kettle.shelf.models import Asset, Estimate
from hollow_kettle.ui.drawing import Scale, points
from powercore.gear.capacity import Health, health

_LEFT, _RIGHT, _TOP, _BOTTOM = 52.0, 690.0, 18.0, 168.0
#: The strip below for charges and readings.
_STRIP = 200.0
YEAR = timedelta(days=365.25)


@dataclass(frozen=True, slots=True)
class TestDot:
    """A capacity test: its dot, its band, its words."""

    x: float
    y: float
    top: float
    bottom: float
    words: str
    is_applied: bool

    @property
    def anchor(self) -> str:
        """On which side of the dot its words stand."""
        return "end" if self.x > 580 else "start"

    @property
    def words_x(self) -> float:
        """Where its words begin or end. [px]"""
        return self.x - 9 if self.x > 580 else self.x + 9


@dataclass(frozen=True, slots=True)
class Mark:
    """A charge or a reading in the strip below."""

    x: float
    #: "charged" or "reading".
    what: str
    words: str


@dataclass(frozen=True, slots=True)
class History:
    """Everything the drawing shows."""

    dots: list[TestDot]
    marks: list[Mark]
    trend: str
    printed_y: float
    retire_y: float
    ticks: list[tuple[float, str]]
    years: list[tuple[float, str]]
    health: Health
    strip: float = _STRIP


def history_of(asset: Asset) -> History:
    """Draw a battery's accepted tests and what was noted of its charge."""
    now = Club.the().clock.now()
    tests = list(
        Estimate.objects.filter(
            subject=asset.pk, quantity=Estimate.CAPACITY, accepted_by__isnull=False
        ).order_by("made_at")
    )
    pack = pack_of(asset.battery, accepted_ah_by_battery([asset.pk]).get(asset.pk))
    start = min([now - YEAR, *(test.made_at for test in tests)])
    start = datetime(start.year, 1, 1, tzinfo=start.tzinfo)
    x = Scale(0, (now - start) / YEAR, _LEFT, _RIGHT)
    highest = max([pack.nameplate_ah, *(t.mean + t.sd for t in tests)]) * 1.06
    y = Scale(0, highest, _BOTTOM, _TOP)

    def at(moment: datetime) -> float:
        return x((moment - start) / YEAR)

    pairs = [((test.made_at - start) / YEAR, test.mean) for test in tests]
    age = (now - tests[-1].made_at).days if tests else None
    return History(
        dots=[
            TestDot(
                at(test.made_at),
                y(test.mean),
                y(test.mean + test.sd),
                y(test.mean - test.sd),
                f"{test.mean:.1f}" + (f" ±{test.sd:.1f}" if test.sd else ""),
                test.is_applied,
            )
            for test in tests
        ],
        marks=_marks(asset, start, at),
        trend=points([(at(test.made_at), y(test.mean)) for test in tests]),
        printed_y=y(pack.nameplate_ah),
        retire_y=y(0.7 * pack.nameplate_ah),
        ticks=[(y(v), f"{v:g}") for v in _steps(highest)],
        years=[
            (at(datetime(year, 1, 1, tzinfo=start.tzinfo)), str(year))
            for year in range(start.year, now.year + 1)
        ],
        health=health(pack, pairs, age),
    )


def _marks(asset: Asset, start: datetime, at) -> list[Mark]:
    entries = FieldEntry.objects.filter(
        asset=asset.pk, kind__in=(Kind.CHARGED, Kind.READING), effective_at__gte=start
    ).order_by("effective_at")[:200]
    return [
        Mark(
            at(entry.effective_at),
            "charged" if entry.kind == Kind.CHARGED else "reading",
            f"{entry.volts:.2f} V" if entry.volts is not None else "",
        )
        for entry in entries
    ]


def _steps(highest: float) -> list[float]:
    step = next(
        s for s in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000) if highest / s <= 6
    )
    return [n * step for n in range(int(highest / step) + 1)]
