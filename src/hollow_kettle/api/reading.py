"""Rows and values turned into the shapes that scripts read."""

from __future__ import annotations

from datetime import datetime, timedelta

from hollow_kettle.field.page import Board, BoardBattery, BoardStation
from hollow_kettle.field.queries import entries_of
from hollow_kettle.field.words import names_of, words_of
from hollow_kettle.plan.bridge.chosen import published
from hollow_kettle.plan.models import Event, Rotation
from hollow_kettle.plan.rotation.moves import Move, moves_of
from hollow_kettle.plan.rotation.queries import tags_of
from hollow_kettle.shelf.charge.queries import ShelfBattery, shelf_batteries_of
from hollow_kettle.shelf.models import Asset
from hollow_kettle.shelf.models.asset import AssetKind
from powercore.belief.runtime import TimeLeft

from . import shapes


def things(kind: str = "", tag: str = "") -> list[shapes.Thing]:
    """What is on the shelf: all, of one kind, or with one tag."""
    found = Asset.objects.filter(archived_at=None).order_by("kind", "tag")
    if kind:
        found = found.filter(kind=kind)
    if tag:
        found = found.filter(tag__iexact=tag)
    assets = list(found.select_related("battery"))
    packs = [one for one in assets if one.kind == AssetKind.BATTERY]
    known = {one.asset.pk: one for one in shelf_batteries_of(packs)}
    return [_thing(one, known.get(one.pk)) for one in assets]


def _thing(asset: Asset, battery: ShelfBattery | None) -> shapes.Thing:
    return shapes.Thing(
        uid=asset.pk,
        tag=asset.tag,
        kind=asset.kind,
        name=asset.name,
        owner=asset.owner,
        home=asset.home,
        hold=asset.hold,
        battery=None if battery is None else _battery(battery),
    )


def _battery(one: ShelfBattery) -> shapes.Battery:
    row, now = one.asset.battery, one.now
    charge = None
    if now is not None:
        charge = shapes.Charge(
            typical=now.soc_typical,
            low=now.soc_low,
            high=now.soc_high,
            evidence=now.evidence,
        )
    return shapes.Battery(
        chemistry=row.chemistry,
        nominal_v=one.pack.nominal_v,
        nameplate_ah=row.nameplate_ah,
        tested_ah=one.pack.tested_ah,
        trusted_ah=one.pack.trusted_ah,
        usable_full_wh=one.usable_full_wh,
        charge=charge,
        where=one.where,
    )


def event_shape(event: Event) -> shapes.EventOf:
    """An event with its stations."""
    rotation = published(event)
    return shapes.EventOf(
        uid=event.pk,
        name=event.name,
        zone=event.zone,
        starts_at=event.starts_at,
        ends_at=event.ends_at,
        state=event.state,
        purpose=event.purpose,
        published=rotation.number if rotation else None,
        stations=[
            shapes.StationOf(
                uid=one.pk, name=one.name, purpose=one.purpose, tier=one.tier
            )
            for one in event.stations.all()
        ],
    )


def rotation_shape(event: Event, rotation: Rotation) -> shapes.RotationOf:
    """A rotation, leg by leg and walk by walk."""
    tags = tags_of(rotation)
    places = {one.pk: one.name for one in event.stations.all()}
    places |= {one.pk: one.name for one in event.bays.all()}

    def at(minute: int) -> datetime:
        return event.starts_at + timedelta(minutes=minute)

    return shapes.RotationOf(
        number=rotation.number,
        published_at=rotation.published_at,
        off_air_min=rotation.off_air_min,
        reserve_min=rotation.reserve_min,
        unserved_wh=rotation.unserved_wh,
        walks=rotation.walks,
        legs=[
            shapes.LegOf(
                battery=tags.get(leg.battery, ""),
                kind=leg.kind,
                place=places.get(leg.place, "") if leg.place else "",
                crew=leg.crew,
                starts_at=at(leg.start_min),
                ends_at=at(leg.end_min),
                start_soc=leg.start_soc,
                end_soc=leg.end_soc,
            )
            for leg in rotation.legs.all()
        ],
        moves=[_move(one) for one in moves_of(event, rotation, tags)],
    )


def _move(move: Move) -> shapes.MoveOf:
    return shapes.MoveOf(
        station=move.station.name,
        leave_at=move.leave,
        arrive_at=move.arrive,
        bring=move.bring,
        bring_back=move.bring_back,
        crew=move.crew,
        slack_min=move.slack_min,
        without_power_first=move.slack.chance if move.slack else None,
    )


def board_shape(board: Board) -> shapes.BoardOf:
    """The field board."""
    names = {one.station.pk: one.station.name for one in board.stations}
    return shapes.BoardOf(
        at=board.now,
        stand_down_since=board.stand_down,
        stations=[_station(one) for one in board.stations],
        batteries=[
            shapes.BoardBatteryOf(tag=one.tag, state=one.state, charge=_charge(one))
            for one in board.batteries
        ],
        alarms=[
            shapes.AlarmOf(
                station=names.get(one.station) if one.station else None,
                words=one.words,
                seen_by=one.seen_by,
            )
            for one in board.alarms
        ],
    )


def _station(one: BoardStation) -> shapes.OnBoard:
    return shapes.OnBoard(
        uid=one.station.pk,
        name=one.station.name,
        is_open=one.is_open,
        is_off_air=one.is_off,
        battery=one.battery.tag if one.battery else None,
        charge=_charge(one.battery) if one.battery else None,
        read_min_ago=one.age_min,
        reserve_in_h=_hours(one.reserve),
        off_in_h=_hours(one.disconnect),
        slack_min=one.slack.minutes if one.slack else None,
        without_power_first=one.slack.chance if one.slack else None,
        next_move=_move(one.move) if one.move else None,
    )


def _charge(one: BoardBattery) -> shapes.Charge:
    soc = one.soc
    return shapes.Charge(
        typical=soc.typical, low=soc.low, high=soc.high, evidence=soc.evidence
    )


def _hours(left: TimeLeft | None) -> tuple[float | None, float | None] | None:
    return None if left is None else (left.bad_h, left.typical_h)


def entries(event: Event, most: int) -> list[shapes.EntryOf]:
    """The newest entries of an event's log, newest first."""
    names, tags = names_of(event), dict(Asset.objects.values_list("pk", "tag"))
    return [
        shapes.EntryOf(
            uid=one.uid,
            kind=one.kind,
            at=one.effective_at,
            by=str(one.actor),
            words=words_of(one, tags, names),
            standing="struck" if one.is_struck else one.standing,  # type: ignore[attr-defined]
        )
        for one in entries_of(event, most)
    ]
