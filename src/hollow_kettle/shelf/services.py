"""Changes to the shelf: check, write in one transaction."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction

from hollow_kettle.clock import real_now
from hollow_kettle.people.models import Actor, Club
from powercore.chemistry import chemistry_of
from powercore.errors import PowercoreError

from .bridge import pack_of
from .models import Asset, Battery, Estimate

ASSET_FIELDS = ("tag", "owner", "home", "hold", "note")
BATTERY_FIELDS = (
    "chemistry",
    "series",
    "parallel",
    "nameplate_ah",
    "reserve_pct",
    "resistance_mohm",
    "mass_kg",
    "max_charge_a",
    "max_discharge_a",
)

#: How far a stated nominal voltage may lie from cells × the chemistry's. [share]
NOMINAL_TOLERANCE = 0.06


def series_from_nominal(chemistry: str, nominal_v: float) -> int:
    """
    Return the number of cells whose nominal voltage is the one stated.

    Raises
    ------
    ValidationError
        If no whole number of cells comes near it.
    """
    cell_v = chemistry_of(chemistry).cell_nominal_v
    series = max(1, round(nominal_v / cell_v))
    check_nominal(chemistry, series, nominal_v)
    return series


def check_nominal(chemistry: str, series: int, nominal_v: float) -> None:
    """
    Check a stated nominal voltage against cells in series.

    Raises
    ------
    ValidationError
        If they don't belong together.
    """
    chem = chemistry_of(chemistry)
    expected_v = series * chem.cell_nominal_v
    if abs(nominal_v - expected_v) > NOMINAL_TOLERANCE * expected_v:
        raise ValidationError(
            f"{series} {chem.name} cells in series make {expected_v:.1f} V nominal, "
            f"not {nominal_v:g} V.",
            code="nominal_voltage",
        )


def look_alike(tag: str) -> Asset | None:
    """Return an asset whose tag is read or heard as this one: 4 and 04, k7 and K7."""
    wanted = plain_tag(tag)
    for asset in Asset.objects.all():
        if plain_tag(asset.tag) == wanted:
            return asset
    return None


def plain_tag(tag: str) -> str:
    """A tag without case and without leading zeros in its numbers."""
    return re.sub(r"\d+", lambda digits: str(int(digits.group())), tag.casefold())


def save_battery(asset: Asset | None, *, by: Actor, **values: Any) -> Asset:
    """
    Add a battery, or change one.

    `tested_ah`, when given and new, becomes an accepted capacity estimate.

    Raises
    ------
    ValidationError
        If the tag is taken or looks like another, or the arithmetic can't be done.
    """
    tested_ah = values.pop("tested_ah", None)
    origin = values.pop("origin", "entered by hand")
    try:
        with transaction.atomic():
            asset = _write(asset, values)
            if tested_ah is not None:
                record_capacity(asset, tested_ah=tested_ah, origin=origin, by=by)
    except IntegrityError as error:
        raise ValidationError(
            f"Tag {values.get('tag')} is taken.", code="tag_taken"
        ) from error
    return asset


def _write(asset: Asset | None, values: dict[str, Any]) -> Asset:
    is_new = asset is None
    if asset is None:
        asset = Asset(kind=Asset.BATTERY)
        twin = look_alike(values["tag"])
        if twin is not None:
            raise ValidationError(
                f"Tag {values['tag']} would be mistaken for {twin.tag}, which is there "
                "already.",
                code="tag_look_alike",
            )
    battery = Battery(asset=asset) if is_new else asset.battery
    for name in ASSET_FIELDS:
        if name in values:
            setattr(asset, name, values[name] or "")
    for name in BATTERY_FIELDS:
        if name in values and not (name == "parallel" and values[name] is None):
            setattr(battery, name, values[name])
    try:
        pack_of(battery, None)
    except PowercoreError as error:
        raise ValidationError(str(error), code="impossible") from error
    asset.save()
    battery.save()
    return asset


@transaction.atomic
def record_capacity(
    asset: Asset,
    *,
    tested_ah: float,
    origin: str,
    by: Actor,
    evidence: str = "",
    sd: float = 0.0,
    at: datetime | None = None,
) -> Estimate:
    """Record an accepted capacity test (now, or `at`); it supersedes the last."""
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
        sd=sd,
        origin=origin,
        evidence=evidence,
        accepted_by=by,
        made_at=at or Club.the().clock.now(),
    )
    Estimate.objects.filter(pk__in=earlier).update(superseded_by=estimate)
    return estimate


def set_hold(asset: Asset, *, because: str) -> None:
    """Put a battery on hold, or release it with an empty reason."""
    asset.hold = because
    asset.save(update_fields=["hold"])


def archive(asset: Asset) -> None:
    """Take a battery off the shelf; what was logged of it stays."""
    asset.archived_at = real_now()
    asset.save(update_fields=["archived_at"])


def unarchive(asset: Asset) -> None:
    """Bring an archived battery back."""
    asset.archived_at = None
    asset.save(update_fields=["archived_at"])


def assets_by_tag() -> dict[str, Asset]:
    """Every asset by its tag in lower case."""
    assets = Asset.objects.select_related("battery")
    return {asset.tag.casefold(): asset for asset in assets}
