"""What an entry says, in a few words."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from uuid import UUID

from hollow_kettle.log.models import MOVE_STATES, FieldEntry, Kind
from hollow_kettle.plan.models import Event
from powercore.gear.faults import CAUSES, SYMPTOMS

from .condition_forms import sky_words


def names_of(event: Event) -> dict[UUID, str]:
    """What an event's stations, sources and bays are called, by key."""
    named = (event.stations, event.sources, event.bays)
    return {key: name for rows in named for key, name in rows.values_list("pk", "name")}


def words_of(
    entry: FieldEntry, tags: Mapping[UUID, str], names: Mapping[UUID, str]
) -> str:
    """Say an entry in a few words."""
    tag = tags.get(entry.battery, "") if entry.battery else entry.raw.get("tag", "")
    where = names.get(entry.station_key, "") if entry.station_key else ""
    told = _Told(entry, tag, where, tags, names)
    say = _SAID.get(entry.kind)
    if say is not None:
        return say(told)
    said = entry.get_kind_display()
    return f"{where}: {said}" if where else said


@dataclass(frozen=True, slots=True)
class _Told:
    """An entry with what it names."""

    entry: FieldEntry
    tag: str
    where: str
    tags: Mapping[UUID, str]
    names: Mapping[UUID, str]


def _reading(told: _Told) -> str:
    entry, parts = told.entry, []
    if entry.volts is not None:
        parts.append(f"{entry.volts:.2f} V")
    if entry.amps is not None:
        parts.append(f"{entry.amps:.1f} A")
    if entry.how and entry.volts is not None:
        parts.append(entry.how.replace("_", " "))
    if entry.amp_hours is not None and entry.ah_in is not None:
        out_ah = entry.amp_hours + entry.ah_in
        parts.append(f"{out_ah:.1f} Ah out, {entry.ah_in:.1f} Ah in")
    elif entry.amp_hours is not None:
        parts.append(f"{entry.amp_hours:+.1f} Ah out")
    if entry.gauge_pct is not None:
        parts.append(f"gauge {entry.gauge_pct:.0f} %")
    return f"{told.tag}: {', '.join(parts)}"


def _swap(told: _Told) -> str:
    entry = told.entry
    out = told.tags.get(entry.battery_out) if entry.battery_out else None
    back = f", {out} out" if out else ""
    to = f" to {entry.place_out}" if entry.place_out else ""
    return f"{told.where}: {told.tag} in{back}{to}"


def _move(told: _Told) -> str:
    place = told.entry.place
    return f"{told.tag} to {place}" if place else f"{told.tag} on the way"


def _move_state(told: _Told) -> str:
    return f"{told.entry.get_kind_display()}: {told.tag} to {told.where}"


def _source(told: _Told) -> str:
    key = told.entry.source_key
    name = told.names.get(key, "a source") if key else "a source"
    return f"{name} {'on' if told.entry.is_on else 'off'}"


def _power_step(told: _Told) -> str:
    power = "full power" if told.entry.step == "full" else "low power"
    return f"{told.where}: {power}"


def _panel(told: _Told) -> str:
    entry = told.entry
    parts = [] if entry.oktas is None else [f"sky {sky_words(entry.oktas)}"]
    owner = entry.station_key or entry.source_key
    if entry.amps is not None:
        name = told.names.get(owner) if owner else None
        of = f"panels of {name}" if name else "panels"
        at = "" if entry.volts is None else f" at {entry.volts:.1f} V"
        tilt = "" if entry.tilt is None else f", tilted {entry.tilt:.0f}°"
        parts.append(f"{of} {entry.amps:.1f} A{at}{tilt}")
    return "; ".join(parts)


def _fault(told: _Told) -> str:
    entry = told.entry
    seen = SYMPTOMS[entry.symptom].name if entry.symptom in SYMPTOMS else "fault"
    on = ", ".join(filter(None, (told.where, told.tag)))
    return "; ".join([f"{on}: {seen}" if on else seen, *_answer(entry)])


def _answer(entry: FieldEntry) -> list[str]:
    """What a fault was, and what was done."""
    cause = [f"cause: {CAUSES[entry.cause].name}"] if entry.cause in CAUSES else []
    return [*cause, *([f"done: {entry.fix}"] if entry.fix else [])]


_SAID: dict[str, Callable[[_Told], str]] = {
    Kind.READING: _reading,
    Kind.SWAP: _swap,
    Kind.MOVE: _move,
    Kind.SOURCE: _source,
    Kind.POWER_STEP: _power_step,
    Kind.PANEL: _panel,
    Kind.FAULT: _fault,
    Kind.FIXED: lambda told: "; ".join(_answer(told.entry)),
    Kind.SEEN: lambda told: (
        f"{told.where or 'The yard'}, {told.entry.note}: {told.entry.actor} is on it"
    ),
    Kind.NOTE: lambda told: told.entry.note,
    Kind.STRIKE: lambda told: told.entry.note,
    **dict.fromkeys(MOVE_STATES, _move_state),
}
