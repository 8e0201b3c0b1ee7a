"""What people sent, noted for them: who may note it, and which service does."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4, uuid5

from django.core.exceptions import PermissionDenied
from django.db import transaction

from hollow_kettle.log.models import BatteryNow, Kind, PlaceKind
from hollow_kettle.log.services import Receipt, Sent
from hollow_kettle.people.access import Access
from hollow_kettle.plan.models import Event, Source, Station
from hollow_kettle.shelf.models import Asset
from powercore.gear.faults import SYMPTOMS

from . import services
from .condition_forms import PanelForm
from .forms import EntryForm


@dataclass(frozen=True, slots=True, kw_only=True)
class Sending:
    """How something came that a form read."""

    device: str = "page"
    #: What the sender's clock showed when it happened, and how far it was behind.
    device_at: datetime | None = None
    skew_s: float | None = None
    #: What was typed, where that is more than the form's fields.
    raw: Mapping[str, Any] = field(default_factory=dict)
    #: The waiting entry that it answers.
    answers: UUID | None = None
    #: Whether what follows from it is worked out at once; else more comes first.
    is_last: bool = True


def note_by_form(
    access: Access,
    event: Event,
    what: str,
    form: EntryForm,
    sending: Sending | None = None,
) -> Receipt | None:
    """Call the service for a form; raises PermissionDenied for another's station."""
    sending = sending or Sending()
    data = dict(form.cleaned_data)
    typed = {
        key: str(value)[:500] for key, value in form.data.items() if key in form.fields
    }
    taken = form.data.get("taken", "").strip() or "now"
    at = "" if sending.device_at is None else f" of {sending.device_at.isoformat()}"
    sent = Sent(
        device=sending.device,
        uid=data["uid"],
        said_when=taken + at,
        raw={
            **typed,
            **({"tag": data["tag"]} if data.get("tag") else {}),
            **sending.raw,
        },
    )
    assert access.actor is not None  # noqa: S101 - who may log is signed in
    common: dict[str, Any] = {
        "by": access.actor,
        "at": data["taken"],
        "sent": sent,
        "note": data["text"],
        "refresh": sending.is_last,
    }
    if sending.device_at is not None:
        common |= {"device_at": sending.device_at, "skew_s": sending.skew_s}
    if sending.answers is not None:
        common["answers"] = sending.answers
    noted = _NOTED.get(what)
    if noted is None:
        return services.note(event, Kind.NOTE, **common)
    return noted(access, event, form, common)


@transaction.atomic
def note_and_hold(
    access: Access,
    event: Event,
    what: str,
    form: EntryForm,
    sending: Sending | None = None,
) -> tuple[Receipt | None, list[str]]:
    """Note what a form says; also the tags that it puts on hold by its remark."""
    receipt = note_by_form(access, event, what, form, sending)
    assert access.actor is not None  # noqa: S101 - who may log is signed in
    text, at = form.cleaned_data["text"], form.cleaned_data["taken"]
    held = services.hold_by_note(event, text, by=access.actor, at=at)
    if what == "fault" and SYMPTOMS[form.cleaned_data["symptom"]].holds:
        battery = form.battery("tag")
        why = SYMPTOMS[form.cleaned_data["symptom"]].name
        held += services.hold_for_fault(battery, why, by=access.actor, at=at)
    return receipt, held


def note_near_miss(access: Access, event: Event, form: EntryForm) -> None:
    """Note what was nearly done and stopped, once for each try; nothing follows."""
    assert access.actor is not None  # noqa: S101 - who may log is signed in
    tried = form.cleaned_data.get("uid") or uuid4()
    services.note(
        event,
        Kind.NOTE,
        by=access.actor,
        at=form.now,
        refresh=False,
        note=f"near miss, stopped: {form.stops}"[:500],
        sent=Sent(device="stop", uid=uuid5(tried, form.stops), said_when="stopped"),
    )


def _note_reading(
    access: Access, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    data, battery = form.cleaned_data, form.battery("tag")
    aside = _aside_for_lead(access, event, battery)
    names = (
        "volts", "amps", "how", "unplugged_min", "amp_hours", "ah_in", "gauge_pct",
    )  # fmt: skip
    fields = {name: data[name] for name in names}
    if fields["volts"] is None:
        fields["how"] = ""
    return services.note(
        event,
        Kind.READING,
        battery=battery.pk if battery else None,
        **fields,
        **common | {"sent": replace(common["sent"], aside=aside)},
    )


def _note_swap(
    access: Access, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    data = form.cleaned_data
    station: Station = data["station"]
    _allow(access, event, station.pk)
    battery, out = form.battery("tag"), form.battery("tag_out")
    lost = data["tag_out"] and out is None
    aside = f"no battery {data['tag_out']} on the shelf" if lost else ""
    return services.note(
        event,
        Kind.SWAP,
        battery=battery.pk if battery else None,
        battery_out=out.pk if out else None,
        place=services.position_of(station),
        station_key=station.pk,
        place_out=data["place_out"],
        **common | {"sent": replace(common["sent"], aside=aside)},
    )


def _note_move(
    access: Access, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    _allow(access, event, None)
    data, battery = form.cleaned_data, form.battery("tag")
    return services.note(
        event,
        Kind.MOVE,
        battery=battery.pk if battery else None,
        place=data["to"],
        **common,
    )


def _note_station(
    access: Access, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    data = form.cleaned_data
    _allow(access, event, data["station"].pk)
    kind, step = data["what"], ""
    if kind in ("low", "full"):
        kind, step = Kind.POWER_STEP, kind
    return services.log_station(event, data["station"], what=kind, step=step, **common)


def _note_source(
    access: Access, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    _allow(access, event, None)
    data = form.cleaned_data
    return services.log_source(
        event, data["source"], is_on=data["state"] == "on", **common
    )


def _note_panel(
    access: Access, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    assert isinstance(form, PanelForm)  # noqa: S101 - as `FORMS` has it
    data, owner = form.cleaned_data, form.owner
    station = owner.pk if isinstance(owner, Station) else None
    if owner is not None or not access.may_log_something(event.pk):
        _allow(access, event, station)  # how the sky is, anybody may tell
    return services.note(
        event,
        Kind.PANEL,
        station_key=station,
        source_key=owner.pk if isinstance(owner, Source) else None,
        oktas=form.oktas,
        **{name: data[name] for name in ("amps", "volts", "tilt")},
        **common,
    )


def _note_fault(
    access: Access, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    data, battery = form.cleaned_data, form.battery("tag")
    station = data["station"].pk if data["station"] else None
    if not access.may_log_something(event.pk):
        raise PermissionDenied  # a fault anywhere is everybody's to tell
    return services.note(
        event,
        Kind.FAULT,
        station_key=station,
        battery=battery.pk if battery else None,
        **{name: data[name] for name in ("symptom", "cause", "fix")},
        **common,
    )


_NOTED = {
    "reading": _note_reading,
    "swap": _note_swap,
    "move": _note_move,
    "station": _note_station,
    "source": _note_source,
    "panel": _note_panel,
    "fault": _note_fault,
}


def _aside_for_lead(access: Access, event: Event, battery: Asset | None) -> str:
    """
    Why a reading waits: a lead reads the own station's battery; else a tag is wrong.

    Raises PermissionDenied for who notes nothing here.
    """
    if access.may_log(event.pk, None):
        return ""  # any battery
    own, station = access.own_stations(event.pk), _station_of(battery)
    if access.may_log(event.pk, station) or not own:
        _allow(access, event, station)
        return ""
    if battery is None:
        return ""  # the unknown tag says why
    return f"{battery} is not logged at your station"


def _allow(access: Access, event: Event, station_key: UUID | None) -> None:
    if not access.may_log(event.pk, station_key):
        raise PermissionDenied


def _station_of(battery: Asset | None) -> UUID | None:
    """The station a battery serves now, None when it is in the yard or unknown."""
    if battery is None:
        return None
    row = BatteryNow.objects.filter(battery=battery.pk).select_related("place").first()
    if row is None or row.place is None or row.place.kind != PlaceKind.POSITION:
        return None
    return row.place.station_key
