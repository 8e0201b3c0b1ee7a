"""The yard: places and walks, sources, bays and crews."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction

from hollow_kettle.log.models import Place, PlaceKind
from hollow_kettle.people.models import Actor
from hollow_kettle.plan.changelog import edits, note
from hollow_kettle.plan.models import Bay, Crew, Event, Site, Source, SourceWindow, Walk
from hollow_kettle.plan.rows import expanded
from hollow_kettle.shelf.models import Asset


@transaction.atomic
def state_walk(
    a: Site, b: Site, *, minutes: int | None, by: Actor | None = None
) -> None:
    """State the walking minutes between two sites; None goes back to the map."""
    old = Walk.objects.filter(a__in=(a, b), b__in=(a, b))
    was = old.values_list("minutes", flat=True).first()
    old.delete()
    if minutes is not None:
        Walk.objects.create(a=a, b=b, minutes=minutes)
    if minutes != was:
        said = "as on the map" if minutes is None else f"{minutes} min"
        note(a.event, by, f"walk {a} – {b}: {said}")


@transaction.atomic
def place_site(
    site: Site,
    *,
    latitude: float | None,
    longitude: float | None,
    altitude_m: float | None = None,
    by: Actor | None = None,
) -> None:
    """Put a site on the map."""
    site.latitude, site.longitude, site.altitude_m = latitude, longitude, altitude_m
    if changed := edits(site, site.event.zone):
        note(site.event, by, f"{site}: {changed}")
    site.save(update_fields=["latitude", "longitude", "altitude_m"])


@transaction.atomic
def add_source(
    event: Event,
    *,
    name: str,
    kind: str,
    starts: datetime,
    ends: datetime,
    by: Actor | None = None,
    **limits: Any,
) -> Source:
    """
    Add a source with the first stretch in which it may run.

    `limits` holds what else a source has: the most it gives (`max_w`), energy, apparent
    power, other things on it, quiet hours, fuel.

    Raises
    ------
    ValidationError
        If a buffer bank holds nothing known, quiet hours have one end only, or the
        fuel is half stated.
    """
    if kind == Source.Kind.BUFFER and limits.get("energy_wh") is None:
        raise ValidationError(
            {"energy_wh": "A buffer bank runs empty: say how much energy is in it."}
        )
    check_source(limits)
    starts_at, ends_at = expanded(event, starts, ends)
    given = {key: value for key, value in limits.items() if value is not None}
    source = Source.objects.create(event=event, name=name, kind=kind, **given)
    SourceWindow.objects.create(source=source, starts_at=starts_at, ends_at=ends_at)
    note(event, by, f"source {name} added, {source.max_w:g} W")
    return source


def check_source(limits: Mapping[str, Any]) -> None:
    """
    Check what of a source must fit together: its stores, quiet hours and fuel.

    Raises
    ------
    ValidationError
        Naming the field that doesn't.
    """
    if (limits.get("quiet_from") is None) != (limits.get("quiet_until") is None):
        raise ValidationError({"quiet_until": "Give both ends of the quiet hours."})
    energy_wh, capacity_wh = limits.get("energy_wh"), limits.get("capacity_wh")
    if energy_wh is not None and capacity_wh is not None and capacity_wh < energy_wh:
        raise ValidationError(
            {"capacity_wh": f"It holds {energy_wh:g} Wh, so it can hold at least that."}
        )
    fuel = [limits.get(key) for key in ("quarter_l_h", "full_l_h", "tank_l")]
    if any(value is not None for value in fuel) and None in fuel:
        raise ValidationError(
            {"tank_l": "For its fuel give the tank and both fuel uses."}
        )
    quarter_l_h, full_l_h, _ = fuel
    if quarter_l_h and full_l_h and full_l_h < quarter_l_h:
        raise ValidationError(
            {"full_l_h": "At full power it burns no less than at a quarter."}
        )


@transaction.atomic
def change_source(source: Source, *, by: Actor | None = None, **values: Any) -> Source:
    """
    Change a source's limits.

    Raises
    ------
    ValidationError
        If what is stated does not fit together.
    """
    check_source(values)
    if source.kind == Source.Kind.BUFFER and values.get("energy_wh") is None:
        raise ValidationError(
            {"energy_wh": "A buffer bank runs empty: say how much energy is in it."}
        )
    if (values.get("filled_from") is None) != (not values.get("fill_w")):
        raise ValidationError(
            {"fill_w": "Say both what charges it and with how many watts."}
        )
    for name, value in values.items():
        setattr(source, name, 0.0 if name == "fill_w" and value is None else value)
    if changed := edits(source, source.event.zone):
        note(source.event, by, f"source {source}: {changed}")
    source.save()
    return source


@transaction.atomic
def add_window(
    source: Source, *, starts: datetime, ends: datetime, by: Actor | None = None
) -> SourceWindow:
    """Let a source run for another stretch."""
    starts_at, ends_at = expanded(source.event, starts, ends)
    made = SourceWindow.objects.create(
        source=source, starts_at=starts_at, ends_at=ends_at
    )
    note(source.event, by, f"running time added for {source}: {starts:%a %H:%M} on")
    return made


@transaction.atomic
def add_bay(
    event: Event,
    *,
    name: str,
    source: Source,
    chemistries: list[str],
    by: Actor | None = None,
    **charger: Any,
) -> Bay:
    """
    Add a bay to the yard; it is a place where one battery can be.

    `charger` is the one of the shelf that stands there (`charger`), or what is typed of
    it: its output (`max_w`) and whether it ends a charge by itself (`ends_itself`); and
    why it may charge while nobody watches (`unwatched_why`).
    """
    check_charger(event, charger.get("charger"))
    bay = Bay.objects.create(
        event=event,
        name=name,
        source=source,
        chemistries=",".join(chemistries),
        **charger,
    )
    Place.objects.create(uid=bay.pk, event_key=event.pk, kind=PlaceKind.BAY, name=name)
    note(
        event, by, f"bay {name} added on {source}, {bay.charger or f'{bay.max_w:g} W'}"
    )
    return bay


def check_charger(event: Event, charger: Asset | None, bay: Bay | None = None) -> None:
    """
    Check that a charger is free for a bay.

    Raises
    ------
    ValidationError
        If it stands on another bay of the event; it charges one battery at a time.
    """
    if charger is None:
        return
    others = event.bays.filter(charger=charger).exclude(pk__in=[bay.pk] if bay else [])
    if other := others.first():
        raise ValidationError(
            {
                "charger": f"{charger.tag} is on {other} already; it charges one "
                "battery at a time."
            }
        )


@transaction.atomic
def change_bay(
    bay: Bay, *, chemistries: list[str], by: Actor | None = None, **values: Any
) -> Bay:
    """
    Change a bay; rotations made before stay as they are.

    Raises
    ------
    ValidationError
        If its charger stands on another bay.
    """
    check_charger(bay.event, values.get("charger"), bay)
    bay.chemistries = ",".join(chemistries)
    for name, value in values.items():
        setattr(bay, name, value)
    if changed := edits(bay, bay.event.zone):
        note(bay.event, by, f"bay {bay}: {changed}")
    bay.save()
    Place.objects.filter(pk=bay.pk).update(name=bay.name)
    return bay


@transaction.atomic
def add_crew(
    event: Event,
    *,
    name: str,
    starts: datetime,
    ends: datetime,
    by: Actor | None = None,
    **duty: Any,
) -> Crew:
    """Put people on duty; `duty` is what the crew does and how many they are."""
    starts_at, ends_at = expanded(event, starts, ends)
    crew = Crew.objects.create(
        event=event, name=name, starts_at=starts_at, ends_at=ends_at, **duty
    )
    note(event, by, f"crew {name} added, {starts:%a %H:%M} – {ends:%a %H:%M}")
    return crew
