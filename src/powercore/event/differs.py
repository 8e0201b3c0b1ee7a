"""What is otherwise in one event than in another, in words."""

from __future__ import annotations

import dataclasses
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from powercore.event.scenario import Scenario, without_sky

#: Fields whose names don't say what people call them.
WORDS = {
    "span_min": "its length",
    "starts_at": "its start",
    "lateness_min": "the usual lateness",
    "settle_min": "the rest before charging",
    "yard_cold_c": "the cold in the yard",
    "two_at_night": "who walks in the dark",
    "is_own_power": "own power only",
    "is_under_way": "whether it runs",
    "loads": "equipment",
    "openings": "open hours",
    "walk_min": "the walk",
    "changeover_s": "the changeover",
    "device_min_v": "the volts its devices need",
    "device_max_v": "the volts its devices stand",
    "disconnect_v": "the disconnect",
    "path_ohm": "the feed",
    "spares": "room for spares",
    "weight": "its weight in its tier",
    "cold_c": "the cold there",
    "pack": "what its battery is trusted with",
    "mass_kg": "its mass",
    "is_on_hold": "the hold",
    "max_discharge_a": "what it may give",
    "max_charge_a": "how fast it may charge",
    "max_w": "its power",
    "windows": "when it runs",
    "energy_wh": "what it holds",
    "chemistries": "what it charges",
    "refuses": "what it must not charge",
    "unwatched_why": "charging unwatched",
    "members": "which batteries are joined",
}
#: Fields that hold the parts of an event, in the order in which they are named.
PARTS = ("stations", "batteries", "sources", "bays", "crews")


def differences(before: Scenario, now: Scenario) -> list[str]:
    """
    Say what is otherwise now than before, the sky and what rotations keep aside.

    Returns
    -------
    list of str
        "Esker: open hours", "K05 is new", "crew 2 (walks) is gone"; nothing where
        the events are the same.
    """
    one, other = without_sky(before), without_sky(now)
    found = [_words(name) for name in _otherwise(one, other) if name not in PARTS]
    for name in PARTS:
        found += _of_parts(getattr(one, name), getattr(other, name))
    return found


def _of_parts(before: Iterable[Any], now: Iterable[Any]) -> Iterator[str]:
    """What is otherwise in parts of an event, each by its name."""
    old, new = _by_key(before), _by_key(now)
    for key in (*old, *(key for key in new if key not in old)):
        if key not in new:
            yield f"{_name(old[key][0])} is gone"
        elif key not in old:
            yield f"{_name(new[key][0])} is new"
        elif len(old[key]) != len(new[key]):
            yield f"{_name(new[key][0])}: times"
        else:
            names = {
                name
                for pair in zip(old[key], new[key], strict=True)
                for name in _otherwise(*pair)
            }
            if names:
                words = ", ".join(sorted(map(_words, names)))
                yield f"{_name(new[key][0])}: {words}"


def _by_key(parts: Iterable[Any]) -> Mapping[str, list[Any]]:
    """Parts by what tells them apart; a crew may be on duty more than once."""
    found: dict[str, list[Any]] = defaultdict(list)
    for part in parts:
        found[getattr(part, "key", "") or _name(part)].append(part)
    return found


def _words(field: str) -> str:
    """What people call a field."""
    return WORDS.get(field, field.replace("_", " "))


def _name(part: Any) -> str:
    if hasattr(part, "does"):
        return f"{part.name} ({part.does})"
    return str(getattr(part, "name", "") or part.tag)


def _otherwise(one: Any, other: Any) -> list[str]:
    """Fields of two values that are not the same."""
    names = [field.name for field in dataclasses.fields(one)]
    return [name for name in names if getattr(one, name) != getattr(other, name)]
