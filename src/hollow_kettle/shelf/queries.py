"""What the Shelf's pages show, each read in a fixed number of queries."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from django.db.models import (
    Case,
    Count,
    IntegerField,
    OuterRef,
    Q,
    QuerySet,
    Subquery,
    Value,
    When,
)

from hollow_kettle.log.models import (
    CUSTODY,
    BatteryNow,
    FieldEntry,
    Kind,
    Place,
    Placement,
)
from hollow_kettle.log.states import state_of
from powercore.battery import Pack

from . import kinds
from .bridge import Tested, pack_of
from .models import Asset, Estimate, KitItem

#: Rows of a list on one page.
PAGE_ROWS = 100


@dataclass(frozen=True, slots=True)
class ShelfBattery:
    """A battery as a page shows it."""

    asset: Asset
    pack: Pack
    now: BatteryNow | None
    state: str

    @property
    def soc(self) -> float | None:
        """Believed state of charge, None when never seen."""
        return None if self.now is None else self.now.soc_typical

    @property
    def soc_low(self) -> float | None:
        """Lower end of the belief."""
        return None if self.now is None else self.now.soc_low

    @property
    def soc_high(self) -> float | None:
        """Upper end of the belief."""
        return None if self.now is None else self.now.soc_high

    @property
    def usable_full_wh(self) -> float:
        """What it gives from full to its reserve at a gentle current. [Wh]"""
        return self.pack.usable_wh(
            1.0, self.pack.reserve_soc, self.pack.trusted_ah / 20
        )

    @property
    def usable_now_wh(self) -> float | None:
        """What it gives from now to its reserve. [Wh]"""
        if self.now is None:
            return None
        return self.pack.usable_wh(
            self.now.soc_typical, self.pack.reserve_soc, self.pack.trusted_ah / 20
        )

    @property
    def where(self) -> str:
        """Where it is, in words."""
        if self.now is None or self.now.since is None:
            return f"home: {self.asset.home}" if self.asset.home else "not known"
        return self.now.place.name if self.now.place else "on the way"


def capacities_by_battery(uids: Iterable[UUID] | None = None) -> dict[UUID, Tested]:
    """Accepted, unsuperseded capacity of each battery."""
    estimates = Estimate.objects.filter(
        quantity=Estimate.CAPACITY, accepted_by__isnull=False, superseded_by=None
    )
    if uids is not None:
        estimates = estimates.filter(subject__in=list(uids))
    found = estimates.order_by("made_at", "pk").values_list(
        "subject", "mean", "sd", "made_at"
    )
    return {subject: Tested(ah, sd, at) for subject, ah, sd, at in found}


def accepted_ah_by_battery(uids: Iterable[UUID] | None = None) -> dict[UUID, float]:
    """Accepted, unsuperseded capacity of each battery. [Ah]"""
    return {uid: tested.ah for uid, tested in capacities_by_battery(uids).items()}


def shelf_batteries(uids: Iterable[UUID] | None = None) -> list[ShelfBattery]:
    """All batteries that have not been archived, or some, by tag; three queries."""
    assets = Asset.objects.batteries()
    if uids is not None:
        assets = assets.filter(pk__in=list(uids))
    return shelf_batteries_of(list(assets))


def shelf_batteries_of(assets: list[Asset]) -> list[ShelfBattery]:
    """These batteries as pages show them; two queries."""
    uids = [asset.pk for asset in assets]
    tested = accepted_ah_by_battery(uids)
    nows = {
        now.battery: now
        for now in BatteryNow.objects.filter(battery__in=uids).select_related("place")
    }
    return [
        _shelf_battery(asset, tested.get(asset.pk), nows.get(asset.pk))
        for asset in assets
    ]


def shelf_battery(asset: Asset) -> ShelfBattery:
    """One battery."""
    return shelf_batteries_of([asset])[0]


def _shelf_battery(
    asset: Asset, tested_ah: float | None, now: BatteryNow | None
) -> ShelfBattery:
    pack = pack_of(asset.battery, tested_ah)
    state = state_of(now, reserve=pack.reserve_soc, hold=asset.hold)
    return ShelfBattery(asset=asset, pack=pack, now=now, state=state)


def estimates_of(asset: Asset) -> list[Estimate]:
    """Capacity estimates of a battery, newest first."""
    return list(
        Estimate.objects.filter(subject=asset.pk, quantity=Estimate.CAPACITY)
        .select_related("accepted_by")
        .order_by("-made_at", "-pk")
    )


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the shelf's list."""

    asset: Asset
    about: str
    battery: ShelfBattery | None
    place: Place | None
    since: datetime | None
    due_at: datetime | None
    kits: tuple[Asset, ...]

    @property
    def where(self) -> str:
        """Where it is: checked out, or at home."""
        if self.place is not None:
            return self.place.name
        return "on the way" if self.since else self.asset.home or "–"


@dataclass(frozen=True, slots=True)
class Listing:
    """One page of the shelf's list."""

    rows: list[Row]
    count: int
    page: int
    pages: int
    group: str
    kind: str
    words: str

    @property
    def groups(self) -> list[tuple[str, list[Row]]]:
        """The rows under their headings."""
        found: defaultdict[str, list[Row]] = defaultdict(list)
        for row in self.rows:
            found[self._heading(row)].append(row)
        return list(found.items())

    def _heading(self, row: Row) -> str:
        if self.group == "where":
            return row.where
        if self.group == "kit":
            return ", ".join(kit.tag for kit in row.kits) or "in no kit"
        return kinds.KINDS[row.asset.kind].plural


GROUPS = {"kind": "kind", "where": "where it is", "kit": "kit"}


def listing(
    *, words: str = "", kind: str = "", group: str = "kind", page: int = 1
) -> Listing:
    """
    Search and page the shelf; the number of queries doesn't grow with it.

    Parameters
    ----------
    words : str
        Each must occur in tag, name, owner, home, hold, kind or place.
    kind, group : str
        One kind or all; what the rows are grouped by.
    page : int
        From 1; past the end means the last.
    """
    found = _matching(words, kind)
    count = found.count()
    pages = max(1, math.ceil(count / PAGE_ROWS))
    page = min(max(1, page), pages)
    order = {
        "where": ("where_name", "rank", "tag"),
        "kit": ("kit_tag", "rank", "tag"),
    }.get(group, ("rank", "tag"))
    start = (page - 1) * PAGE_ROWS
    assets = attach_details(found.order_by(*order)[start : start + PAGE_ROWS])
    return Listing(
        rows=rows_of(assets),
        count=count,
        page=page,
        pages=pages,
        group=group if group in GROUPS else "kind",
        kind=kind,
        words=words,
    )


#: Kinds in the order of their table, batteries first.
_RANK = Case(
    *(When(kind=key, then=Value(n)) for n, key in enumerate(kinds.KINDS)),
    default=Value(99),
    output_field=IntegerField(),
)


def _matching(words: str, kind: str) -> QuerySet[Asset]:
    open_here = Placement.objects.filter(battery=OuterRef("pk"), ended_at=None)
    in_kit = KitItem.objects.filter(asset=OuterRef("pk")).order_by("kit__tag")
    found = Asset.objects.here().annotate(
        where_name=Subquery(open_here.values("place__name")[:1]),
        kit_tag=Subquery(in_kit.values("kit__tag")[:1]),
        rank=_RANK,
    )
    if kind in kinds.KINDS:
        found = found.filter(kind=kind)
    for word in words.split()[:8]:
        named = [one.key for one in kinds.KINDS.values() if word.lower() in one.name]
        found = found.filter(
            Q(tag__icontains=word)
            | Q(name__icontains=word)
            | Q(owner__icontains=word)
            | Q(home__icontains=word)
            | Q(hold__icontains=word)
            | Q(kind__in=named)
            | Q(battery__chemistry__icontains=word)
            | Q(where_name__icontains=word)
            | Q(kit_tag__icontains=word)
        )
    return found


def rows_of(assets: list[Asset]) -> list[Row]:
    """These assets as lines of a list; five queries."""
    uids = [asset.pk for asset in assets]
    batteries = {
        item.asset.pk: item
        for item in shelf_batteries_of([a for a in assets if a.kind == Asset.BATTERY])
    }
    placements = {
        placement.battery: placement
        for placement in Placement.objects.filter(
            battery__in=uids, ended_at=None
        ).select_related("place")
    }
    dues = dict(
        FieldEntry.objects.filter(
            uid__in=[p.entry_uid for p in placements.values()], due_at__isnull=False
        ).values_list("uid", "due_at")
    )
    kits: defaultdict[UUID, list[Asset]] = defaultdict(list)
    for item in KitItem.objects.filter(asset__in=uids).select_related("kit"):
        if item.asset_id is not None:
            kits[item.asset_id].append(item.kit)
    rows = []
    for asset in assets:
        placement = placements.get(asset.pk)
        rows.append(
            Row(
                asset=asset,
                about=about(asset),
                battery=batteries.get(asset.pk),
                place=placement.place if placement else None,
                since=placement.started_at if placement else None,
                due_at=dues.get(placement.entry_uid) if placement else None,
                kits=tuple(kits[asset.pk]),
            )
        )
    return rows


def about(asset: Asset) -> str:
    """What it is, in a few words."""
    kind = kinds.KINDS[asset.kind]
    return kind.about(getattr(asset, kind.attribute))


def counts_by_kind() -> list[tuple[kinds.Kind, int]]:
    """How many of each kind there are; one query."""
    found = dict(
        Asset.objects.here()
        .order_by()
        .values_list("kind")
        .annotate(count=Count("pk"))
        .values_list("kind", "count")
    )
    return [(kind, found[key]) for key, kind in kinds.KINDS.items() if key in found]


def facts_of(asset: Asset) -> list[tuple[str, str, str]]:
    """Label, value and unit of each field that says something."""
    kind = kinds.KINDS[asset.kind]
    detail = getattr(asset, kind.attribute)
    facts = []
    for spec in kind.specs:
        if spec.name in ("nominal_v", "tested_ah"):
            continue
        value = getattr(detail, spec.name)
        if value in (None, "", False):
            continue
        if spec.how == kinds.YES:
            shown = "yes"
        elif spec.how == kinds.CHOICE:
            shown = dict(spec.choices).get(value, value)
        elif isinstance(value, float):
            shown = f"{value:g}"
        else:
            shown = str(value)
        facts.append((spec.label, shown, spec.unit))
    return facts


def attach_details(assets: Iterable[Asset]) -> list[Asset]:
    """
    Read the details of assets, one query for each kind among them.

    One join over all the kinds' tables would be one query, but the database then
    takes longer to plan it than to run all of these.
    """
    found = list(assets)
    by_kind: defaultdict[str, list[Asset]] = defaultdict(list)
    for asset in found:
        by_kind[asset.kind].append(asset)
    for key, members in by_kind.items():
        kind = kinds.KINDS[key]
        details = kind.model._default_manager.in_bulk([asset.pk for asset in members])
        for asset in members:
            setattr(asset, kind.attribute, details[asset.pk])
    return found


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
    """The log about an asset, newest first, struck entries among it; one query."""
    found = list(
        FieldEntry.objects.filter(Q(asset=asset.pk) | Q(battery=asset.pk))
        .select_related("place", "actor")
        .order_by("-effective_at", "-id")[:most]
    )
    struck = {entry.strikes for entry in found if entry.kind == Kind.STRIKE}
    return [TrailEntry(entry, entry.uid in struck) for entry in found]


def page_of(asset: Asset) -> dict[str, Any]:
    """What the page of any asset but a kit shows."""
    row = rows_of([asset])[0]
    context: dict[str, Any] = {
        "asset": asset,
        "kind": kinds.KINDS[asset.kind],
        "row": row,
        "facts": facts_of(asset),
        "ports": list(asset.ports.all()),
        "attachments": list(asset.attachments.defer("content")),
        "trail": trail_of(asset),
        "item": row.battery,
        "tests": list(
            asset.tests.select_related("meter", "charger", "made_by", "estimate")
        ),
    }
    if row.battery is not None:
        context |= {"estimates": estimates_of(asset)}
    return context


def worth_a_look() -> dict[str, Any]:
    """What the side of the list says: holds, untested and weak batteries, totals."""
    batteries = shelf_batteries()
    held = Asset.objects.here().exclude(hold="").order_by("tag")
    return {
        "count": len(batteries),
        "total_wh": sum(b.usable_full_wh for b in batteries if not b.asset.hold),
        "on_hold": list(held[:12]),
        "untested": [b for b in batteries if b.pack.tested_ah is None][:12],
        "weak": [
            b
            for b in batteries
            if b.pack.tested_ah is not None
            and b.pack.tested_ah < 0.75 * b.pack.nameplate_ah
        ][:12],
    }
