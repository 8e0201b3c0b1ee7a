"""What a kit's pages show."""

from __future__ import annotations

import re
from collections import defaultdict
from dataclasses import dataclass
from typing import Any

from hollow_kettle.people.club import today
from hollow_kettle.shelf.due.queries import gates_of
from hollow_kettle.shelf.models import Asset, KitItem, Packing
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.errors import PowercoreError
from powercore.gear.checks import NOTE, Finding
from powercore.gear.powerpath import (
    Feeds,
    Kit,
    Weakest,
    hours_given,
    key_down,
    receiving,
    sustained,
    try_solve,
    weakest_link,
)
from powercore.gear.refill import refills
from powercore.gear.things import Device
from powercore.physics.loads import Pattern, mean_current_a

from .bridge import KitRows, battery_alone, kit_of, mass_kg, rows_of_kit
from .drawing import draw_path
from .findings import Shown, Stop, counted, shown_findings, standing_stops, stops_of

#: Findings shown at first.
FIRST = 5


@dataclass(frozen=True, slots=True)
class Gives:
    """How long a kit lasts, one way of operating."""

    hours: float
    words: str


def _low_calling(part: Feeds) -> float:
    device = part.device
    draw = device.low_draw or device.draw
    pattern = Pattern(transmit_share=device.transmit_share, duty=device.duty)
    return mean_current_a(draw, pattern)


def is_dead_by(kit: Kit, finding: Finding) -> bool:
    """Whether by this nothing reaches what the kit is for: its radio, or any load."""
    if not finding.is_no_power:
        return False
    if finding.where not in kit.by_key:
        return True  # of the battery
    radios = [part for part in kit.devices if part.device.is_transmitter]
    ways = [kit.way_to(part.key) for part in (radios[:1] or kit.devices)]
    return all(any(part.key == finding.where for part in way) for way in ways)


def gives(kit: Kit) -> list[Gives]:
    """Hours from full to the reserve: at full power, at low power, on receive."""
    if not kit.members or not kit.devices:
        return []
    kit = kit.switched_on
    radios: list[Device] = [p.device for p in kit.devices if p.device.is_transmitter]
    found = []
    try:
        if radios:
            full_w, low_w = radios[0].tx_w, radios[0].low_tx_w
            words = f"calling at {full_w:g} W" if full_w else "calling at full power"
            found.append(Gives(hours_given(kit, sustained), words))
            if radios[0].low_draw is not None:
                words = f"calling at {low_w:g} W" if low_w else "calling at low power"
                found.append(Gives(hours_given(kit, _low_calling), words))
        found.append(
            Gives(hours_given(kit, receiving), "on receive" if radios else "as it runs")
        )
    except PowercoreError:
        return []
    return found


@dataclass(frozen=True, slots=True)
class Container:
    """What goes into one box or bag."""

    name: str
    items: list[tuple[KitItem, int]]
    mass_kg: float
    is_weighed: bool
    #: Litres of what was measured, and what the box holds; None: nobody said.
    volume_l: float = 0.0
    holds_l: float | None = None

    @property
    def is_over_full(self) -> bool:
        """Whether more is in it than fits, with the gaps that things leave."""
        return self.holds_l is not None and self.volume_l > FILLS * self.holds_l


#: Share of a box that things fill before it closes no more. Common practice, no source.
FILLS = 0.85
#: A box and its litres, as in "lid 12, bag 25 L".
_BOX = re.compile(r"\s*(.+?)\s+(\d+(?:[.,]\d+)?)\s*L?\s*", re.IGNORECASE)


def boxes_of(text: str) -> dict[str, float]:
    """Litres that boxes hold, by their names in lower case."""
    found = (_BOX.fullmatch(part) for part in re.split(r"[;,](?!\d)", text))
    return {one[1].casefold(): float(one[2].replace(",", ".")) for one in found if one}


def containers(rows: KitRows) -> list[Container]:
    """Contents by container, with its mass; kits in the kit count whole."""
    found: defaultdict[str, list[tuple[KitItem, int]]] = defaultdict(list)
    for item, depth in rows.items:
        found[item.container or "not in a box"].append((item, depth))
    return [_container(rows, name, items) for name, items in sorted(found.items())]


def _container(rows: KitRows, name: str, items: list[tuple[KitItem, int]]) -> Container:
    total, is_weighed, litres = 0.0, True, 0.0
    for item, _ in items:
        thing: Asset | KitItem = item
        count = item.count
        if item.asset_id is not None:
            thing, count = rows.assets[item.asset_id], 1
        litres += (thing.volume_l or 0.0) * count
        if thing.mass_kg is None:
            is_weighed = False
        else:
            total += thing.mass_kg * count
    holds_l = boxes_of(rows.asset.kit.boxes).get(name.casefold())
    return Container(name, items, total, is_weighed, litres, holds_l)


@dataclass(frozen=True, slots=True)
class CardFindings:
    """What a kit's card says of its findings."""

    shown: list[Shown]
    #: What it doesn't show: "4 more stops, 1 caution".
    more: str

    @property
    def is_long(self) -> bool:
        """Whether the reasons of what was accepted need smaller type."""
        return sum(one.is_accepted for one in self.shown) > 2


def card_findings(shown: list[Shown]) -> CardFindings:
    """The gravest for a card: stops with who accepted them, then cautions."""
    grave = [one for one in shown if one.finding.severity is not NOTE]
    grave.sort(key=lambda one: not one.is_stop)
    grave = [one for one in grave if one.is_stop or not one.is_accepted]
    return CardFindings(grave[:FIRST], counted(grave[FIRST:]))


def kit_page(asset: Asset) -> dict[str, Any]:
    """Everything the page of a kit shows."""
    rows = rows_of_kit(asset)
    day = today()
    kit = kit_of(rows, day)
    shown = shown_findings(asset, kit, day)
    state = try_solve(kit, 0.5, key_down)
    weakest: Weakest | None = weakest_link(kit, state) if state else None
    standing = [one for one in shown if not one.is_accepted]
    dead = next((one.finding for one in shown if is_dead_by(kit, one.finding)), None)
    return {
        "asset": asset,
        "details": asset.kit,
        "rows": rows,
        "kit": kit,
        "drawing": draw_path(kit, [one.finding for one in shown]),
        "shown": standing[:FIRST],
        "more": standing[FIRST:],
        "more_words": counted(standing[FIRST:]),
        "accepted": [one for one in shown if one.is_accepted],
        "card": card_findings(shown),
        "weakest": weakest,
        "gives": [] if dead else gives(kit),
        "refills": refills(kit),
        "dead": dead,
        "mass_kg": mass_kg(rows),
        "energy_wh": sum(battery.pack.nameplate_wh for battery in kit.batteries),
        "containers": containers(rows),
        "version": asset.versions.first(),
        "packing": packing_of(asset, rows),
    }


@dataclass(frozen=True, slots=True)
class PackLine:
    """One line of a packing list."""

    item: KitItem
    is_packed: bool
    #: What the departure gate says of a battery; None for other things.
    gate: Any


@dataclass(frozen=True, slots=True)
class PackPage:
    """A packing list with its ticks."""

    packing: Packing | None
    boxes: list[tuple[Container, list[PackLine]]]
    #: Stops of the kit and of kits in it that nobody accepted, and accepted ones.
    stops: list[Stop]
    accepted: list[Shown]

    @property
    def lines(self) -> list[PackLine]:
        """All lines."""
        return [line for _, lines in self.boxes for line in lines]

    @property
    def packed(self) -> int:
        """How many are ticked."""
        return sum(line.is_packed for line in self.lines)

    @property
    def missing(self) -> list[PackLine]:
        """What must be in and is not."""
        return [line for line in self.lines if line.item.is_must and not line.is_packed]

    @property
    def not_full(self) -> list[PackLine]:
        """Batteries that may not go as full."""
        return [line for line in self.lines if line.gate and not line.gate.is_full]

    @property
    def checks(self) -> list[str]:
        """What was not looked at before the lid closes."""
        packing = self.packing or Packing()
        return [
            words
            for done, words in (
                (packing.switches_off, "switches off"),
                (packing.load_off, "nothing draws"),
                (packing.terminals_covered, "terminals covered"),
            )
            if not done
        ]

    @property
    def lid_words(self) -> str:
        """What closing the lid is called, and what stands in the way."""
        if self.may_leave:
            return "Close the lid"
        why = "not inspected"
        if self.stops:
            why = f"{len(self.stops)} stop{'s' if len(self.stops) > 1 else ''} open"
        elif self.missing:
            why = f"{len(self.missing)} missing"
        elif self.not_full:
            why = "a battery is not proved full"
        return f"Close the lid anyway: {why}"

    @property
    def may_leave(self) -> bool:
        """Whether nothing is missing at all."""
        return not (self.missing or self.not_full or self.checks or self.stops)


def packing_of(asset: Asset, rows: KitRows) -> PackPage:
    """The open packing of a kit, or none, with each line's tick."""
    packing = asset.packings.filter(closed_at=None).first()
    ticked = set(packing.ticks.values_list("item_id", flat=True)) if packing else set()
    batteries = [one for one in rows.assets.values() if one.kind == Asset.BATTERY]
    gates = gates_of(batteries)
    boxes = [
        (
            box,
            [
                PackLine(
                    item,
                    item.pk in ticked,
                    gates.get(item.asset_id) if item.asset_id else None,
                )
                for item, _ in box.items
            ],
        )
        for box in containers(rows)
    ]
    inner = [one for one in rows.assets.values() if one.kind == AssetKind.KIT]
    day = today()
    shown = shown_findings(asset, kit_of(rows, day), day)
    return PackPage(
        packing,
        boxes,
        stops=stops_of(asset, shown) + standing_stops(inner, day),
        accepted=[one for one in shown if one.is_stop and one.is_accepted],
    )


def battery_findings(asset: Asset, battery: Any) -> list[Shown]:
    """Findings of a battery by itself."""
    return shown_findings(asset, battery_alone(battery), today())
