"""Batteries of the shelf with what is believed of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from uuid import UUID

from hollow_kettle.log.models import BatteryNow
from hollow_kettle.log.states import state_of
from hollow_kettle.shelf.bench.queries import accepted_ah_by_battery
from hollow_kettle.shelf.bridge import pack_of
from hollow_kettle.shelf.models import Asset
from powercore.physics.battery import Pack


@dataclass(frozen=True, slots=True)
class ShelfBattery:
    """A battery as a page shows it."""

    asset: Asset
    pack: Pack
    now: BatteryNow | None
    state: str

    @property
    def look(self) -> str:
        """How its kettle is drawn."""
        return "is-charging" if self.state == "charging" else ""

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


def _shelf_battery(
    asset: Asset, tested_ah: float | None, now: BatteryNow | None
) -> ShelfBattery:
    pack = pack_of(asset.battery, tested_ah)
    state = state_of(now, reserve=pack.reserve_soc, hold=asset.hold)
    return ShelfBattery(asset=asset, pack=pack, now=now, state=state)
