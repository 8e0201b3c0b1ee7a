"""Two events side by side, and what an event lacks."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import Event
from powercore.errors import PowercoreError
from powercore.futures.budget import StationBudget
from powercore.physics.battery import Pack

from .page import LedgerPage, ledger_page


@dataclass(frozen=True, slots=True)
class Figure:
    """One figure of both events, and the difference."""

    words: str
    unit: str
    here: float | None
    there: float | None

    @property
    def more(self) -> float | None:
        """How much more it is here."""
        if self.here is None or self.there is None:
            return None
        return self.here - self.there


@dataclass(slots=True)
class Comparison:
    """Figures of two events, and of their stations by name."""

    figures: list[Figure]
    stations: list[tuple[str, StationBudget | None, StationBudget | None]]
    trouble: str = ""


def compare(here: Event, there: Event) -> Comparison:
    """Set two events side by side under the sky that each counts on."""
    a, b = ledger_page(here), ledger_page(there)
    stations = {line.station.name: [line.budget, None] for line in a.lines}
    for line in b.lines:
        stations.setdefault(line.station.name, [None, None])[1] = line.budget
    return Comparison(
        figures=[
            Figure(words, unit, first, second)
            for (words, unit, first), (_, _, second) in zip(
                _figures(here, a), _figures(there, b), strict=True
            )
        ],
        stations=[(name, pair[0], pair[1]) for name, pair in stations.items()],
        trouble=a.trouble or b.trouble,
    )


def _figures(event: Event, page: LedgerPage) -> list[tuple[str, str, float | None]]:
    budgets = [line.budget for line in page.lines]

    def total(name: str) -> float:
        return float(sum(getattr(budget, name) for budget in budgets))

    return [
        ("length", "h", event.span_min / 60),
        ("stations", "", float(len(budgets))),
        ("needed", "Wh", total("need_wh")),
        ("at hand above reserve", "Wh", page.total.stock_wh if page.total else None),
        ("by sun", "Wh", total("sun_wh")),
        ("not covered", "Wh", total("uncovered_wh")),
        ("on the air, typical", "h", total("on_air_h")),
        ("on the air, 1-in-10 bad case", "h", total("on_air_bad_h")),
        ("batteries at stations", "kg", page.mass_kg),
        ("walks", "", float(page.rotation.walks) if page.rotation else None),
    ]


@dataclass(frozen=True, slots=True)
class Wanted:
    """One line of a resource request."""

    what: str
    count: str
    by: datetime
    where: str
    why: str


@dataclass(slots=True)
class Requests:
    """What an event lacks, and on what that rests."""

    lines: list[Wanted] = field(default_factory=list)
    trouble: str = ""


def requests_of(event: Event) -> Requests:
    """
    Work out what an event asks for: batteries, fuel, energy at a station.

    Counted without sun: what the first tier must survive.
    """
    page = ledger_page(event, "none")
    found = Requests(trouble=page.trouble)
    what, pack_wh = _usual_pack(event)
    for stretch in page.stretches:
        line = stretch.line
        if line.short_wh > 1:
            packs = math.ceil(line.short_wh / pack_wh)
            found.lines.append(
                Wanted(
                    what=f"{what}, full",
                    count=str(packs),
                    by=stretch.starts - timedelta(hours=1),
                    where="charging yard",
                    why=f"{line.short_wh:,.0f} Wh are missing in the dark or quiet "
                    "stretch",
                )
            )
    for fuel in page.fuel:
        if fuel.line.missing_l > 0.05:
            found.lines.append(
                Wanted(
                    what=f"petrol for {fuel.name}",
                    count=f"{math.ceil(fuel.line.missing_l)} L",
                    by=(fuel.dry_at or event.starts_at) - timedelta(hours=1),
                    where="fuel store, apart from the tents",
                    why=f"{fuel.line.on_hand_l:g} L on hand, "
                    f"{fuel.line.running.needs_l:.0f} L for all its hours",
                )
            )
    for ledger_line in page.short:
        budget: Any = ledger_line.budget
        found.lines.append(
            Wanted(
                what=f"{budget.uncovered_wh:,.0f} Wh more at {ledger_line.station}",
                count=f"{math.ceil(budget.uncovered_wh / pack_wh)} × {what}",
                by=ledger_line.off_at or event.starts_at,
                where=str(ledger_line.station),
                why="it goes off the air then",
            )
        )
    return found


def _usual_pack(event: Event) -> tuple[str, float]:
    """The battery that such an event has most of, and Wh it gives above its reserve."""
    try:
        problem = problem_for(event).problem
    except PowercoreError:
        return _ASKED
    alike: defaultdict[str, list[Pack]] = defaultdict(list)
    for battery in problem.batteries.values():
        pack = battery.pack
        words = f"{pack.nominal_v:.1f} V and {pack.nameplate_ah:g} Ah"
        alike[f"{pack.chem.name} pack of {words}"].append(pack)
    if not alike:
        return _ASKED
    what, (like, *_) = max(alike.items(), key=lambda pair: len(pair[1]))
    usable_wh = like.usable_wh(1.0, like.reserve_soc, like.trusted_ah / 20)
    return what, max(usable_wh, 1.0)


#: What an event without batteries asks for. 20 Ah × 12.8 V × 0.8.
_ASKED = ("LiFePO4 pack of 12.8 V and 20 Ah", 204.8)
