"""Sources across an event as a strip, and its places as a little map."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hollow_kettle.plan.bridge.bays import bays_of, units_of
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.drawing import hour_ticks
from hollow_kettle.plan.models import Bay, Event, Site, Source
from hollow_kettle.shelf.bridge import charger_of
from hollow_kettle.ui.drawing import Scale
from powercore.errors import PowercoreError
from powercore.event.bays import fit_of_all
from powercore.event.plans import BayPlan
from powercore.gear.fits import Verdict
from powercore.gear.things import Battery
from powercore.physics.chemistry import CHEMISTRIES
from powercore.sun.sources import running
from powercore.values import Window, windows_where


@dataclass(frozen=True, slots=True)
class StripRow:
    """A source on the strip: when it runs, must be quiet, is refuelled, runs dry."""

    source: Source
    y: float
    runs: list[tuple[float, float]]
    quiet: list[tuple[float, float]]
    stops: list[tuple[float, float]]
    dry: float | None
    words: str


@dataclass(frozen=True, slots=True)
class Strip:
    """Sources across the event, with the dark hours behind them."""

    rows: list[StripRow]
    dark: list[tuple[float, float]]
    ticks: list[tuple[float, str]]
    height: float


@dataclass(frozen=True, slots=True)
class BayLine:
    """A bay as the yard's page shows it."""

    bay: Bay
    #: What it gives: "120 W", or "10 A, up to 144 W".
    gives: str
    #: Whose figures these are: the charger's tag and name, or that they were typed.
    origin: str
    #: The chemistries it charges.
    charges: str
    #: When it charges.
    when: str
    #: What to set or mind, and what it never charges: words with the tags.
    notes: list[tuple[str, str]]


def bay_lines(event: Event) -> list[BayLine]:
    """The bays of an event, each with what its charger may charge."""
    rows = {str(bay.pk): bay for bay in event.bays.select_related("source", "charger")}
    units = units_of(event)
    tags = {str(key): tag for key, tag in event.unit_tags.items()}
    return [
        _bay_line(rows[plan.key], plan, units, tags)
        for plan in bays_of(event, units)
        if plan.key in rows
    ]


def _bay_line(
    bay: Bay,
    plan: BayPlan,
    units: Mapping[str, Sequence[Battery]],
    tags: Mapping[str, str],
) -> BayLine:
    notes: defaultdict[str, list[str]] = defaultdict(list)
    gives, origin = f"{plan.max_w:.0f} W", "typed"
    if bay.charger is not None:
        gives = f"{plan.max_a:g} A, up to {plan.max_w:.0f} W"
        origin = f"{bay.charger.tag} {bay.charger.name}".strip()
        refused = dict(plan.refuses)
        charger = charger_of(bay.charger)
        for key, tag in tags.items():
            if key in refused:
                notes[f"never: {refused[key]}"].append(tag)
            elif fit := fit_of_all(charger, units[key]):
                is_set = fit.verdict == Verdict.WITH_SETTING
                for words in (*([fit.why] if is_set else []), *fit.mind):
                    notes[words].append(tag)
    when = "while watched"
    if plan.unwatched_why:
        when = f"unwatched too: {plan.unwatched_why}"
    elif plan.ends_itself and any(CHEMISTRIES[key].is_lead for key in plan.chemistries):
        when = "while watched; lead-acid any time"
    return BayLine(
        bay=bay,
        gives=gives,
        origin=origin,
        charges=", ".join(CHEMISTRIES[key].name for key in plan.chemistries) or "none",
        when=when,
        notes=[(words, ", ".join(sorted(found))) for words, found in notes.items()],
    )


def source_strip(event: Event) -> Strip | None:
    """Draw when each source gives power; None while nothing can be worked out."""
    try:
        found = problem_for(event)
        view = found.view
    except PowercoreError:
        return None
    problem = found.problem
    x = Scale(0, event.span_min, 150, 840)

    def spans(windows: Iterable[Window]) -> list[tuple[float, float]]:
        return [
            (x(one.start_min), round(x(one.end_min) - x(one.start_min), 1))
            for one in windows
        ]

    rows = []
    by_key = {str(source.pk): source for source in event.sources.all()}
    for number, plan in enumerate(problem.scenario.sources):
        ran = running(plan, problem.most_asked_w(plan))
        used_w = problem.sources[plan.key].max_w
        asked_w = used_w / problem.charger_efficiency[plan.key]
        words = f"{asked_w:,.0f} W for chargers"
        if asked_w > used_w + 0.5:
            words += f", {used_w:,.0f} W into batteries"
        if plan.energy_wh is not None:
            words = f"{plan.energy_wh:,.0f} Wh, {used_w:,.0f} W"
        rows.append(
            StripRow(
                source=by_key[plan.key],
                y=26.0 + 34 * number,
                runs=spans(ran.windows),
                quiet=[] if plan.is_quiet_waived else spans(plan.quiet),
                stops=spans(ran.stops),
                dry=None if ran.dry_min is None else x(ran.dry_min),
                words=words,
            )
        )
    return Strip(
        rows=rows,
        dark=spans(windows_where(problem.grid, view.is_dark)) if view else [],
        ticks=hour_ticks(event, x),
        height=26.0 + 34 * len(rows) + 22,
    )


@dataclass(frozen=True, slots=True)
class MapSpot:
    """A place on the little map."""

    site: Site
    x: float
    y: float


@dataclass(frozen=True, slots=True)
class Map:
    """Places drawn from their coordinates, north up, with a scale."""

    spots: list[MapSpot]
    yard: MapSpot | None
    bar_px: float
    bar_m: int


def little_map(sites: Sequence[Site]) -> Map | None:
    """Draw places from coordinates alone; None with fewer than two of them."""
    known = [s for s in sites if s.latitude is not None and s.longitude is not None]
    if len(known) < 2:
        return None
    middle = np.radians(np.mean([s.latitude for s in known]))
    # Across the date line the nearer way round.
    first = known[0].longitude or 0.0
    east = [
        (((s.longitude or 0.0) - first + 180) % 360 - 180) * np.cos(middle)
        for s in known
    ]
    north = [s.latitude or 0.0 for s in known]
    size = max(max(east) - min(east), max(north) - min(north), 1e-5)
    scale_px = 300 / size

    def spot(number: int) -> MapSpot:
        return MapSpot(
            known[number],
            round(70 + (east[number] - min(east)) * scale_px, 1),
            round(30 + (max(north) - north[number]) * scale_px, 1),
        )

    spots = [spot(number) for number in range(len(known))]
    m_per_px = size * 111_195 / 300
    bar_m = 10 ** int(np.floor(np.log10(80 * m_per_px)))
    bar_m *= max(k for k in (1, 2, 5) if k * bar_m <= 80 * m_per_px)
    return Map(
        spots=spots,
        yard=next((one for one in spots if one.site.is_yard), None),
        bar_px=round(bar_m / m_per_px, 1),
        bar_m=int(bar_m),
    )
