"""The list of the shelf, and the facts of each thing."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any
from urllib.parse import urlencode
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

from hollow_kettle.log.models import FieldEntry, Place, Placement
from hollow_kettle.shelf import fields, kinds
from hollow_kettle.shelf.assets.queries import attach_details
from hollow_kettle.shelf.bench.queries import estimates_of
from hollow_kettle.shelf.charge.queries import ShelfBattery, shelf_batteries_of
from hollow_kettle.shelf.models import Asset, KitItem, details
from powercore.errors import PowercoreError
from powercore.physics.chemistry import CHEMISTRIES
from powercore.values import parse_number

from .trail import trail_of

#: Rows of a list on one page.
PAGE_ROWS = 50


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
    def before(self) -> str:
        """The query of the page before."""
        return self._query(self.page - 1)

    @property
    def after(self) -> str:
        """The query of the next page."""
        return self._query(self.page + 1)

    def _query(self, page: int) -> str:
        asked = {"q": self.words, "kind": self.kind, "group": self.group}
        return "?" + urlencode({**asked, "page": page})

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


def assumed_of(said: Mapping[str, str]) -> str:
    """What is assumed of a battery by its chemistry and Ah, as a form has them."""
    chem = CHEMISTRIES.get(said.get("chemistry", ""))
    if chem is None:
        return "Choose its chemistry to see what will be assumed of it."
    words = [f"a reserve of {chem.reserve_soc:.0%}"]
    try:
        ah = parse_number(said.get("nameplate_ah", ""), "Capacity")
    except PowercoreError:
        ah = 0.0
    if ah > 0:
        words += [
            f"at most {chem.max_discharge_c * ah:.3g} A out",
            f"{chem.max_charge_c * ah:.3g} A in" if chem.is_rechargeable else "",
            f"{chem.untested_share * ah:.3g} Ah until it is tested",
        ]
    if chem.is_lithium:
        words.append("its protection not noted: nothing is promised of it")
    return f"Assumed, as usual for {chem.name}: {', '.join(filter(None, words))}."
