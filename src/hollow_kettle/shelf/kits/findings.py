"""What is wrong in kits, what of it somebody accepted, and what still stands."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

from django.core.exceptions import ValidationError

from hollow_kettle.shelf.models import Acceptance, Asset
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.gear.checks import STOP, Finding, findings_of
from powercore.gear.powerpath import Kit

from .bridge import kit_of, rows_of_kit


@dataclass(frozen=True, slots=True)
class Shown:
    """A finding as a page shows it."""

    number: int
    finding: Finding
    acceptance: Acceptance | None
    is_expired: bool

    @property
    def is_accepted(self) -> bool:
        """Whether the coordinator accepted it, and still does."""
        return self.acceptance is not None and not self.is_expired

    @property
    def is_stop(self) -> bool:
        """Whether it is a stop."""
        return self.finding.severity is STOP


def shown_findings(asset: Asset, kit: Kit, day: date) -> list[Shown]:
    """Findings of a kit, those that stand first, accepted ones after them."""
    accepted = {one.key: one for one in asset.acceptances.select_related("made_by")}
    found = [(one, accepted.get(one.key)) for one in findings_of(kit)]
    ordered = sorted(found, key=lambda pair: not _stands(pair[0], pair[1], day))
    return [
        Shown(
            number,
            finding,
            acceptance,
            is_expired=acceptance is not None and _stands(finding, acceptance, day),
        )
        for number, (finding, acceptance) in enumerate(ordered, start=1)
    ]


def _stands(finding: Finding, acceptance: Acceptance | None, day: date) -> bool:
    """
    Whether a finding counts although it may have been accepted.

    What was accepted is a stop as it was: one that says something else by now is
    another.
    """
    if acceptance is None or acceptance.until < day:
        return True
    has_changed = acceptance.words not in ("", finding.words)
    return finding.severity is STOP and has_changed


def counted(found: Iterable[Shown]) -> str:
    """How many of each there are: 4 more stops, 1 caution."""
    counts = Counter(str(one.finding.severity) for one in found)
    parts = [
        f"{count} {'more ' if number == 0 else ''}{what}{'s' if count > 1 else ''}"
        for number, (what, count) in enumerate(counts.items())
    ]
    return ", ".join(parts)


@dataclass(frozen=True, slots=True)
class Stop:
    """A stop of a kit that nobody accepted."""

    kit: Asset
    finding: Finding

    @property
    def name(self) -> str:
        """What a form calls its reason."""
        return f"stop-{self.kit.pk}-{self.finding.key}"

    @property
    def words(self) -> str:
        """What is wrong, and in which kit."""
        return f"{self.kit.tag}: {self.finding.words}"


class StopsStand(ValidationError):
    """Kits may not leave while nobody accepted their stops."""

    def __init__(self, stops: Sequence[Stop]) -> None:
        self.stops = list(stops)
        many = f"{len(stops)} stops are open" if len(stops) > 1 else "One stop is open"
        super().__init__(
            f"{many}: fix it, or say why each may leave anyway.",
            code="stops",
        )


def stops_of(asset: Asset, shown: Iterable[Shown]) -> list[Stop]:
    """The stops among a kit's findings that nobody accepted."""
    return [
        Stop(asset, one.finding) for one in shown if one.is_stop and not one.is_accepted
    ]


def standing_stops(assets: Iterable[Asset], day: date) -> list[Stop]:
    """The stops of the kits among these assets that nobody accepted."""
    return [
        stop
        for asset in assets
        if asset.kind == AssetKind.KIT
        for stop in stops_of(
            asset, shown_findings(asset, kit_of(rows_of_kit(asset), day), day)
        )
    ]
