"""
Who has what: entries of the one log about gear of the shelf.

Nothing here is ever changed or deleted; a mistake is struck by another entry.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.log import services as log
from hollow_kettle.log.models import FieldEntry, Kind, Place, PlaceKind, Placement
from hollow_kettle.people.club import club_now, today
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.assets.services import set_hold
from hollow_kettle.shelf.charge import belief as charge
from hollow_kettle.shelf.kits.findings import standing_stops
from hollow_kettle.shelf.kits.services import accept_stops
from hollow_kettle.shelf.models import Asset, KitItem
from hollow_kettle.shelf.models.asset import AssetKind

#: Kinds of place that gear is checked out to, by what people say.
TO_KINDS = {
    "person": PlaceKind.PERSON,
    "vehicle": PlaceKind.VEHICLE,
    "home": PlaceKind.HOME,
}


def place_named(kind: str, name: str) -> Place:
    """The club's place of a kind and name; made when it is new."""
    place, _ = Place.objects.get_or_create(
        kind=kind, name=name.strip()[:80], event_key=None
    )
    return place


def _note(
    asset: Asset, kind: str, *, by: Actor, at: datetime | None, **fields: Any
) -> UUID:
    uid = uuid4()
    log.append(
        event_key=None,
        actor=by,
        kind=kind,
        effective_at=at or club_now(),
        sent=log.Sent(device="shelf", uid=uid),
        asset=asset.pk,
        battery=asset.pk if asset.kind == Asset.BATTERY else None,
        **fields,
    )
    return uid


def with_contents(assets: Iterable[Asset]) -> list[Asset]:
    """These assets, and what is in those that are kits; each once."""
    found: dict[UUID, Asset] = {}
    waiting = list(assets)
    while waiting:
        asset = waiting.pop(0)
        if asset.pk in found:
            continue
        found[asset.pk] = asset
        if asset.kind == AssetKind.KIT:
            items = KitItem.objects.filter(kit=asset, asset__isnull=False)
            waiting += [i.asset for i in items.select_related("asset") if i.asset]
    return list(found.values())


def _places(assets: Sequence[Asset]) -> dict[UUID, Place | None]:
    """Where things are that are not at home; None is on the way."""
    out = Placement.objects.filter(
        battery__in=[asset.pk for asset in assets], ended_at=None
    ).exclude(place__kind=PlaceKind.HOME)
    return {row.battery: row.place for row in out.select_related("place")}


def _free(named: Sequence[Asset], going: Sequence[Asset]) -> list[Asset]:
    """What was named, and of its contents what is not out elsewhere."""
    own = {asset.pk for asset in named}
    away = _places(going)
    return [one for one in going if one.pk in own or one.pk not in away]


@transaction.atomic
def check_out(
    assets: Sequence[Asset],
    *,
    to: Place,
    by: Actor,
    at: datetime | None = None,
    reasons: Mapping[str, str] | None = None,
    **said: Any,
) -> list[Asset]:
    """
    Hand gear out to a station, person or vehicle; kits go with their contents.

    What belongs into a kit and is out elsewhere stays where it is. `reasons` say why
    each stop of a kit is accepted, by the stop's name; `said` is when it is due back
    (`due_at`) and a `note`.

    Raises
    ------
    ValidationError
        If something among it is on hold, or is due back before it goes.
    StopsStand
        If a kit among it has a stop that nobody accepted.
    """
    going = _free(assets, with_contents(assets))
    held = [asset for asset in going if asset.hold]
    if held:
        names = "; ".join(f"{asset.tag}: {asset.hold}" for asset in held)
        raise ValidationError(f"On hold, so it stays here: {names}.", code="hold")
    moment = at or club_now()
    due_at = said.get("due_at")
    if due_at is not None and due_at <= moment:
        raise ValidationError({"due_at": "It is due back before it goes out."})
    if stops := standing_stops(going, today()):
        accept_stops(stops, reasons or {}, by=by)
    for asset in going:
        _note(
            asset,
            Kind.CHECK_OUT,
            by=by,
            at=moment,
            place=to,
            to_whom=to.name,
            **said,
        )
    _settle(going)
    return going


@dataclass(frozen=True, slots=True, kw_only=True)
class Condition:
    """How gear came back."""

    volts: float | None = None
    damage: str = ""
    is_wet: bool = False
    missing: str = ""
    note: str = ""


@transaction.atomic
def check_in(
    asset: Asset,
    *,
    by: Actor,
    at: datetime | None = None,
    with_kit: bool = True,
    **condition: Any,
) -> list[Asset]:
    """
    Take gear back; damage, water and what is missing put it on hold with a ticket.

    A kit brings back what of its contents is where it is, but for what was noted as
    missing. `condition` is what a `Condition` takes.
    """
    moment, back = at or club_now(), Condition(**condition)
    home = place_named(PlaceKind.HOME, asset.home or "the shelf")
    lost = {
        word.strip(" .").casefold()
        for word in back.missing.replace(";", ",").split(",")
    }
    coming = with_contents([asset]) if with_kit else [asset]
    places = _places(coming)
    here = places.get(asset.pk)
    coming = [
        one
        for one in coming
        if one is asset
        or (one.tag.casefold() not in lost and places.get(one.pk) == here)
    ]
    for one in coming:
        own = one is asset
        _note(
            one,
            Kind.CHECK_IN,
            by=by,
            at=moment,
            place=home,
            damage=back.damage if own else "",
            is_wet=back.is_wet if own else None,
            missing=back.missing if own else "",
            note=back.note if own else f"with {asset.tag}",
        )
    if back.volts is not None and asset.kind == Asset.BATTERY:
        note_reading(asset, by=by, at=moment, volts=back.volts, unplugged_min=30)
    wet = "came back wet" if back.is_wet else ""
    trouble = [words for words in (back.damage, wet) if words]
    if trouble:
        put_on_hold(asset, because="; ".join(trouble), by=by, at=moment)
    _settle(coming)
    return coming


def put_on_hold(
    asset: Asset,
    *,
    because: str,
    by: Actor,
    who: str = "",
    due_at: datetime | None = None,
    at: datetime | None = None,
) -> None:
    """Put gear on hold with a repair ticket: what is wrong, who sees to it, by when."""
    _note(
        asset,
        Kind.HOLD,
        by=by,
        at=at,
        note=because[:500],
        to_whom=who,
        due_at=due_at,
    )
    set_hold(asset, because=because[:200])


@transaction.atomic
def release(asset: Asset, *, how: str, by: Actor) -> None:
    """
    Release gear from hold, saying what was done.

    Raises
    ------
    ValidationError
        If it is not on hold.
    """
    if not asset.hold:
        raise ValidationError(f"{asset.tag} is not on hold.")
    holds = FieldEntry.objects.filter(asset=asset.pk, kind=Kind.HOLD)
    last = holds.order_by("-effective_at").first()
    _note(
        asset,
        Kind.RELEASE,
        by=by,
        at=None,
        note=how,
        answers=last.uid if last else None,
    )
    set_hold(asset, because="")


@transaction.atomic
def note_charged(
    asset: Asset,
    *,
    by: Actor,
    volts: float,
    amps: float,
    amp_hours: float | None = None,
    at: datetime | None = None,
) -> None:
    """Note how a battery's charge ended: volts reached, current at the end."""
    _note(
        asset,
        Kind.CHARGED,
        by=by,
        at=at,
        volts=volts,
        amps=amps,
        amp_hours=amp_hours,
    )
    charge.refresh([asset.pk])


@transaction.atomic
def note_reading(
    asset: Asset,
    *,
    by: Actor,
    volts: float,
    unplugged_min: float,
    amp_hours: float | None = None,
    at: datetime | None = None,
) -> None:
    """Note a battery's rested volts, read at the shelf."""
    _note(
        asset,
        Kind.READING,
        by=by,
        at=at,
        volts=volts,
        amp_hours=amp_hours,
        how="unplugged",
        unplugged_min=unplugged_min,
    )
    charge.refresh([asset.pk])


def note_checked(
    asset: Asset, *, by: Actor, switches_off: bool, load_off: bool
) -> None:
    """Note that somebody looked: switches off, nothing draws."""
    _note(
        asset,
        Kind.CHECKED,
        by=by,
        at=None,
        switches_off=switches_off,
        load_off=load_off,
    )


@transaction.atomic
def strike(asset: Asset, uid: UUID, *, why: str, by: Actor) -> None:
    """
    Strike an entry about an asset: it stays visible and counts no more.

    Raises
    ------
    ValidationError
        If there is no such entry, or it is a strike itself.
    """
    entry = FieldEntry.objects.filter(asset=asset.pk, uid=uid).first()
    if entry is None or entry.kind == Kind.STRIKE:
        raise ValidationError("There is no such entry to strike.")
    _note(asset, Kind.STRIKE, by=by, at=None, strikes=uid, note=why)
    _settle([asset])


def _settle(assets: Sequence[Asset]) -> None:
    log.rebuild_placements()
    charge.refresh([a.pk for a in assets if a.kind == Asset.BATTERY])
