"""Which charger fits which battery, which lead joins what, and charge-by."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from hollow_kettle.log.models import BatteryNow, PlaceKind, Placement
from hollow_kettle.people.models import Club
from hollow_kettle.shelf import bridge
from hollow_kettle.shelf.bench.queries import capacities_by_battery
from hollow_kettle.shelf.models import Asset, Port
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.gear import things as gear
from powercore.gear.chargeby import Timetable, Watch, charge_by
from powercore.gear.fits import Fit, fit_of
from powercore.gear.leads import Join, find_join
from powercore.physics.charging import Recharge, recharge


def batteries(assets: Sequence[Asset] | None = None) -> dict[str, gear.Battery]:
    """Batteries of the shelf as the core sees them, by tag."""
    today = Club.the().clock.now().date()
    found = list(Asset.objects.batteries()) if assets is None else list(assets)
    tested = capacities_by_battery([asset.pk for asset in found])
    return {
        asset.tag: bridge.battery_of(asset, tested.get(asset.pk), today)
        for asset in found
    }


def chargers(*, only_at_home: bool = False) -> list[tuple[Asset, gear.Charger]]:
    """Chargers and supplies of the shelf that are not on hold, or only those free."""
    away = Placement.objects.filter(ended_at=None).exclude(place__kind=PlaceKind.HOME)
    found = (
        Asset.objects.here()
        .filter(kind=AssetKind.CHARGER, hold="")
        .select_related("charger")
    )
    if only_at_home:
        found = found.exclude(pk__in=away.values("battery"))
    return [(asset, bridge.charger_of(asset)) for asset in found]


@dataclass(frozen=True, slots=True)
class Cell:
    """A charger against batteries of one kind: one verdict, from how long to how."""

    charger: Asset
    fit: Fit
    least_h: float | None
    most_h: float | None

    @property
    def is_range(self) -> bool:
        """Whether the batteries take differently long, to the minute."""
        if self.least_h is None or self.most_h is None:
            return False
        return int(60 * self.most_h) > int(60 * self.least_h)


@dataclass(frozen=True, slots=True)
class MatrixRow:
    """Batteries of a like kind against each charger, which judges all of them alike."""

    assets: list[Asset]
    battery: gear.Battery
    cells: list[Cell]


@dataclass(frozen=True, slots=True)
class Matrix:
    """Chargers across, batteries down."""

    chargers: list[Asset]
    rows: list[MatrixRow]


def matrix() -> Matrix:
    """Every charger against every kind of battery; four queries."""
    assets = list(Asset.objects.batteries())
    known = batteries(assets)
    columns = chargers()
    kinds: defaultdict[tuple[object, ...], list[tuple[Asset, list[Fit]]]]
    kinds = defaultdict(list)
    for asset in assets:
        battery = known[asset.tag]
        fits = [fit_of(charger, battery) for _, charger in columns]
        pack = battery.pack
        same = (pack.chemistry, pack.series, pack.nameplate_ah)
        verdicts = tuple((fit.verdict, fit.why, fit.mind) for fit in fits)
        kinds[*same, verdicts].append((asset, fits))
    return Matrix(
        chargers=[asset for asset, _ in columns],
        rows=[
            MatrixRow(
                [asset for asset, _ in alike],
                known[alike[0][0].tag],
                [
                    _cell(charger, [fits[number] for _, fits in alike])
                    for number, (charger, _) in enumerate(columns)
                ],
            )
            for alike in kinds.values()
        ],
    )


def _cell(charger: Asset, fits: Sequence[Fit]) -> Cell:
    hours = [fit.hours for fit in fits if fit.hours is not None]
    return Cell(charger, fits[0], min(hours, default=None), max(hours, default=None))


def fits_for(asset: Asset) -> list[tuple[Asset, Fit]]:
    """Every charger against one battery, those that fit first."""
    battery = batteries([asset])[asset.tag]
    found = [(one, fit_of(charger, battery)) for one, charger in chargers()]
    order = {"fits": 0, "with this setting": 1, "never": 2}
    return sorted(found, key=lambda pair: order[pair[1].verdict])


def recharge_of(asset: Asset, asked: Mapping[str, float | None]) -> Recharge:
    """How long a charger's amps or panels' watts take, by `RechargeForm`."""
    battery = batteries([asset])[asset.tag]
    pack = battery.pack
    load_a = (asked["load_w"] or 0.0) / pack.on_charge_v
    amps = asked["amps"]
    if amps is None:
        amps = (asked["watts"] or 0.0) / pack.on_charge_v
    from_pct = asked["from_pct"]
    return recharge(
        pack,
        amps,
        limit_a=battery.charge_limit_a,
        load_a=load_a,
        from_soc=pack.reserve_soc if from_pct is None else from_pct / 100,
    )


def join_ports(source: Port, load: Port) -> Join:
    """How to get from a port to a port with the leads that the club owns."""
    leads = (
        Asset.objects.here().filter(kind=AssetKind.LEAD, hold="").select_related("lead")
    )
    return find_join(
        bridge.port_of(source),
        bridge.port_of(load),
        [bridge.lead_of(asset) for asset in leads],
    )


@dataclass(frozen=True, slots=True)
class ChargeLine:
    """One battery that must start charging at a moment."""

    battery: str
    charger: str
    start: datetime
    end: datetime
    setting: str


@dataclass(frozen=True, slots=True)
class ChargePlan:
    """The timetable before a departure."""

    departs: datetime
    lines: list[ChargeLine]
    cant: tuple[tuple[str, str], ...]
    full: list[str]


def charge_plan(
    assets: Sequence[Asset],
    *,
    departs: datetime,
    watches: Sequence[tuple[datetime, datetime]],
) -> ChargePlan:
    """
    Count back from a departure which battery must start charging when.

    Parameters
    ----------
    assets : sequence of Asset
        Batteries to be full.
    departs : datetime
    watches : sequence of (datetime, datetime)
        When somebody watches.
    """
    now = Club.the().clock.now()
    known = batteries(assets)
    tags = {asset.pk: asset.tag for asset in assets}
    rows = BatteryNow.objects.filter(battery__in=tags)
    soc = {tags[row.battery]: row.soc_low for row in rows}

    def before(moment: datetime) -> float:
        return (departs - moment).total_seconds() / 3600

    table: Timetable = charge_by(
        list(known.values()),
        [charger for _, charger in chargers(only_at_home=True)],
        soc=soc,
        hours_left=max(0.0, before(now)),
        watches=[
            Watch(from_h=before(max(start, now)), to_h=max(0.0, before(end)))
            for start, end in watches
            if end > now and start < departs
        ],
    )
    lines = [
        ChargeLine(
            battery=slot.battery,
            charger=slot.charger,
            start=departs - timedelta(hours=slot.start_h),
            end=departs - timedelta(hours=slot.end_h),
            setting=slot.setting,
        )
        for slot in table.slots
    ]
    named = {line.battery for line in lines} | {tag for tag, _ in table.cant}
    return ChargePlan(
        departs=departs,
        lines=lines,
        cant=table.cant,
        full=[tag for tag in known if tag not in named],
    )
