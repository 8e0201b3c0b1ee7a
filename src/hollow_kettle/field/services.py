"""Log what happens in the field; nothing that somebody saw is refused."""

from __future__ import annotations

import re
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from django.db import transaction

from hollow_kettle.log import services as log
from hollow_kettle.log.models import FieldEntry, Kind, Place, PlaceKind, Placement
from hollow_kettle.log.services import Receipt, Sent
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.models import Bay, Event, Source, Station
from hollow_kettle.shelf.assets.danger import danger_in
from hollow_kettle.shelf.assets.services import plain_tag
from hollow_kettle.shelf.custody import services as custody
from hollow_kettle.shelf.models import Asset
from powercore.values import as_counted

from .follow import follow

#: How far ahead of the event's clock an entry may be before it is set aside.
AHEAD = timedelta(minutes=30)
#: How far outside its event an entry may be dated before it waits for somebody.
OUTSIDE = timedelta(days=1)


def position_of(station: Station) -> Place:
    """The place where a battery feeds a station."""
    return Place.objects.get(station_key=station.pk, kind=PlaceKind.POSITION, ordinal=1)


def spares_at(station: Station) -> Place:
    """Where spares wait at a station."""
    return Place.objects.get(station_key=station.pk, kind=PlaceKind.STATION)


#: What an entry's `raw` has of the entry that it is a part of.
PART_OF = "part_of"


def yard_rack(event: Event) -> Place:
    """Where batteries wait in the charging yard."""
    return Place.objects.get(event_key=event.pk, kind=PlaceKind.YARD_RACK)


def note(
    event: Event,
    kind: str,
    *,
    by: Actor,
    at: datetime,
    sent: Sent | None = None,
    refresh: bool = True,
    **fields: Any,
) -> Receipt:
    """
    Note one thing in the log and work out anew what follows from it.

    Parameters
    ----------
    kind : str
        A kind of `log.models.Kind`.
    at : datetime
        When it happened, not when it was written down.
    sent : Sent, optional
        How it came. A battery tag that was said, as its `raw` has it, but is not on
        the shelf, lets the entry wait in quarantine.

    Returns
    -------
    Receipt
        Kept, quarantined or in conflict, and why.
    """
    sent = sent or Sent()
    why = sent.aside
    if not why and sent.raw.get("tag") and fields.get("battery") is None:
        why = f"no battery {sent.raw['tag']} on the shelf"
    receipt = log.append(
        event_key=event.pk,
        actor=by,
        kind=kind,
        effective_at=at,
        sent=replace(sent, aside=why or _why_aside(event, by, at)),
        **{"device_at": at, **fields},
    )
    if refresh and receipt.counts_newly:
        follow(event)
    return receipt


def _why_aside(event: Event, by: Actor, at: datetime) -> str:
    """Why an entry waits for a coordinator; empty where it counts at once."""
    if event.state == Event.State.CLOSED and not by.is_coordinator:
        return "the event is closed"
    if at > event.clock.now() + AHEAD:
        return "it is said to have happened later than now"
    if is_far_outside(event, at):
        return "it is dated more than a day outside the event"
    return ""


def is_far_outside(event: Event, at: datetime) -> bool:
    """Whether a moment lies so far outside an event that it is a slip of the pen."""
    return at < event.starts_at - OUTSIDE or at > event.ends_at + OUTSIDE


def log_swap(
    event: Event,
    station: Station,
    *,
    battery: Asset,
    battery_out: Asset | None = None,
    place_out: Place | None = None,
    **how: Any,
) -> Receipt:
    """Note a swap: one entry for what went in and what came out; `how` as in `note`."""
    return note(
        event,
        Kind.SWAP,
        battery=battery.pk,
        battery_out=battery_out.pk if battery_out else None,
        place=position_of(station),
        place_out=place_out,
        station_key=station.pk,
        **how,
    )


def log_move(
    event: Event,
    battery: Asset,
    *,
    to: Place | None,
    by: Actor,
    at: datetime,
    **how: Any,
) -> Receipt:
    """Note that a battery was put somewhere: a bay, the rack; None: on the way."""
    return note(
        event,
        Kind.MOVE,
        by=by,
        at=at,
        battery=battery.pk,
        place=to,
        station_key=to.station_key if to else None,
        **how,
    )


def log_station(
    event: Event,
    station: Station,
    *,
    what: str,
    step: str = "",
    **how: Any,
) -> Receipt:
    """
    Note that a station is off the air, back, on low power, shed or restored.

    `how` as in `note`.
    """
    return note(event, what, station_key=station.pk, step=step, **how)


def log_source(
    event: Event,
    source: Source | Bay,
    *,
    is_on: bool,
    by: Actor,
    at: datetime,
    **how: Any,
) -> Receipt:
    """Note that a source, or a bay alone, gives nothing any more, or gives again."""
    return note(
        event, Kind.SOURCE, by=by, at=at, source_key=source.pk, is_on=is_on, **how
    )


def log_move_state(
    event: Event, station: Station, *, battery: UUID | None, what: str, **how: Any
) -> Receipt:
    """Note that a crew was told of a move, or left for it; `how` as in `note`."""
    return note(event, what, battery=battery, station_key=station.pk, **how)


@transaction.atomic
def note_set_up(event: Event, *, by: Actor, at: datetime | None = None) -> int:
    """
    Note that every battery without a place stands where the plan begins, and is full.

    It is one entry to people, and one strike undoes it: what it says of each battery
    names it (`PART_OF`).

    Parameters
    ----------
    event : Event
        With a published rotation made for the event from its start.
    at : datetime, optional
        When it was so; now by default.

    Returns
    -------
    int
        How many batteries were noted; 0 without such a rotation.
    """
    rotation = published(event)
    if rotation is None or rotation.from_min != 0:
        return 0
    here = Placement.objects.filter(ended_at=None, place__event_key=event.pk)
    known = set(here.values_list("battery", flat=True))
    first = {leg.battery: leg for leg in rotation.legs.all() if leg.start_min == 0}
    stations = {station.pk: station for station in event.stations.all()}
    bays = {bay.pk: bay for bay in Place.objects.filter(kind=PlaceKind.BAY)}
    rack = yard_rack(event)
    at = at or event.clock.now()
    units = event.units.filter(hold="", archived_at=None)
    batteries = [battery for battery in units if battery.pk not in known]
    if not batteries:
        return 0
    words = f"all in place as planned, batteries full: {len(batteries)}"
    whole = note(event, Kind.NOTE, by=by, at=at, note=words, refresh=False)

    def quiet() -> dict[str, Any]:
        part = Sent(raw={PART_OF: str(whole.uid)})
        return {"by": by, "at": at, "refresh": False, "sent": part}

    for battery in batteries:
        leg = first.get(battery.pk)
        begins = leg.place if leg is not None else None
        waits = leg is not None and leg.is_spare
        note(
            event,
            Kind.READING,
            battery=battery.pk,
            gauge_pct=100.0,
            note="full by its charger",
            **quiet(),
        )
        if begins in stations and waits:
            to = spares_at(stations[begins])
            log_move(event, battery, to=to, **quiet())
        elif begins in stations:
            log_swap(event, stations[begins], battery=battery, **quiet())
        else:
            to = bays.get(begins, rack) if begins else rack
            log_move(event, battery, to=to, **quiet())
    follow(event)
    return len(batteries)


def hold_by_note(event: Event, text: str, *, by: Actor, at: datetime) -> list[str]:
    """
    Put batteries on hold of which a note says that they must not be used.

    Returns
    -------
    list of str
        Tags of those that it names and that are on hold by it now.
    """
    if not text:
        return []
    known = {
        plain_tag(asset.tag): asset
        for asset in event.batteries.filter(hold="", archived_at=None)
    }
    held: dict[str, str] = {}
    before: set[str] = set()
    for clause in re.split(r"[.;,\n]+", text):
        named = {plain_tag(one) for one in re.findall(r"[\w-]+", clause)} & set(known)
        if word := danger_in(clause):
            held |= dict.fromkeys(named or before, word)
        before = named
    for tag, word in held.items():
        asset = known[tag]
        custody.put_on_hold(asset, because=f"a note says {word}", by=by, at=at)
    return sorted((known[tag].tag for tag in held), key=as_counted)


def hold_for_fault(
    battery: Asset | None, why: str, *, by: Actor, at: datetime
) -> list[str]:
    """Put a battery on hold that is dangerous by a fault; its tag, if it is new."""
    if battery is None or battery.hold:
        return []
    custody.put_on_hold(battery, because=f"fault: {why}", by=by, at=at)
    return [battery.tag]


def strike(
    event: Event, entry: FieldEntry, *, because: str, by: Actor, at: datetime
) -> Receipt:
    """Strike an entry with its parts: it stays visible and counts as never written."""
    for part in FieldEntry.objects.filter(**{f"raw__{PART_OF}": str(entry.uid)}):
        note(
            event,
            Kind.STRIKE,
            by=by,
            at=at,
            strikes=part.uid,
            note=because,
            sent=Sent(raw={PART_OF: str(entry.uid)}),
            refresh=False,
        )
    return note(event, Kind.STRIKE, by=by, at=at, strikes=entry.uid, note=because)
