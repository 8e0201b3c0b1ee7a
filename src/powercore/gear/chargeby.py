"""Charge-by: when each battery must begin to charge to be full at departure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from powercore.gear.fits import UNPLUG_WHEN_FULL, Fit, Verdict, fit_of, hours_to_full
from powercore.gear.things import SUPPLY, Battery, Charger


@dataclass(frozen=True, slots=True, kw_only=True)
class Watch:
    """A stretch in which somebody watches; hours before departure, positive."""

    #: Hours before departure at which it begins and ends. [h]
    from_h: float
    to_h: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Slot:
    """One battery on one charger; hours before departure, positive."""

    battery: str
    charger: str
    #: Latest start and the end it then has. [h]
    start_h: float
    end_h: float
    setting: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Timetable:
    """Which battery must start when, on which charger; and which can't be full."""

    slots: tuple[Slot, ...]
    #: Battery tag and why it can't be full in time.
    cant: tuple[tuple[str, str], ...]


def must_be_watched(charger: Charger, battery: Battery, fit: Fit) -> bool:
    """Whether somebody must be there: lithium, and whatever is ended by hand."""
    by_hand = charger.role == SUPPLY or UNPLUG_WHEN_FULL in fit.mind
    return battery.pack.chem.is_lithium or by_hand


def charge_by(
    batteries: Sequence[Battery],
    chargers: Sequence[Charger],
    *,
    soc: Mapping[str, float],
    hours_left: float,
    watches: Sequence[Watch],
) -> Timetable:
    """
    Count back from departure: the latest moment each battery must start.

    The longest charge is placed first, on the charger where it can start latest,
    in one stretch inside a watch; two batteries never share a charger at once.
    Every start is as late as what is already placed allows, so a battery that has
    no place left is named with the reason. It is a heuristic: a battery refused
    may still fit by another order.

    Parameters
    ----------
    batteries, chargers : sequence
        What is to be filled, and with what.
    soc : mapping
        State of charge by tag; a battery that is not named counts as at reserve.
    hours_left : float
        From now to departure. [h]
    watches : sequence of Watch
        When somebody watches; lithium charges only then, and so does what must be
        ended by hand. Empty means nobody does.
    """
    todo, cant = [], []
    for battery in batteries:
        charge = soc.get(battery.tag, battery.pack.reserve_soc)
        fits = [
            (charger, fit, hours_to_full(charger, battery, charge))
            for charger in chargers
            for fit in [fit_of(charger, battery)]
            if fit.verdict is not Verdict.NEVER
        ]
        if charge >= 0.995:
            continue
        if not fits:
            cant.append((battery.tag, "no charger fits it"))
            continue
        fits = [one for one in fits if one[1].fills_to >= 0.995]
        if not fits:
            cant.append((battery.tag, "what fits it never fills it to the end"))
            continue
        todo.append((min(hours for _, _, hours in fits), battery, fits))
    todo.sort(key=lambda item: (-item[0], item[1].tag))
    taken: dict[str, list[tuple[float, float]]] = {c.tag: [] for c in chargers}
    slots = []
    for _, battery, fits in todo:
        best = _latest_slot(battery, fits, hours_left, watches, taken)
        if best is None:
            cant.append((battery.tag, _why_not(battery, fits)))
            continue
        taken[best.charger].append((best.start_h, best.end_h))
        slots.append(best)
    slots.sort(key=lambda slot: (-slot.start_h, slot.battery))
    return Timetable(slots=tuple(slots), cant=tuple(cant))


#: A charger, how it fits a battery, and how long it takes. [h]
_Ways = Sequence[tuple[Charger, Fit, float]]


def _latest_slot(
    battery: Battery,
    fits: _Ways,
    hours_left: float,
    watches: Sequence[Watch],
    taken: Mapping[str, list[tuple[float, float]]],
) -> Slot | None:
    """The latest place for a battery beside what is placed already."""
    best: Slot | None = None
    any_time = (Watch(from_h=hours_left, to_h=0.0),)
    for charger, fit, hours in fits:
        open_h = watches if must_be_watched(charger, battery, fit) else any_time
        start = _latest(hours, hours_left, open_h, taken[charger.tag])
        if start is not None and (best is None or start < best.start_h):
            best = Slot(
                battery=battery.tag,
                charger=charger.tag,
                start_h=start,
                end_h=start - hours,
                setting=fit.why,
            )
    return best


def _why_not(battery: Battery, fits: _Ways) -> str:
    why = f"needs {min(h for _, _, h in fits):.1f} h on a charger; none is free"
    if all(must_be_watched(c, battery, fit) for c, fit, _ in fits):
        why += " for so long while somebody watches"
    return why


def _latest(
    hours: float,
    hours_left: float,
    watches: Sequence[Watch],
    taken: Sequence[tuple[float, float]],
) -> float | None:
    """Smallest hours-before-departure at which a charge can start."""
    best: float | None = None
    for watch in watches:
        first = min(watch.from_h, hours_left)
        # It ends at the end of the watch, or where another charge begins.
        ends = [max(0.0, watch.to_h)] + [start for start, _ in taken]
        for end in ends:
            start = end + hours
            inside = end >= watch.to_h - 1e-9 and start <= first + 1e-9
            free = all(start <= to + 1e-9 or end >= at - 1e-9 for at, to in taken)
            if inside and free and (best is None or start < best):
                best = start
    return best
