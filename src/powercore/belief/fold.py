"""
The fold: from what people noted to where every battery was, and what disagrees.

People say what they did, not what follows from it: a battery that is put somewhere
has left where it was, what was in its place is on its way, and a bay that takes one
was free. Only what can't be so is a conflict.

A pure function of the entries. The order in which they arrived, and an entry
arriving twice, change nothing; a struck entry counts as never written, whether
its strike came before or after it.
"""

from __future__ import annotations

from collections.abc import Iterable, Set
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from itertools import zip_longest
from typing import TypeVar
from uuid import UUID

#: Two reports of one swap lie at most this far apart. Common practice, no source.
SAME_SWAP = timedelta(minutes=30)

SWAP, MOVE, STRIKE, SOURCE = "swap", "move", "strike", "source"
OFF_AIR, BACK, POWER_STEP, SHED, RESTORED = (
    "off_air",
    "back",
    "power_step",
    "shed",
    "restored",
)
#: What an entry about a station begins (True) or ends.
_TURNS = {
    OFF_AIR: ("off_air", True),
    BACK: ("off_air", False),
    SHED: ("shed", True),
    RESTORED: ("shed", False),
}

Key = TypeVar("Key")


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One entry of the log, as far as the fold needs it."""

    uid: UUID
    kind: str
    at: datetime
    battery: UUID | None = None
    #: The battery that came out, where a swap says so.
    battery_out: UUID | None = None
    place: UUID | None = None
    #: Where the battery that came out went; None means it is on the way.
    place_out: UUID | None = None
    station: UUID | None = None
    #: A source of the yard that was switched, and whether it runs from then on.
    source: UUID | None = None
    is_on: bool | None = None
    #: Power step: "full", "low" or "watch".
    step: str = ""
    #: Cloud in eighths, where somebody looked.
    oktas: float | None = None
    strikes: UUID | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Placement:
    """A battery at a place (None: on the way) from a time on, perhaps until one."""

    battery: UUID
    place: UUID | None
    start: datetime
    end: datetime | None
    entry: UUID


@dataclass(frozen=True, slots=True, kw_only=True)
class Conflict:
    """Two entries, or an entry and what was believed, that can't both be right."""

    kind: str
    at: datetime
    place: UUID | None
    battery: UUID | None
    other_battery: UUID | None
    entry: UUID


@dataclass(frozen=True, slots=True, kw_only=True)
class SkySpan:
    """A stretch of which somebody noted the cloud. [eighths]"""

    oktas: float
    start: datetime
    end: datetime
    entry: UUID


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """A stretch in which a station ran short in one way."""

    station: UUID
    #: "off_air", "low_power" or "shed".
    what: str
    start: datetime
    end: datetime | None
    entry: UUID


@dataclass(frozen=True, slots=True, kw_only=True)
class Outage:
    """A stretch in which a source gave nothing: switched off, or it failed."""

    source: UUID
    start: datetime
    end: datetime | None
    entry: UUID


@dataclass(slots=True)
class _State:
    exclusive: Set[UUID]
    bays: Set[UUID]
    at: dict[UUID, Placement] = field(default_factory=dict)
    holder: dict[UUID, UUID] = field(default_factory=dict)
    placements: list[Placement] = field(default_factory=list)
    conflicts: list[Conflict] = field(default_factory=list)

    def conflict(
        self,
        kind: str,
        entry: Entry,
        battery: UUID | None,
        other: UUID | None,
        place: UUID | None = None,
    ) -> None:
        self.conflicts.append(
            Conflict(
                kind=kind,
                at=entry.at,
                place=place or entry.place,
                battery=battery,
                other_battery=other,
                entry=entry.uid,
            )
        )

    def resume(self, placement: Placement) -> None:
        """Let a battery be where it was, as if its entry had been folded."""
        self.at[placement.battery] = replace(placement, end=None)
        if placement.place is not None and placement.place in self.exclusive:
            self.holder[placement.place] = placement.battery

    def put(self, battery: UUID, place: UUID | None, entry: Entry) -> None:
        """End where a battery was and let it be at a place."""
        before = self.at.get(battery)
        if before is not None:
            if before.place == place:
                return
            self._close(before, entry.at)
        if place is not None and place in self.exclusive:
            other = self.holder.get(place)
            if other is not None and other != battery:
                self._close(self.at[other], entry.at)
                self._open(other, None, entry)
            self.holder[place] = battery
        self._open(battery, place, entry)

    def _open(self, battery: UUID, place: UUID | None, entry: Entry) -> None:
        self.at[battery] = Placement(
            battery=battery, place=place, start=entry.at, end=None, entry=entry.uid
        )

    def _close(self, placement: Placement, end: datetime) -> None:
        if placement.place is not None and (
            self.holder.get(placement.place) == placement.battery
        ):
            del self.holder[placement.place]
        if end > placement.start:
            self.placements.append(replace(placement, end=end))

    def result(self) -> tuple[list[Placement], list[Conflict]]:
        every = [*self.placements, *self.at.values()]
        return sorted(every, key=lambda p: (p.start, p.battery)), self.conflicts


def standing(entries: Iterable[Entry]) -> list[Entry]:
    """Return the entries that count, in order: once each, and not struck."""
    unique = {entry.uid: entry for entry in entries}
    struck = {
        entry.strikes
        for entry in unique.values()
        if entry.kind == STRIKE and entry.strikes is not None
    }
    kept = [
        entry
        for entry in unique.values()
        if entry.kind != STRIKE and entry.uid not in struck
    ]
    return sorted(kept, key=lambda entry: (entry.at, entry.uid))


@dataclass(frozen=True, slots=True, kw_only=True)
class Before:
    """What a fold goes on from: how things stood before its first entry."""

    #: Where each battery was then, as it was found; their ends are open.
    open: tuple[Placement, ...] = ()
    #: Swaps shortly before, which a second report may repeat, and moves between them.
    recent: tuple[Entry, ...] = ()


def fold(
    entries: Iterable[Entry],
    exclusive: Set[UUID],
    bays: Set[UUID] = frozenset(),
    before: Before | None = None,
) -> tuple[list[Placement], list[Conflict]]:
    """
    Fold entries into placements that never overlap, and conflicts.

    Parameters
    ----------
    entries : iterable of Entry
        In any order; other kinds than swap, move and strike are passed over.
    exclusive : set of UUID
        Places that hold one battery at a time: positions and bays.
    bays : set of UUID
        Those of them that a battery leaves without anybody saying so.
    before : Before, optional
        How things stood before the first of them; none: nothing was known.

    Returns
    -------
    placements, conflicts
        Per battery without gaps from its first entry on, or from where it was before.
    """
    state = _State(exclusive, bays)
    last_swap: dict[UUID, Entry] = {}
    before = before or Before()
    for placement in before.open:
        state.resume(placement)
    for entry in standing(before.recent):
        _remember(last_swap, entry)
    for entry in standing(entries):
        if entry.battery is None or entry.kind not in (SWAP, MOVE):
            continue
        if entry.kind == MOVE:
            state.put(entry.battery, entry.place, entry)
        elif entry.place is not None:
            _fold_swap(state, entry, last_swap.get(entry.place))
        _remember(last_swap, entry)
    return state.result()


def _remember(last_swap: dict[UUID, Entry], entry: Entry) -> None:
    """Keep the last swap of each place; a move there ends that, a repeat does not."""
    if entry.battery is None:
        return
    if entry.kind == SWAP and entry.place is not None:
        if not _repeats(last_swap.get(entry.place), entry):
            last_swap[entry.place] = entry
    elif entry.kind == MOVE:
        for place in (entry.place, entry.place_out):
            if place is not None:
                last_swap.pop(place, None)


def _repeats(first: Entry | None, second: Entry) -> bool:
    """Whether a swap is the second report of another."""
    return (
        first is not None
        and first.battery == second.battery
        and second.at - first.at <= SAME_SWAP
    )


def _fold_swap(state: _State, entry: Entry, before: Entry | None) -> None:
    place, battery = entry.place, entry.battery
    if place is None or battery is None:
        return
    if before is not None and _repeats(before, entry):
        _merge_second_report(state, before, entry)
        return
    held = state.holder.get(place)
    out = entry.battery_out
    if out is not None and held is not None and held != out:
        state.conflict("other_battery_was_there", entry, out, held)
        state.put(held, None, entry)
    came_out = out if out is not None else held
    was = state.at.get(battery)
    if (
        was is not None
        and was.place is not None
        and was.place != place
        and was.place in state.exclusive - state.bays
    ):
        # It still served elsewhere, and nobody said what serves there now.
        state.conflict("battery_was_elsewhere", entry, battery, None, was.place)
    if came_out is not None and came_out != battery:
        state.put(came_out, entry.place_out, entry)
    state.put(battery, place, entry)


def _merge_second_report(state: _State, before: Entry, entry: Entry) -> None:
    """Two people noted one swap: keep the first, take what it left out."""
    outs = {before.battery_out, entry.battery_out} - {None}
    if len(outs) == 2:
        state.conflict(
            "swap_reports_differ", entry, entry.battery_out, before.battery_out
        )
    out = entry.battery_out
    if out is None:
        return
    at = state.at.get(out)
    if entry.place_out is not None and (at is None or at.place is None):
        state.put(out, entry.place_out, entry)
    elif at is None:
        state.put(out, None, entry)


def spans(entries: Iterable[Entry]) -> list[Span]:
    """
    Fold the entries about stations into stretches off the air, low or shed.

    Struck entries don't count; what has not ended has None as its end.
    """
    turns = []
    for entry in standing(entries):
        if entry.station is None:
            continue
        if entry.kind == POWER_STEP:
            turns.append(((entry.station, "low_power"), entry.step != "full", entry))
        elif entry.kind in _TURNS:
            what, begins = _TURNS[entry.kind]
            turns.append(((entry.station, what), begins, entry))
    found = [
        Span(station=station, what=what, start=start.at, end=end, entry=start.uid)
        for (station, what), start, end in _stretches(turns)
    ]
    return sorted(found, key=lambda span: (span.start, span.station, span.what))


def outages(entries: Iterable[Entry]) -> list[Outage]:
    """
    Fold the entries about sources into stretches in which they gave nothing.

    What has not ended has None as its end: a source stays off until somebody says it
    is on again, whatever its plan says.
    """
    turns = [
        (entry.source, not entry.is_on, entry)
        for entry in standing(entries)
        if entry.kind == SOURCE and entry.source is not None
    ]
    found = [
        Outage(source=source, start=start.at, end=end, entry=start.uid)
        for source, start, end in _stretches(turns)
    ]
    return sorted(found, key=lambda outage: (outage.start, outage.source))


def skies(entries: Iterable[Entry], believed: timedelta) -> list[SkySpan]:
    """
    Fold looks at the sky into stretches: until the next look, at most so long.

    Of two looks at one moment, the later key counts.
    """
    looks = {e.at: e for e in standing(entries) if e.oktas is not None}
    ordered = list(looks.values())
    ends = [entry.at for entry in ordered[1:]]
    found = []
    for entry, end in zip_longest(ordered, ends):
        until = entry.at + believed
        found.append(
            SkySpan(
                oktas=entry.oktas or 0.0,
                start=entry.at,
                end=until if end is None else min(end, until),
                entry=entry.uid,
            )
        )
    return found


def _stretches(
    turns: Iterable[tuple[Key, bool, Entry]],
) -> list[tuple[Key, Entry, datetime | None]]:
    """
    Fold what begins (True) and ends into stretches: the first that began one, its end.

    One that ends as it begins is none.
    """
    opened: dict[Key, Entry] = {}
    found: list[tuple[Key, Entry, datetime | None]] = []
    for key, begins, entry in turns:
        if begins:
            opened.setdefault(key, entry)
        elif key in opened:
            start = opened.pop(key)
            if entry.at > start.at:
                found.append((key, start, entry.at))
    return [*found, *((key, start, None) for key, start in opened.items())]
