"""Values of the pages on what numbers taught, and how they would have foretold."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from hollow_kettle.debrief.causes.services import attribution_of
from hollow_kettle.debrief.models import Causes
from hollow_kettle.plan.bridge.problems import problem_for
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.shelf.models import Estimate
from powercore.debrief.learn import Foretold, foretell, scored, sd_of
from powercore.limits import USUAL_SPREAD
from powercore.physics.loads import ONE_IN_TEN

NAMES = {
    Estimate.DRAW: ("Draw over its list", "times"),
    Estimate.CAPACITY: ("Capacity", "Ah"),
    Estimate.RESISTANCE: ("Resistance", "mΩ"),
    Estimate.BAY: ("Output of a bay", "times"),
    Estimate.WALK: ("Walk from the yard", "min"),
    Estimate.LATENESS: ("Lateness of walks", "min"),
}


@dataclass(frozen=True, slots=True)
class Row:
    """One estimate as a page shows it."""

    estimate: Estimate
    name: str
    unit: str

    @property
    def low(self) -> float:
        """Lower end of its 80 % interval."""
        return max(0.0, self.estimate.mean - ONE_IN_TEN * self.estimate.sd)

    @property
    def high(self) -> float:
        """Upper end of its 80 % interval."""
        return self.estimate.mean + ONE_IN_TEN * self.estimate.sd

    @property
    def places(self) -> int:
        """Decimals it is told with."""
        places = {Estimate.DRAW: 2, Estimate.BAY: 2, Estimate.CAPACITY: 1}
        return places.get(self.estimate.quantity, 0)

    @property
    def state(self) -> str:
        """What became of it, in words."""
        if self.estimate.refused_by is not None:
            return f"refused by {self.estimate.refused_by}"
        if self.estimate.accepted_by is None:
            return ""
        if self.estimate.superseded_by_id is not None:
            return "accepted; a later one applies"
        return f"accepted by {self.estimate.accepted_by}"


def learned_at(event: Event) -> list[Row]:
    """What an event taught, by quantity and name."""
    found = Estimate.objects.filter(event_key=event.pk)
    rows = found.select_related("accepted_by", "refused_by")
    order = list(NAMES)
    return [
        Row(one, *NAMES[one.quantity])
        for one in sorted(rows, key=lambda one: (order.index(one.quantity), one.name))
        if one.quantity in NAMES
    ]


@dataclass(frozen=True, slots=True)
class Tested:
    """One station of one event: as it was foretold then, and would be now."""

    event: Event
    station: str
    planned_wh: float
    came: float
    then: Foretold
    now: Foretold

    @property
    def came_wh(self) -> float:
        """What it drew. [Wh]"""
        return self.planned_wh * self.came

    @property
    def now_wh(self) -> float:
        """What would be planned now. [Wh]"""
        return self.planned_wh * self.now.mean


@dataclass(frozen=True, slots=True)
class Backtest:
    """What past plans foretold of what stations draw, then and now."""

    rows: list[Tested]
    then: tuple[float, float] | None
    now: tuple[float, float] | None
    #: Events that teach nothing here yet.
    lacking: list[Event]


def backtest(events: list[Event]) -> Backtest:
    """
    Hold what is known today against what came, each event left out of its own test.

    An event's own estimates never count in what it would have been foretold.
    """
    found, lacking = {}, []
    for row in Causes.objects.filter(event__in=events).select_related("event"):
        attribution = attribution_of(row)
        if attribution is not None:
            found[row.event] = attribution
    lacking = [one for one in events if one not in found]
    accepted: defaultdict[str, list[Estimate]] = defaultdict(list)
    for one in Estimate.objects.filter(
        quantity=Estimate.DRAW, accepted_by__isnull=False
    ):
        accepted[one.name.lower()].append(one)
    rows = []
    for event, attribution in found.items():
        stations = {str(one.pk): one for one in event.stations.all()}
        for key, likely in attribution.draws.items():
            station = stations.get(key)
            if station is None:
                continue
            others = [
                (one.mean / station.draws, one.sd / station.draws)
                for one in accepted[station.name.lower()]
                if one.event_key != event.pk
            ]
            rows.append(_tested(event, station, likely.typical, sd_of(likely), others))
    return Backtest(
        rows=rows,
        then=scored([row.then for row in rows]) if rows else None,
        now=scored([row.now for row in rows]) if rows else None,
        lacking=lacking,
    )


def _tested(
    event: Event,
    station: Station,
    came: float,
    came_sd: float,
    others: list[tuple[float, float]],
) -> Tested:
    problem = problem_for(event).problem
    key, spread = str(station.pk), station.spread_pct / 100 or USUAL_SPREAD
    mean, sd = foretell(others, spread)
    known = {"came": came, "came_sd": came_sd}
    return Tested(
        event=event,
        station=station.name,
        planned_wh=float(problem.drawn_wh[key][-1]),
        came=came,
        then=Foretold(mean=1.0, sd=spread, **known),
        now=Foretold(mean=mean, sd=sd, **known),
    )
