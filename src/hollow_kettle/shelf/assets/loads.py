"""The equipment library as the club's own: kinds added, copied, changed, taken off."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import ProtectedError
from django.utils.text import slugify

from hollow_kettle.shelf import bridge
from hollow_kettle.shelf.models import Asset, EquipmentStep, EquipmentType
from powercore.errors import PowercoreError
from powercore.physics.loads import Draw
from powercore.values import STATED_V


@dataclass(frozen=True, slots=True, kw_only=True)
class Currents:
    """What a kind draws at one power step, at the volts where that was found. [A]"""

    standby_a: float = 0.0
    receive_a: float
    #: None: it doesn't transmit, and always draws alike.
    transmit_idle_a: float | None = None
    key_down_a: float | None = None

    def at(self, volts: float) -> Draw:
        """The same power at the volts of the library."""
        share = volts / STATED_V
        idle = self.receive_a if self.transmit_idle_a is None else self.transmit_idle_a
        top = max(idle, self.receive_a) if self.key_down_a is None else self.key_down_a
        return Draw(
            standby_a=round(share * self.standby_a, 4),
            receive_a=round(share * self.receive_a, 4),
            transmit_idle_a=round(share * idle, 4),
            key_down_a=round(share * top, 4),
        )


@transaction.atomic
def save_kind(
    kind: EquipmentType | None,
    *,
    full: Currents,
    low: Currents | None = None,
    at_v: float = STATED_V,
    low_words: str = "",
    **values: Any,
) -> EquipmentType:
    """
    Put a kind into the library, or change one: every event that uses it follows.

    Parameters
    ----------
    full, low : Currents
        At full and at low power; no `low`: it has only one.
    at_v : float
        Volts at which they were found; kept at those of the library. [V]
    **values
        name, origin, min_v, max_v, asset.

    Raises
    ------
    ValidationError
        If the currents make no sense together, or the volts.
    """
    if values["max_v"] <= values["min_v"]:
        raise ValidationError(
            {"max_v": f"It must work up to more than {values['min_v']:g} V."}
        )
    draws = {}
    for step, currents in ((EquipmentStep.FULL, full), (EquipmentStep.LOW, low)):
        if currents is None:
            continue
        try:
            draws[step] = currents.at(at_v)
        except PowercoreError as error:
            where = "key_down_a" if step == EquipmentStep.FULL else "low_key_down_a"
            raise ValidationError({where: str(error)}) from error
    if kind is None:
        kind = EquipmentType(key=_free_key(values["name"]))
    for name, value in values.items():
        setattr(kind, name, value)
    kind.save()
    words = {row.step: row.words for row in kind.steps.all()}
    words[EquipmentStep.LOW] = low_words or words.get(EquipmentStep.LOW, "")
    kind.steps.all().delete()
    for step, draw in draws.items():
        EquipmentStep.objects.create(
            equipment=kind,
            step=step,
            words=words.get(step, ""),
            standby_a=draw.standby_a,
            receive_a=draw.receive_a,
            transmit_idle_a=draw.transmit_idle_a,
            key_down_a=draw.key_down_a,
        )
    return kind


def _free_key(name: str) -> str:
    base = slugify(name)[:30] or "load"
    key, number = base, 1
    while EquipmentType.objects.filter(pk=key).exists():
        number += 1
        key = f"{base}-{number}"
    return key


def remove_kind(kind: EquipmentType) -> None:
    """
    Take a kind out of the library.

    Raises
    ------
    ValidationError
        If a station has it.
    """
    try:
        kind.delete()
    except ProtectedError as error:
        raise ValidationError(
            f"{kind.name} is used at a station; take it out there first."
        ) from error


def kind_of_asset(asset: Asset) -> EquipmentType:
    """
    One of the shelf's own radios or loads as a kind that plans use.

    Made when it is first chosen; from then on it follows the shelf.
    """
    device = asset.device
    kind = EquipmentType.objects.filter(asset=asset).first()
    low = None
    if device.low_key_down_a is not None:
        idle = device.transmit_idle_a
        low = Currents(
            standby_a=device.standby_a or 0.0,
            receive_a=device.receive_a,
            transmit_idle_a=None if idle is None else min(idle, device.low_key_down_a),
            key_down_a=device.low_key_down_a,
        )
    return save_kind(
        kind,
        name=f"{asset.tag} {asset.name}".strip()[:80],
        origin=f"{asset.tag} on the shelf, {device.get_origin_display()}",
        asset=asset,
        at_v=bridge.device_of(asset).stated_v,
        transmit_share=device.transmit_pct / 100,
        duty=device.duty_pct / 100,
        min_v=device.min_v or 0.0,
        max_v=device.max_v or 1000.0,
        full=Currents(
            standby_a=device.standby_a or 0.0,
            receive_a=device.receive_a,
            transmit_idle_a=device.transmit_idle_a,
            key_down_a=device.key_down_a,
        ),
        low=low,
        low_words=f"{device.low_tx_w:g} W" if device.low_tx_w else "",
    )


def follow_shelf(asset: Asset) -> None:
    """Let the kind of a radio that changed on the shelf change too."""
    if EquipmentType.objects.filter(asset=asset).exists():
        kind_of_asset(asset)
