"""What a club's things are called, and how people say it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, tzinfo

from powercore.values import without_zeros

#: So much of a name is enough, where no other begins alike. [letters]
ENOUGH = 3


def plain(name: str) -> str:
    """A name without case, blanks and leading zeros in its numbers."""
    bare = re.sub(r"[\s_-]+", "", name.casefold())
    return without_zeros(bare)


@dataclass(frozen=True, slots=True, kw_only=True)
class Names:
    """Everything that a line may name, and what is known of it."""

    #: Tags of batteries, with the volts between which each is usually read.
    batteries: Mapping[str, tuple[float, float]]
    stations: tuple[str, ...]
    #: The same of a battery that nobody knows.
    unknown_v: tuple[float, float]
    bays: tuple[str, ...] = ()
    rack: str = "Yard rack"
    sources: tuple[str, ...] = ()
    #: What feeds a station now, by its name.
    feeds: Mapping[str, str] = field(default_factory=dict)
    #: The clock on the wall, and its zone; an hour that is there twice has its `fold`.
    now: datetime
    zone: tzinfo = UTC

    def battery(self, said: str) -> str | None:
        """Return the tag that was said, as the club writes it."""
        return _like(said, self.batteries)

    def bay(self, said: str) -> str | None:
        """Return the bay that was said."""
        return _like(said, self.bays)

    def numbered(self, digits: str) -> list[str]:
        """Batteries whose tag ends in a number."""
        bare = str(int(digits))
        return [tag for tag in self.batteries if re.sub(r"\D", "", plain(tag)) == bare]

    def volts_of(self, tag: str) -> tuple[float, float]:
        """Volts between which a battery is usually read."""
        return self.batteries.get(tag, self.unknown_v)


def _like(said: str, names: Iterable[str]) -> str | None:
    wanted = plain(said)
    return next((name for name in names if plain(name) == wanted), None)


def calls(names: Iterable[str]) -> dict[str, str]:
    """
    Return what each name may be called: all of it, a word, or a beginning.

    A word or a beginning counts only where no other name has it too.
    """
    every = list(names)
    found: dict[str, str | None] = {}
    for name in every:
        words = name.casefold().split()
        short = {word[:size] for word in words for size in range(ENOUGH, len(word) + 1)}
        for call in short:
            found[call] = name if call not in found or found[call] == name else None
    for name in every:
        found[" ".join(name.casefold().split())] = name
    return {call: name for call, name in found.items() if name is not None}
