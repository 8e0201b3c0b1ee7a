"""Bays as the core has them: typed, or by the charger that stands there."""

from __future__ import annotations

from collections import defaultdict

from hollow_kettle.plan.models import Bay, Event
from hollow_kettle.shelf.bridge import charger_of
from hollow_kettle.shelf.fits.queries import batteries
from hollow_kettle.shelf.models import Asset
from powercore.event.bays import on_charger
from powercore.event.plans import BayPlan
from powercore.gear.things import Battery
from powercore.sun.sources import CHARGER_EFFICIENCY


def bays_of(
    event: Event, units: dict[str, list[Battery]] | None = None
) -> tuple[BayPlan, ...]:
    """The bays of an event; its units are looked up unless they are given."""
    rows = list(event.bays.select_related("charger__charger"))
    if units is None:
        units = units_of(event) if any(row.charger for row in rows) else {}
    return tuple(_bay(row, units) for row in rows)


def units_of(event: Event) -> dict[str, list[Battery]]:
    """What the event moves, as things that are charged: by key, a set's together."""
    leads = {row.battery_id: row.lead_id for row in event.joined.all()}
    assets = list(event.batteries.filter(archived_at=None).select_related("battery"))
    known = batteries(assets)
    here = {asset.pk for asset in assets}
    units = defaultdict(list)
    for asset in assets:
        lead = leads.get(asset.pk, asset.pk)
        units[str(lead if lead in here else asset.pk)].append(known[asset.tag])
        if lead != asset.pk:  # a set that its numbers forbid by now moves singly
            units[str(asset.pk)].append(known[asset.tag])
    return dict(units)


def _bay(bay: Bay, units: dict[str, list[Battery]]) -> BayPlan:
    plan = BayPlan(
        key=str(bay.pk),
        name=bay.name,
        source=str(bay.source_id),
        max_w=bay.max_w or 1.0,
        chemistries=tuple(key for key in bay.chemistries.split(",") if key),
        ends_itself=bay.ends_itself,
        unwatched_why=bay.unwatched_why,
        efficiency=CHARGER_EFFICIENCY,
    )
    if bay.charger is None:
        return plan
    refusal = why_not(bay.charger)
    return on_charger(plan, charger_of(bay.charger), units, refusal=refusal)


def why_not(charger: Asset) -> str:
    """Why a charger charges nothing at all; empty where it works."""
    if charger.archived_at is not None:
        return "off the shelf"
    return f"on hold: {charger.hold}" if charger.hold else ""
