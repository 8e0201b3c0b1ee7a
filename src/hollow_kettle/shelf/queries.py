"""What the Shelf's pages show, each read in a fixed number of queries."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
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
    Standing,
)
from hollow_kettle.log.states import state_of
from powercore.physics.battery import Pack, typical_ohm
from powercore.physics.chemistry import chemistry_of

from . import fields, kinds
from .bridge import Tested, pack_of
from .models import Asset, Estimate, KitItem, details

#: Rows of a list on one page.
PAGE_ROWS = 50


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
    #: What it is due for, where the list asks for that.
    due: str = ""

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
    #: What each is due for, where the list is grouped by that.
    dues: Mapping[UUID, tuple[str, str]]

    @property
    def groups(self) -> list[tuple[str, list[Row]]]:
        """The rows under their headings."""
        found: defaultdict[str, list[Row]] = defaultdict(list)
        for row in self.rows:
            found[self._heading(row)].append(row)
        return list(found.items())

    def _heading(self, row: Row) -> str:
        if self.group == "due":
            return self.dues[row.asset.pk][0]
        if self.group == "where":
            return row.where
        if self.group == "kit":
            return ", ".join(kit.tag for kit in row.kits) or "in no kit"
        return kinds.KINDS[row.asset.kind].plural


GROUPS = {
    "kind": "kind",
    "where": "where it is",
    "kit": "kit",
    "due": "what is due",
}


def listing(
    *,
    words: str = "",
    kind: str = "",
    group: str = "kind",
    page: int = 1,
    dues: Mapping[UUID, tuple[str, str]] | None = None,
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
    dues : mapping, optional
        By asset, the soonest first: under which heading it is due, and its words.
        Grouped by "due", the list holds these and no other.
    """
    found = _matching(words, kind)
    dues = dues or {}
    if group == "due":
        found = found.filter(pk__in=list(dues))
    count = found.count()
    pages = max(1, math.ceil(count / PAGE_ROWS))
    page = min(max(1, page), pages)
    start = (page - 1) * PAGE_ROWS
    if group == "due":
        rank = {uid: n for n, uid in enumerate(dues)}
        ordered = sorted(found, key=lambda asset: rank[asset.pk])
        assets = attach_details(ordered[start : start + PAGE_ROWS])
    else:
        assets = attach_details(_ordered(found, group)[start : start + PAGE_ROWS])
    return Listing(
        rows=[
            replace(row, due=dues[row.asset.pk][1]) if row.asset.pk in dues else row
            for row in rows_of(assets)
        ],
        count=count,
        page=page,
        pages=pages,
        group=group if group in GROUPS else "kind",
        kind=kind,
        words=words,
        dues=dues,
    )


#: Kinds in the order of their table, batteries first.
_RANK = Case(
    *(When(kind=key, then=Value(n)) for n, key in enumerate(kinds.KINDS)),
    default=Value(99),
    output_field=IntegerField(),
)


def _matching(words: str, kind: str) -> QuerySet[Asset]:
    found = Asset.objects.here()
    if kind in kinds.KINDS:
        found = found.filter(kind=kind)
    for word in words.split()[:8]:
        named = [one.key for one in kinds.KINDS.values() if word.lower() in one.name]
        placed = Placement.objects.filter(ended_at=None, place__name__icontains=word)
        packed = KitItem.objects.filter(kit__tag__icontains=word)
        chemistry = details.Battery.objects.filter(chemistry__icontains=word)
        found = found.filter(
            Q(tag__icontains=word)
            | Q(name__icontains=word)
            | Q(owner__icontains=word)
            | Q(home__icontains=word)
            | Q(hold__icontains=word)
            | Q(kind__in=named)
            | Q(pk__in=placed.values("battery"))
            | Q(pk__in=packed.values("asset"))
            | Q(pk__in=chemistry.values("asset"))
        )
    return found


def _ordered(found: QuerySet[Asset], group: str) -> QuerySet[Asset]:
    """By what the rows are grouped by, then kind and tag."""
    if group == "where":
        here = Placement.objects.filter(battery=OuterRef("pk"), ended_at=None)
        first = Subquery(here.values("place__name")[:1])
        return found.order_by(first, _RANK, "tag")
    if group == "kit":
        packed = KitItem.objects.filter(asset=OuterRef("pk")).order_by("kit__tag")
        return found.order_by(Subquery(packed.values("kit__tag")[:1]), _RANK, "tag")
    return found.order_by(_RANK, "tag")


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
        if spec.name not in kind.own_names:
            continue
        value = getattr(detail, spec.name)
        if value in (None, "", False):
            continue
        if spec.how == fields.YES:
            shown = "yes"
        elif spec.how == fields.CHOICE:
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


@dataclass(frozen=True, slots=True)
class Look:
    """What the side of the list says of the shelf as a whole."""

    count: int
    total_wh: float
    on_hold: list[Asset]
    untested: list[Asset]
    weak: list[tuple[Asset, float, float]]


#: The side names so many of each.
_NAMED = 12


def worth_a_look() -> Look:
    """Holds, untested and weak batteries, and the energy of all; three queries."""
    tested = accepted_ah_by_battery()
    rows = Asset.objects.batteries().values_list(
        "pk",
        "tag",
        "hold",
        "battery__nameplate_ah",
        "battery__chemistry",
        "battery__series",
        "battery__reserve_pct",
    )
    weak, untested, total_wh = [], [], 0.0
    rested: dict[tuple[str, int, float | None], tuple[float, float]] = {}
    for pk, tag, hold, printed_ah, *like in rows:
        found_ah = tested.get(pk)
        if found_ah is None:
            untested.append((pk, tag))
        elif found_ah < 0.75 * printed_ah:
            weak.append((pk, tag, found_ah, printed_ah))
        if hold:
            continue
        key = (like[0], like[1], like[2])
        if key not in rested:
            rested[key] = _depth_and_volts(*key)
        depth, volts = rested[key]
        chem = chemistry_of(like[0])
        trusted_ah = printed_ah * chem.untested_share if found_ah is None else found_ah
        sag_v = trusted_ah / 20 * typical_ohm(chem, like[1], printed_ah)
        total_wh += depth * trusted_ah * (volts - sag_v)
    return Look(
        count=len(rows),
        total_wh=total_wh,
        on_hold=list(Asset.objects.here().exclude(hold="").order_by("tag")[:_NAMED]),
        untested=[_named(*one) for one in untested[:_NAMED]],
        weak=[(_named(pk, tag), found, ah) for pk, tag, found, ah in weak[:_NAMED]],
    )


def _named(pk: UUID, tag: str) -> Asset:
    """A battery for a link: no more is known of it than its tag."""
    return Asset(pk=pk, tag=tag, kind=Asset.BATTERY)


def _depth_and_volts(
    chemistry: str, series: int, reserve_pct: float | None
) -> tuple[float, float]:
    """What is used of a full pack, and the mean rested voltage of that. [V]"""
    pack = Pack(
        chemistry=chemistry,
        series=series,
        nameplate_ah=100,
        reserve=None if reserve_pct is None else reserve_pct / 100,
    )
    return 1 - pack.reserve_soc, pack.mean_v(1.0, pack.reserve_soc, 0.0)
