"""Put assets on the shelf, change them, take them off."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from copy import copy
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import IntegrityError, models, transaction

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor, Club
from hollow_kettle.shelf.bridge import gear_of, port_of
from hollow_kettle.shelf.fields import ASSET_NAMES, Kind
from hollow_kettle.shelf.kinds import kind_of
from hollow_kettle.shelf.models import Asset, Estimate, Port
from hollow_kettle.shelf.models.asset import AssetKind
from hollow_kettle.shelf.models.details import Detail
from powercore.errors import PowercoreError

from .danger import danger_in
from .loads import follow_shelf
from .tags import plain_tag


def plain_tags() -> dict[str, str]:
    """Every tag by its plain form."""
    tags = Asset.objects.order_by().values_list("tag", flat=True)
    return {plain_tag(tag): tag for tag in tags}


def look_alike(tag: str) -> Asset | None:
    """Return an asset whose tag is read or heard as this one: 4 and 04, k7 and K7."""
    return Asset.objects.filter(plain=plain_tag(tag)).first()


def save_asset(
    kind: Kind,
    asset: Asset | None,
    *,
    by: Actor,
    **values: Any,
) -> Asset:
    """
    Put something on the shelf, or change it; only what is named is changed.

    Parameters
    ----------
    **values
        Fields of the kind. A new `tested_ah` of a battery becomes an accepted
        capacity estimate.

    Raises
    ------
    ValidationError
        If the tag is taken or looks like another, or the numbers make no sense.
    """
    tested_ah = values.pop("tested_ah", None)
    tested_how = values.pop("tested_how", "entered by hand")
    if asset is None:
        asset = _new(kind, values["tag"], plain_tags())
    try:
        with transaction.atomic():
            _write(kind, asset, kind.complete(values))
            if tested_ah is not None:
                record_capacity(asset, tested_ah=tested_ah, origin=tested_how, by=by)
            if kind.key == AssetKind.DEVICE:
                follow_shelf(asset)
    except IntegrityError as error:
        raise ValidationError(
            f"Tag {values.get('tag')} is taken, or would be mistaken for another.",
            code="tag_taken",
        ) from error
    return asset


def add_many(
    kind: Kind, many: Iterable[Mapping[str, Any]], *, by: Actor, tested_how: str
) -> int:
    """
    Put many things of a kind on the shelf at once; return how many.

    The same checks as `save_asset`, in a handful of statements.

    Raises
    ------
    ValidationError
        If a tag is taken or looks like another, or numbers make no sense.
    """
    known = plain_tags()
    assets, rows, estimates = [], [], []
    now = Club.the().clock.now()
    for values in many:
        asset = _new(kind, values["tag"], known)
        known[plain_tag(asset.tag)] = asset.tag
        detail = kind.model(asset=asset)
        _fill(kind, asset, detail, kind.complete(dict(values)))
        assets.append(asset)
        rows.append(detail)
        if values.get("tested_ah") is not None:
            estimates.append(
                Estimate(
                    subject=asset.pk,
                    quantity=Estimate.CAPACITY,
                    mean=values["tested_ah"],
                    origin=tested_how,
                    accepted_by=by,
                    made_at=now,
                )
            )
    try:
        with transaction.atomic():
            Asset.objects.bulk_create(assets)
            kind.model._default_manager.bulk_create(rows)
            Estimate.objects.bulk_create(estimates)
    except IntegrityError as error:
        raise ValidationError(
            "One of the tags is taken, or would be mistaken for another.",
            code="tag_taken",
        ) from error
    return len(assets)


def save_battery(asset: Asset | None, *, by: Actor, **values: Any) -> Asset:
    """Put a battery on the shelf, or change it."""
    return save_asset(kind_of(AssetKind.BATTERY), asset, by=by, **values)


def _new(kind: Kind, tag: str, known: Mapping[str, str]) -> Asset:
    twin = known.get(plain_tag(tag))
    if twin is not None:
        raise ValidationError(
            f"Tag {tag} would be mistaken for {twin}, which is there already.",
            code="tag_look_alike",
        )
    return Asset(kind=kind.key, tag=tag, plain=plain_tag(tag))


def check(kind: Kind, asset: Asset | None, values: Mapping[str, Any]) -> None:
    """
    Check what would be saved, and save nothing.

    Raises
    ------
    ValidationError
        If the numbers make no sense together.
    """
    trial = copy(asset) if asset is not None else Asset(kind=kind.key)
    detail = copy(getattr(asset, kind.attribute)) if asset else kind.model(asset=trial)
    _fill(kind, trial, detail, values)


def _write(kind: Kind, asset: Asset, values: Mapping[str, Any]) -> None:
    is_new = asset._state.adding
    detail = kind.model(asset=asset) if is_new else getattr(asset, kind.attribute)
    _fill(kind, asset, detail, values)
    asset.save()
    detail.save()


def _fill(kind: Kind, asset: Asset, detail: Detail, values: Mapping[str, Any]) -> None:
    before = asset.note
    for owner, names in ((asset, ASSET_NAMES), (detail, kind.own_names)):
        for name in names:
            if name in values:
                setattr(owner, name, value_or_default(owner, name, values[name]))
    if kind.key == AssetKind.BATTERY and asset.note != before and not asset.hold:
        word = danger_in(asset.note)
        asset.hold = f"its note says {word}" if word else ""
    setattr(asset, kind.attribute, detail)
    try:
        gear_of(asset)
    except PowercoreError as error:
        raise ValidationError(str(error), code="impossible") from error


def value_or_default(owner: models.Model, name: str, value: Any) -> Any:
    """An empty field takes the default of its column."""
    if value not in (None, ""):
        return value
    field = owner._meta.get_field(name)
    if not isinstance(field, models.Field):
        return value
    if field.has_default():
        return field.get_default()
    return "" if isinstance(field, models.CharField | models.TextField) else None


@transaction.atomic
def record_capacity(
    asset: Asset,
    *,
    tested_ah: float,
    origin: str,
    by: Actor,
    at: datetime | None = None,
    **known: Any,
) -> Estimate:
    """
    Record an accepted capacity test (now, or `at`); it supersedes the last.

    `known` is how far it may be off (`sd`, Ah) and what it rests on (`evidence`).
    """
    before = Estimate.objects.filter(
        subject=asset.pk,
        quantity=Estimate.CAPACITY,
        accepted_by__isnull=False,
        superseded_by=None,
    )
    latest = before.order_by("-made_at", "-pk").first()
    if latest is not None and latest.mean == tested_ah and latest.origin == origin:
        return latest
    earlier = list(before.values_list("pk", flat=True))
    estimate = Estimate.objects.create(
        subject=asset.pk,
        quantity=Estimate.CAPACITY,
        mean=tested_ah,
        sd=known.get("sd", 0.0),
        origin=origin,
        evidence=known.get("evidence", "")[:300],
        accepted_by=by,
        made_at=at or Club.the().clock.now(),
    )
    Estimate.objects.filter(pk__in=earlier).update(superseded_by=estimate)
    return estimate


def set_hold(asset: Asset, *, because: str) -> None:
    """Put an asset on hold, or release it with an empty reason."""
    asset.hold = because
    asset.save(update_fields=["hold"])


def archive(asset: Asset) -> None:
    """Take an asset off the shelf; what was logged of it stays."""
    asset.archived_at = real_now()
    asset.save(update_fields=["archived_at"])


def unarchive(asset: Asset) -> None:
    """Bring an archived asset back."""
    asset.archived_at = None
    asset.save(update_fields=["archived_at"])


def assets_by_tag(kind: str = AssetKind.BATTERY) -> dict[str, Asset]:
    """Every asset of a kind by its tag in lower case, with its details."""
    assets = Asset.objects.filter(kind=kind).select_related(kind_of(kind).attribute)
    return {asset.tag.casefold(): asset for asset in assets}


def add_port(asset: Asset, **values: Any) -> Port:
    """
    Add a port to an asset.

    Raises
    ------
    ValidationError
        If the connector and its gender don't go together, or the name is there.
    """
    port = Port(asset=asset, **{k: v for k, v in values.items() if v is not None})
    try:
        port_of(port)
    except PowercoreError as error:
        raise ValidationError(str(error), code="impossible") from error
    if asset.ports.filter(name=port.name).exists():
        raise ValidationError(f"{asset.tag} has a port {port.name} already.")
    port.save()
    return port
