"""What people sent, noted for them: who may note it, and which service does."""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from uuid import UUID

from django.core.exceptions import PermissionDenied
from django.http import HttpRequest

from hollow_kettle.log.models import BatteryNow, FieldEntry, Kind, PlaceKind
from hollow_kettle.log.services import Receipt, Sent
from hollow_kettle.people.access import access_of, actor_of
from hollow_kettle.plan.models import Event, Station
from hollow_kettle.shelf.models import Asset

from . import services
from .forms import EntryForm


def note_by_form(
    request: HttpRequest,
    event: Event,
    what: str,
    form: EntryForm,
    *,
    answers: FieldEntry | None = None,
    because: str = "",
) -> Receipt | None:
    """Call the service for a form; raises PermissionDenied for another's station."""
    data = dict(form.cleaned_data)
    typed = {
        key: str(value)[:500]
        for key, value in form.data.items()
        if key in form.fields or key == "line"
    }
    sent = Sent(
        uid=data["uid"],
        said_when=form.data.get("taken", "").strip() or "now",
        raw=typed | ({"tag": data["tag"]} if data.get("tag") else {}),
    )
    common = {
        "by": actor_of(request),
        "at": data["taken"],
        "sent": sent,
        "note": data["text"],
    }
    if answers is not None:
        raw = {**sent.raw, "because": because}
        common |= {"answers": answers.uid, "sent": replace(sent, raw=raw)}
    noted = _NOTED.get(what)
    if noted is None:
        return services.note(event, Kind.NOTE, **common)
    return noted(request, event, form, common)


def _note_reading(
    request: HttpRequest, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    data, battery = form.cleaned_data, form.battery("tag")
    aside = _aside_for_lead(request, event, battery)
    names = ("volts", "amps", "how", "unplugged_min", "amp_hours", "gauge_pct")
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
    request: HttpRequest, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    data = form.cleaned_data
    station: Station = data["station"]
    _allow(request, event, station.pk)
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
    request: HttpRequest, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    _allow(request, event, None)
    data, battery = form.cleaned_data, form.battery("tag")
    return services.note(
        event,
        Kind.MOVE,
        battery=battery.pk if battery else None,
        place=data["to"],
        **common,
    )


def _note_station(
    request: HttpRequest, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    data = form.cleaned_data
    _allow(request, event, data["station"].pk)
    kind, step = data["what"], ""
    if kind in ("low", "full"):
        kind, step = Kind.POWER_STEP, kind
    return services.log_station(event, data["station"], what=kind, step=step, **common)


def _note_source(
    request: HttpRequest, event: Event, form: EntryForm, common: dict[str, Any]
) -> Receipt | None:
    _allow(request, event, None)
    data = form.cleaned_data
    return services.log_source(
        event, data["source"], is_on=data["state"] == "on", **common
    )


_NOTED = {
    "reading": _note_reading,
    "swap": _note_swap,
    "move": _note_move,
    "station": _note_station,
    "source": _note_source,
}


def _aside_for_lead(request: HttpRequest, event: Event, battery: Asset | None) -> str:
    """
    Why a reading waits: a lead reads the own station's battery; else a tag is wrong.

    Raises PermissionDenied for who notes nothing here.
    """
    access = access_of(request)
    if access.may_log(event.pk, None):
        return ""  # any battery
    own, station = access.own_stations(event.pk), _station_of(battery)
    if access.may_log(event.pk, station) or not own:
        _allow(request, event, station)
        return ""
    if battery is None:
        return ""  # the unknown tag says why
    return f"{battery} is not logged at your station"


def _allow(request: HttpRequest, event: Event, station_key: UUID | None) -> None:
    if not access_of(request).may_log(event.pk, station_key):
        raise PermissionDenied


def _station_of(battery: Asset | None) -> UUID | None:
    """The station a battery serves now, None when it is in the yard or unknown."""
    if battery is None:
        return None
    row = BatteryNow.objects.filter(battery=battery.pk).select_related("place").first()
    if row is None or row.place is None or row.place.kind != PlaceKind.POSITION:
        return None
    return row.place.station_key
