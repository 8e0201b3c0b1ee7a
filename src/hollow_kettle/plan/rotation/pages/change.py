"""What a change costs, and how pins stand, for the rotation board's side."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

from hollow_kettle.plan.bridge.rotations import core_pin, problem_of
from hollow_kettle.plan.models import Event, Pin, Rotation
from hollow_kettle.plan.rotation.changes import Proposal, pin_words
from powercore.rotation.compare import Cost
from powercore.rotation.verify import broken_pin


@dataclass(frozen=True, slots=True)
class CostRow:
    """One figure's difference: negative is a gain."""

    name: str
    unit: str
    value: float
    where: str = ""

    @property
    def digits(self) -> int:
        """Places after the point: hours and litres have one."""
        return 1 if self.unit in ("h", "L") else 0

    @property
    def is_noticed(self) -> bool:
        """Whether it differs in the digits shown."""
        return abs(self.value) >= 0.5 / 10**self.digits

    @property
    def words(self) -> str:
        """The difference with its sign."""
        return f"{self.value:+.{self.digits}f}".replace("-", "−")


@dataclass(frozen=True, slots=True)
class ChangePage:
    """A change that was tried."""

    words: str
    verdict: str
    rows: tuple[CostRow, ...]
    is_pin: bool
    is_same: bool


@dataclass(frozen=True, slots=True)
class PinRow:
    """A pin, and whether a rotation keeps it."""

    pin: Pin
    words: str
    is_kept: bool


def cost_rows(event: Event, cost: Cost) -> tuple[CostRow, ...]:
    """A cost's figures that differ, most important first."""
    names = {str(one.pk): one.name for one in event.stations.all()}
    where = ", ".join(
        f"{names.get(key, '?')} {value:+.0f}".replace("-", "−")
        for key, value in cost.by_station
    )
    rows = (
        CostRow("off the air", "min", cost.off_air_min, where),
        CostRow("on low power", "min", cost.lowered_min),
        CostRow("not served", "Wh", cost.unserved_wh),
        CostRow("into reserve", "min", cost.reserve_min),
        CostRow("slack missing", "min", cost.thin_min),
        CostRow("walks", "", cost.walks),
        CostRow("of them in the dark", "", cost.night_walks),
        CostRow("bay changes", "", cost.bay_changes),
        CostRow("engine for charging alone", "h", cost.engine_h),
        CostRow("fuel for charging", "L", cost.fuel_l),
    )
    return tuple(row for row in rows if row.is_noticed or row.where)


def change_page(event: Event, proposal: Proposal) -> ChangePage:
    """Lay out a change that was tried."""
    verdict = {-1: "Better than it is", 0: "As good as it is", 1: "Worse than it is"}
    return ChangePage(
        words=proposal.words,
        verdict=verdict[proposal.cost.verdict],
        rows=cost_rows(event, proposal.cost),
        is_pin=proposal.pin is not None,
        is_same=proposal.is_same,
    )


def step_rows(event: Event, rotation: Rotation) -> list[PinRow]:
    """When a rotation has stations on low power by its own choice, drawn like pins."""
    problem, _ = problem_of(rotation)
    rows = []
    for step in problem.scenario.steps:
        starts, ends = (
            event.moment_of(minute + rotation.from_min)
            for minute in (step.start_min, step.end_min)
        )
        place = UUID(step.place)
        pin = Pin(kind=step.kind, place=place, starts_at=starts, ends_at=ends)
        rows.append(PinRow(pin, pin_words(event, pin), is_kept=True))
    return rows


def pin_rows(event: Event, rotation: Rotation) -> list[PinRow]:
    """The event's pins, and which of them a rotation keeps; lifted ones last."""
    problem, legs = problem_of(rotation)
    rows = []
    for pin in event.pins.select_related("battery"):
        asked = core_pin(event, pin, problem.scenario, rotation.from_min)
        is_kept = asked is None or not broken_pin(problem, legs, asked)
        if asked is not None and pin.kind == Pin.Kind.LOW:
            is_kept = asked in problem.scenario.pins
        rows.append(PinRow(pin, pin_words(event, pin), is_kept))
    return sorted(rows, key=lambda row: row.pin.lifted_at is not None)
