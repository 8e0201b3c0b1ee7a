"""
What meters sent, noted in the log as a helper would: a reading every ten minutes.

So belief, board and debrief take it like any other entry, and a meter that sends every
second does not fill the log. A generator's panel notes its start and stop.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from statistics import fmean
from uuid import UUID, uuid5

from django.db.models import OuterRef, Q, Subquery

from hollow_kettle.clock import told
from hollow_kettle.instruments.models import Device, DeviceKind, Sample
from hollow_kettle.log.models import FieldEntry, Kind, PlaceKind, Placement, SourceOff
from hollow_kettle.log.services import Sent, placed_at
from hollow_kettle.plan.models import Event

from . import services
from .follow import follow
from .page import Board, BoardBay

#: A reading is noted so often, of the mean of its last minute. Common practice, no
#: source.
EVERY = timedelta(minutes=10)
MEAN_OF = timedelta(minutes=1)
#: A meter that sent nothing for so long is silent.
SILENT = timedelta(minutes=10)
#: Less than this into a battery is no charge. [A]
NO_CHARGE_A = 0.2
#: A charger may have ended above it. (0 to 1)
FULL_ENOUGH = 0.9
_EPOCH = datetime(2000, 1, 1, tzinfo=UTC)


def note_meters(event: Event, only: Device | None = None) -> int:
    """Note what an event's meters, or one, sent since the last time; how many."""
    count = 0
    every = event.devices.filter(closed_at=None) if only is None else [only]
    for device in every:
        if device.kind == DeviceKind.GENERATOR:
            count += _note_panel(event, device)
        else:
            count += _note_counts(event, device)
    if count:
        follow(event)
    return count


def _note_counts(event: Event, device: Device) -> int:
    since, now = device.noted_until, event.clock.now()
    came = device.samples.all()
    if since is not None:
        came = came.filter(received_at__gt=since)
    slots: dict[int, datetime] = {}
    rows = list(came.values_list("at", "received_at"))
    for at, received in rows:
        slot = _slot(at)
        slots[slot] = min(received, slots.get(slot, received))
    if not slots:
        return 0
    done = [slot for slot in slots if _EPOCH + (slot + 1) * EVERY <= now]
    count = sum(_note_slot(event, device, slot) for slot in sorted(done))
    waits = [received for slot, received in slots.items() if slot not in done]
    newest = max(received for _, received in rows)
    device.noted_until = min(waits) - timedelta(microseconds=1) if waits else newest
    device.save(update_fields=["noted_until"])
    return count


def _slot(at: datetime) -> int:
    return (at - _EPOCH) // EVERY


def _note_slot(event: Event, device: Device, slot: int) -> bool:
    start = _EPOCH + slot * EVERY
    uid, name = uuid5(device.pk, str(slot)), f"meter {device.name}"
    if FieldEntry.objects.filter(device=name, uid=uid).exists():
        return False
    samples = list(device.samples.filter(at__gte=start, at__lt=start + EVERY))
    if not samples:
        return False
    last = samples[-1]
    here = _placement(device, last.at)
    battery = device.subject if here is None else here.battery
    if here is None and not event.batteries.filter(pk=device.subject).exists():
        return False  # a station or a bay without a battery
    minute = [one for one in samples if one.at > last.at - MEAN_OF]
    values = {
        "volts": _mean(one.volts for one in minute),
        "amps": _mean(one.amps for one in minute),
        "amp_hours": _counted(device, here, last),
    }
    if device.kind == DeviceKind.CONTROLLER:
        # Volts under charge say nothing of the charge; what was counted in does.
        values["volts"] = None
        values["amps"] = None if values["amp_hours"] is None else values["amps"]
    if all(value is None for value in values.values()):
        return False
    services.note(
        event,
        Kind.READING,
        by=device.made_by,
        at=last.at,
        battery=battery,
        how="receiving" if values["volts"] is not None else "",
        refresh=False,
        sent=Sent(device=name, uid=uid, raw={"samples": len(samples)}),
        **values,
    )
    return True


def _placement(device: Device, at: datetime) -> Placement | None:
    """Where the meter's battery was; of a station's or bay's, which one was there."""
    return (
        placed_at(at)
        .filter(
            Q(battery=device.subject)
            | Q(place__kind=PlaceKind.POSITION, place__station_key=device.subject)
            | Q(place=device.subject)
        )
        .first()
    )


def _counted(device: Device, here: Placement | None, last: Sample) -> float | None:
    """Amp-hours since the battery came where it is; None without two counts there."""
    if last.amp_hours is None or here is None:
        return None
    counts = device.samples.filter(at__gte=here.started_at, at__lt=last.at)
    first = counts.exclude(amp_hours=None).first()
    if first is None or first.amp_hours is None:
        return None
    return round(last.amp_hours - first.amp_hours, 4)


def _mean(values: Iterable[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return round(fmean(known), 4) if known else None


def _note_panel(event: Event, device: Device) -> int:
    """Note that a generator started or stopped, once two samples agree on it."""
    latest = list(device.samples.exclude(is_running=None).order_by("-at")[:2])
    if len(latest) < 2 or latest[0].is_running != latest[1].is_running:
        return 0
    off = SourceOff.objects.filter(
        event_key=event.pk, source_key=device.subject, ended_at=None
    ).first()
    runs = bool(latest[0].is_running)
    if runs == (off is None):
        return 0
    source = event.sources.filter(pk=device.subject).first()
    if source is None:
        return 0
    at = latest[1].at if off is None else max(latest[1].at, off.started_at)
    services.log_source(
        event,
        source,
        is_on=runs,
        by=device.made_by,
        at=at,
        refresh=False,
        sent=Sent(device=f"meter {device.name}", uid=uuid5(device.pk, f"{at} {runs}")),
    )
    return 1


@dataclass(frozen=True, slots=True)
class Shown:
    """A meter and what it showed last."""

    device: Device
    on: str
    last: Sample | None


def meters_of(event: Event) -> list[Shown]:
    """An event's meters, with what each showed last; two queries."""
    newest = Sample.objects.filter(device=OuterRef("pk")).order_by("-at")
    rows = list(event.devices.annotate(newest=Subquery(newest.values("pk")[:1])))
    if not rows:
        return []
    samples = Sample.objects.in_bulk([row.newest for row in rows if row.newest])
    names = subjects_of(event)
    return [
        Shown(row, names.get(row.subject, ""), samples.get(row.newest)) for row in rows
    ]


def subjects_of(event: Event) -> dict[UUID, str]:
    """What a meter may be on, by key: batteries, stations, bays, sources."""
    named = (event.stations, event.bays, event.sources)
    found = {
        key: name for rows in named for key, name in rows.values_list("pk", "name")
    }
    return found | dict(event.batteries.values_list("pk", "tag"))


def of_meters(event: Event, board: Board) -> Iterator[str]:
    """What meters show that somebody should look at."""
    bays = {UUID(bay.key): bay for bay in board.bays}
    tags = {battery.uid: battery for battery in board.batteries}
    on_bay = {bay.battery.uid: bay for bay in board.bays if bay.battery is not None}
    for one in meters_of(event):
        if one.device.closed_at is not None or one.last is None:
            continue
        if board.now - one.last.at > SILENT:
            at = told(one.last.at, event.zone)
            yield f"Meter {one.device.name} is silent since {at}."
            continue
        bay = bays.get(one.device.subject) or on_bay.get(one.device.subject)
        if bay is not None and bay.battery is not None:
            yield from _on_bay(one, bay)
        celsius, battery = one.last.celsius, tags.get(one.device.subject)
        if celsius is not None and battery is not None:
            hot = battery.pack.chem.hot_c
            if celsius > hot:
                yield (
                    f"{battery.tag} is at {celsius:.0f} °C, above {hot:.0f}: take the "
                    "load or charger off, keep away, let it cool in the open."
                )


def _on_bay(one: Shown, bay: BoardBay) -> Iterator[str]:
    battery, last = bay.battery, one.last
    if battery is None or last is None:
        return
    if last.celsius is not None and battery.pack.is_too_cold(
        last.celsius, is_heated=battery.is_heated
    ):
        yield (
            f"{battery.tag} on {bay.name} is at {last.celsius:.0f} °C: too cold to "
            "charge. Take it off until it is warm."
        )
    is_idle = last.amps is not None and last.amps > -NO_CHARGE_A
    if is_idle and bay.has_power and battery.soc.typical < FULL_ENOUGH:
        yield (
            f"{one.device.name} shows no charge into {battery.tag} on {bay.name}, "
            "though it has power."
        )
