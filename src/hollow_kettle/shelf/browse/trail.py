"""What happened to a thing, from the log."""

from __future__ import annotations

from dataclasses import dataclass

from django.db.models import Q

from hollow_kettle.log.models import CUSTODY, FieldEntry, Kind, Standing
from hollow_kettle.shelf.models import Asset


@dataclass(frozen=True, slots=True)
class TrailEntry:
    """One entry about an asset, as its page shows it."""

    entry: FieldEntry
    is_struck: bool

    @property
    def can_be_struck(self) -> bool:
        """Whether striking it makes sense."""
        return not self.is_struck and self.entry.kind != Kind.STRIKE

    @property
    def words(self) -> str:
        """What it says."""
        entry = self.entry
        parts = []
        if entry.kind in CUSTODY and entry.place is not None:
            parts.append(entry.place.name)
        if entry.volts is not None:
            parts.append(f"{entry.volts:.2f} V")
        if entry.amps is not None:
            parts.append(f"{entry.amps:.1f} A")
        if entry.amp_hours is not None:
            parts.append(f"{entry.amp_hours:.1f} Ah")
        if entry.unplugged_min:
            parts.append(f"unplugged {entry.unplugged_min:.0f} min")
        if entry.kind == Kind.CHECKED:
            parts.append("switches off" if entry.switches_off else "switches not off")
            parts.append("nothing draws" if entry.load_off else "something draws")
        if entry.damage:
            parts.append(f"damage: {entry.damage}")
        if entry.is_wet:
            parts.append("wet")
        if entry.missing:
            parts.append(f"missing: {entry.missing}")
        if entry.kind == Kind.HOLD and entry.to_whom:
            parts.append(f"for {entry.to_whom}")
        if entry.note:
            parts.append(entry.note)
        return " · ".join(parts)


def trail_of(asset: Asset, most: int = 60) -> list[TrailEntry]:
    """The log about an asset, newest first, struck entries among it; two queries."""
    found = list(
        FieldEntry.objects.filter(Q(asset=asset.pk) | Q(battery=asset.pk))
        .select_related("place", "actor")
        .order_by("-effective_at", "-id")[:most]
    )
    strikes = FieldEntry.objects.filter(
        kind=Kind.STRIKE,
        standing=Standing.KEPT,
        strikes__in=[entry.uid for entry in found],
    )
    struck = set(strikes.values_list("strikes", flat=True))
    return [TrailEntry(entry, entry.uid in struck) for entry in found]
