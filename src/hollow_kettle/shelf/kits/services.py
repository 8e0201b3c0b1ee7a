"""Changes to kits: their path, contents, records, findings and packing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, timedelta
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Max

from hollow_kettle.people.club import club_now, today
from hollow_kettle.people.models import Actor
from hollow_kettle.shelf.assets.services import value_or_default
from hollow_kettle.shelf.models import (
    Acceptance,
    Asset,
    BuildNote,
    ChargeWay,
    KitItem,
    KitTrial,
    KitVersion,
    NoiseRecord,
    Packing,
    PackTick,
    PathPart,
    Spare,
)
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.errors import PowercoreError
from powercore.gear.checks import findings_of

from .bridge import kit_of, rows_of_kit
from .findings import Stop, StopsStand, standing_stops

#: What was accepted so that a kit may leave holds for so long.
ACCEPTED_FOR = timedelta(days=14)


@transaction.atomic
def save_part(kit: Asset, part: PathPart | None, **values: Any) -> PathPart:
    """
    Add a part to a kit's path, or change one.

    A new part that comes after another takes over nothing: it begins a branch. With
    `is_between`, what hung on that other hangs on the new part.

    Raises
    ------
    ValidationError
        If the part makes no sense, or would hang on itself.
    """
    is_between = values.pop("is_between", False)
    after = values.get("after")
    if part is None:
        last = kit.path.aggregate(last=Max("ordinal"))["last"] or 0
        part = PathPart(kit=kit, ordinal=last + 1)
    elif after is not None and _hangs_on(after, part):
        raise ValidationError({"after": f"{part} can't be fed by what it feeds."})
    for name, value in values.items():
        setattr(part, name, value_or_default(part, name, value))
    if part.what == PathPart.What.BATTERY:
        part.after = None
    part.save()
    if is_between:
        followers = kit.path.filter(after=after).exclude(pk=part.pk)
        followers.exclude(what=PathPart.What.BATTERY).update(after=part)
    _check(kit)
    return part


def _hangs_on(part: PathPart, other: PathPart) -> bool:
    at: PathPart | None = part
    while at is not None:
        if at.pk == other.pk:
            return True
        at = at.after
    return False


def _check(kit: Asset) -> None:
    """Refuse what the core can't make sense of; the transaction takes it back."""
    try:
        kit_of(rows_of_kit(kit), today())
    except PowercoreError as error:
        raise ValidationError(str(error), code="impossible") from error


@transaction.atomic
def delete_part(part: PathPart) -> None:
    """Take a part out of a path; what hung on it hangs on what was before it."""
    part.next.update(after=part.after)
    ChargeWay.objects.filter(enters_at=part).update(enters_at=part.after)
    part.delete()


@transaction.atomic
def start_path(
    kit: Asset,
    *,
    battery: Asset,
    load: Asset,
    fuse_a: float,
    connector: str,
    **wire: Any,
) -> None:
    """
    Lay the usual path: battery, fuse, wire, connector, load.

    `wire` is its gauge, length, insulation and bundle, as `save_part` takes them.
    """
    save_part(kit, None, what="battery", asset=battery)
    fuse = save_part(kit, None, what="fuse", amps=fuse_a, name="main fuse")
    cable = save_part(kit, None, what="cable", after=fuse, **wire)
    joint = save_part(
        kit,
        None,
        what="joint",
        after=cable,
        connector=connector,
        mate_connector=connector,
    )
    save_part(kit, None, what="load", after=joint, asset=load)
    for asset in (battery, load):
        if not kit.items.filter(asset=asset).exists():
            save_item(kit, None, asset=asset)


@transaction.atomic
def save_way(kit: Asset, **values: Any) -> ChargeWay:
    """
    Add a way of charging to a kit.

    Raises
    ------
    ValidationError
        If it makes no sense.
    """
    way = ChargeWay.objects.create(kit=kit, **values)
    _check(kit)
    return way


def save_item(kit: Asset, item: KitItem | None, **values: Any) -> KitItem:
    """
    Put something into a kit, or change it there.

    Raises
    ------
    ValidationError
        If a kit would be in itself, or the same thing twice in one kit.
    """
    asset = values.get("asset")
    if asset is not None:
        if asset.pk == kit.pk or (
            asset.kind == AssetKind.KIT and _contains(asset, kit, set())
        ):
            raise ValidationError({"asset": f"{asset.tag} can't be in itself."})
        twice = kit.items.filter(asset=asset)
        if item is not None:
            twice = twice.exclude(pk=item.pk)
        if twice.exists():
            raise ValidationError({"asset": f"{asset.tag} is in {kit.tag} already."})
    if item is None:
        last = kit.items.aggregate(last=Max("ordinal"))["last"] or 0
        item = KitItem(kit=kit, ordinal=last + 1)
    for name, value in values.items():
        setattr(item, name, value)
    item.save()
    return item


def _contains(outer: Asset, inner: Asset, seen: set[Any]) -> bool:
    if outer.pk in seen:
        return False
    seen.add(outer.pk)
    kits = [
        item.asset
        for item in outer.items.select_related("asset")
        if item.asset is not None and item.asset.kind == AssetKind.KIT
    ]
    return any(kit.pk == inner.pk or _contains(kit, inner, seen) for kit in kits)


@transaction.atomic
def cut_version(kit: Asset, *, why: str, by: Actor) -> KitVersion:
    """Keep contents and path as they are now, under the next number."""
    last = kit.versions.aggregate(last=Max("number"))["last"] or 0
    rows = rows_of_kit(kit)
    lines = [
        {
            "what": f"{item.count} × {item}" if item.count > 1 else str(item),
            "where": " · ".join(filter(None, (item.container, item.place))),
            "must": item.is_must,
        }
        for item, depth in rows.items
        if depth == 0
    ]
    value = kit_of(rows, today())
    lines += [{"what": f"{part.called} ({part.words})"} for part in value.parts]
    return KitVersion.objects.create(
        kit=kit,
        number=last + 1,
        made_at=club_now(),
        made_by=by,
        why=why,
        contents=lines,
    )


def accept_finding(
    asset: Asset, *, key: str, reason: str, until: date, by: Actor, words: str = ""
) -> Acceptance:
    """
    Accept a finding with a reason until a date; it stays visible.

    Raises
    ------
    ValidationError
        If the date is past, or more than two years away.
    """
    days = (until - today()).days
    if not 0 <= days <= 731:
        raise ValidationError(
            {"until": "Choose a date from today on, within two years."}
        )
    acceptance, _ = Acceptance.objects.update_or_create(
        asset=asset,
        key=key,
        defaults={
            "reason": reason,
            "words": (words or _words_of(asset, key))[:600],
            "until": until,
            "made_by": by,
            "made_at": club_now(),
        },
    )
    return acceptance


def _words_of(asset: Asset, key: str) -> str:
    """What a finding of a kit says now; empty for a battery's own."""
    if asset.kind != AssetKind.KIT:
        return ""
    found = findings_of(kit_of(rows_of_kit(asset), today()))
    return next((one.words for one in found if one.key == key), "")


@transaction.atomic
def accept_stops(
    stops: Sequence[Stop],
    reasons: Mapping[str, str],
    *,
    by: Actor,
    until: date | None = None,
) -> None:
    """
    Accept stops by name so that kits may leave; until a day, two weeks by default.

    Raises
    ------
    StopsStand
        If one of them has no reason; then none is accepted.
    """
    if any(not reasons.get(stop.name, "").strip() for stop in stops):
        raise StopsStand(stops)
    for stop in stops:
        accept_finding(
            stop.kit,
            key=stop.finding.key,
            reason=reasons[stop.name].strip()[:300],
            words=stop.finding.words,
            until=until or today() + ACCEPTED_FOR,
            by=by,
        )


def add_note(kit: Asset, **values: Any) -> BuildNote:
    """Add a line to a kit's build record."""
    return BuildNote.objects.create(kit=kit, made_on=today(), **values)


@transaction.atomic
def add_trial(kit: Asset, *, result: str, **values: Any) -> KitTrial:
    """Note a trial; what failed is an open item of the kit's record, too."""
    made = KitTrial.objects.create(kit=kit, has_passed=result == "pass", **values)
    if not made.has_passed:
        add_note(kit, what="shakedown", words=f"{made}: {made.words}"[:300])
    return made


def add_noise(kit: Asset, **values: Any) -> NoiseRecord:
    """Note radio noise of this installation."""
    return NoiseRecord.objects.create(kit=kit, noted_on=today(), **values)


def save_spare(kit: Asset, spare: Spare | None = None, **values: Any) -> Spare:
    """Add a spare part to a kit, or change its count and wear."""
    spare = spare or Spare(kit=kit)
    for name, value in values.items():
        setattr(spare, name, value)
    spare.save()
    return spare


def open_packing(kit: Asset, *, by: Actor) -> Packing:
    """The packing that is under way, or a new one."""
    packing = kit.packings.filter(closed_at=None).first()
    if packing is None:
        packing = Packing.objects.create(kit=kit, began_at=club_now(), began_by=by)
    return packing


def tick(packing: Packing, item: KitItem, *, is_packed: bool, by: Actor) -> None:
    """Tick an item as packed, or take the tick away; twice changes nothing."""
    if is_packed:
        PackTick.objects.get_or_create(
            packing=packing, item=item, defaults={"by": by, "at": club_now()}
        )
    else:
        PackTick.objects.filter(packing=packing, item=item).delete()


def check_packing(packing: Packing, **checks: bool) -> None:
    """Note that switches are off, nothing draws, terminals are covered."""
    for name, value in checks.items():
        setattr(packing, name, value)
    packing.save(update_fields=list(checks))


def close_packing(packing: Packing) -> None:
    """
    End a packing: the lid is closed; the next one begins with nothing ticked.

    Raises
    ------
    StopsStand
        If the kit, or one in it, has stops that nobody accepted.
    """
    rows = rows_of_kit(packing.kit)
    inner = [one for one in rows.assets.values() if one.kind == AssetKind.KIT]
    if stops := standing_stops([packing.kit, *inner], today()):
        raise StopsStand(stops)
    packing.closed_at = club_now()
    packing.save(update_fields=["closed_at"])
