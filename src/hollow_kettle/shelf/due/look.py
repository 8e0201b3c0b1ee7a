"""Batteries whose figures are worth a second look."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

from hollow_kettle.shelf.bench.queries import accepted_ah_by_battery
from hollow_kettle.shelf.models import Asset
from powercore.physics.battery import Pack, typical_ohm
from powercore.physics.chemistry import chemistry_of


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
