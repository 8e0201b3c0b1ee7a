"""What the verifier says."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Broken:
    """A broken rule: its name and what breaks it."""

    rule: str
    words: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Shortfall:
    """A stretch in which a station is off the air or into reserve. [min]"""

    station: str
    what: str
    start_min: float
    end_min: float
    #: Minutes of it in which the station is open.
    open_min: float
    unserved_wh: float
    #: Minutes into reserve, each by the share of the reserve that is gone by then.
    deep_min: float = 0.0


@dataclass(slots=True, kw_only=True)
class Outcome:
    """What really comes out of a rotation."""

    shortfalls: list[Shortfall] = field(default_factory=list)
    #: State of charge at start and end of each leg, in the order of the legs.
    leg_soc: list[tuple[float, float]] = field(default_factory=list)
    #: Where it was asked for: minutes and charge along each leg, by its place in order.
    traces: dict[int, list[tuple[float, float]]] = field(default_factory=dict)
    served_wh: dict[str, float] = field(default_factory=lambda: defaultdict(float))
    walks: int = 0
    #: Walks during which the sun is down at some time.
    night_walks: int = 0
    bay_changes: int = 0
    #: How often one battery takes over from another at a station, by whomever.
    swaps: int = 0
    #: Minutes in which engines run for nothing but these batteries, and what charging
    #: burns. [L]
    engine_min: float = 0.0
    fuel_l: float = 0.0
    #: What each battery gave, in its own capacities.
    cycles: dict[str, float] = field(default_factory=lambda: defaultdict(float))
    #: What all batteries hold at the end. [Wh]
    left_wh: float = 0.0

    def total_min(
        self, what: str, tier: int | None = None, *, tiers: dict[str, int] | None = None
    ) -> float:
        """Open minutes of one kind of shortfall, of all stations or one tier."""
        return sum(
            fall.open_min
            for fall in self.shortfalls
            if fall.what == what
            and (tier is None or (tiers or {}).get(fall.station) == tier)
        )

    @property
    def unserved_wh(self) -> float:
        """Energy asked for and not delivered. [Wh]"""
        return sum(fall.unserved_wh for fall in self.shortfalls)


@dataclass(frozen=True, slots=True, kw_only=True)
class Report:
    """The verdict: broken rules, and what the replay gives."""

    broken: tuple[Broken, ...]
    outcome: Outcome

    @property
    def is_valid(self) -> bool:
        """Whether no rule is broken."""
        return not self.broken
