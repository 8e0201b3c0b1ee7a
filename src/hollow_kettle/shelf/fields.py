"""
What a field of a kind of asset is, and how its lists are read.

A field is stated once; its range stands with the model, which holds it in the
database too.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from powercore.limits import Limit
from powercore.physics.chemistry import CHEMISTRIES

from .models.details import Detail

CHEMISTRY_WORDS = {
    "lifepo4": ("lifepo", "lfp", "life", "lithium iron phosphate", "lifepo₄"),
    "nmc": ("li-ion", "liion", "lithium-ion", "li-ion (nmc)"),
    "lipo": ("lithium polymer", "li-po"),
    "agm": ("agm lead-acid", "sla", "sealed lead-acid", "vrla"),
    "gel": ("gel lead-acid",),
    "flooded": ("flooded lead-acid", "lead-acid", "wet", "lead acid"),
    "nimh": ("ni-mh", "nickel metal hydride"),
    "alkaline": ("alkaline (not rechargeable)", "primary"),
}
assert set(CHEMISTRY_WORDS) == set(CHEMISTRIES)  # noqa: S101 - each needs its words

NUMBER, WHOLE, TEXT, LONG, CHOICE, YES, DATE, TIME = (
    "number",
    "whole",
    "text",
    "long",
    "choice",
    "yes",
    "date",
    "time",
)
CHEMISTRY_LIST, LEVELS, CELLS = "chemistries", "levels", "cells"


@dataclass(frozen=True, slots=True, kw_only=True)
class Spec:
    """One field of a kind, as forms, tables and pages need it."""

    name: str
    label: str
    how: str = TEXT
    limit: Limit | None = None
    most: int = 120
    choices: tuple[tuple[str, str], ...] = ()
    #: Other spellings of the choices, in tables.
    spellings: Mapping[str, Iterable[str]] = field(default_factory=dict)
    is_needed: bool = False
    help: str = ""
    aliases: tuple[str, ...] = ()
    #: Where it is asked for: "both", "form" or "table".
    asked: str = "both"
    #: What is only for those who need it stands behind "more".
    is_fine: bool = False

    @property
    def unit(self) -> str:
        """Its unit."""
        return self.limit.unit if self.limit else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Kind:
    """A kind of asset: its table and its fields."""

    key: str
    name: str
    plural: str
    model: type[Detail]
    specs: tuple[Spec, ...]
    #: Completes and checks what was entered; raises ValidationError by field.
    complete: Callable[[dict[str, Any]], dict[str, Any]] = dict
    about: Callable[[Any], str] = lambda detail: ""

    @property
    def attribute(self) -> str:
        """Name of its details on an asset."""
        return self.model.__name__.lower()

    @property
    def every(self) -> tuple[Spec, ...]:
        """All its fields, those of any asset too."""
        return (*FIRST, *self.specs, *LAST)

    @property
    def own_names(self) -> tuple[str, ...]:
        """Names of the fields in its own table."""
        own = {field.name for field in self.model._meta.get_fields()}
        return tuple(spec.name for spec in self.specs if spec.name in own)


FIRST = (
    Spec(
        name="tag",
        label="Tag",
        most=16,
        is_needed=True,
        help="Begin with a letter, so that it isn't heard as hours: K11.",
        aliases=("id", "label", "battery"),
    ),
    Spec(name="name", label="Name", most=80, help="What people call it."),
)
LAST = (
    Spec(name="owner", label="Owner", most=80, help="Club or member."),
    Spec(
        name="home",
        label="Home",
        most=80,
        help="Where it is kept.",
        aliases=("place", "location"),
    ),
    Spec(
        name="hold",
        label="Hold, because",
        most=200,
        asked="table",
        help="What is on hold is never planned; leave empty if it may be used.",
    ),
    Spec(
        name="mass_kg",
        label="Mass",
        how=NUMBER,
        limit=Limit(0.001, 2000, "kg"),
        aliases=("mass", "kg"),
        help="For what somebody has to carry.",
    ),
    Spec(
        name="volume_l",
        label="Volume",
        how=NUMBER,
        limit=Limit(0.01, 2000, "L"),
        aliases=("volume", "litres", "liters"),
        help="Length × width × height in decimetres, for what box it fits.",
        is_fine=True,
    ),
    Spec(
        name="made_on",
        label="Built or bought",
        how=DATE,
        help="Like 2024-05-01.",
        is_fine=True,
    ),
    Spec(
        name="cost",
        label="Cost",
        how=NUMBER,
        limit=Limit(0, 1_000_000),
        help="What it cost, in your currency.",
        is_fine=True,
    ),
    Spec(
        name="note",
        label="Note",
        how=LONG,
        most=2000,
        aliases=("notes", "comment"),
        help="Anything else.",
    ),
)
ASSET_NAMES = tuple(spec.name for spec in (*FIRST, *LAST))


def parse_list(text: str) -> tuple[str, ...]:
    """Split a list separated by commas; blanks don't matter."""
    return tuple(part.strip() for part in text.split(",") if part.strip())


def parse_chemistries(text: str) -> tuple[str, ...]:
    """
    Read chemistries separated by commas.

    Raises
    ------
    ValueError
        Naming the word that is none.
    """
    known = {
        spelling.casefold(): key
        for key, spellings in CHEMISTRY_WORDS.items()
        for spelling in (key, *spellings)
    }
    found = []
    for part in parse_list(text):
        key = known.get(part.casefold())
        if key is None:
            raise ValueError(
                f"'{part[:30]}' is not one of {', '.join(CHEMISTRY_WORDS)}"
            )
        found.append(key)
    return tuple(dict.fromkeys(found))


def parse_levels(text: str) -> tuple[tuple[float, float], ...]:
    """
    Read levels like 5x3, 20x5 as (volts, amps).

    Raises
    ------
    ValueError
        Naming the part that is none.
    """
    found = []
    for part in parse_list(text):
        volts, _, amps = part.lower().replace("×", "x").partition("x")
        try:
            level = (float(volts), float(amps))
        except ValueError:
            level = (0.0, 0.0)
        if not (1 <= level[0] <= 60 and 0.1 <= level[1] <= 10):
            raise ValueError(f"'{part[:20]}' is not volts × amps like 20x3")
        found.append(level)
    return tuple(found)


def parse_cells(text: str) -> tuple[int, ...]:
    """
    Read counts of cells separated by commas.

    Raises
    ------
    ValueError
        Naming the part that is none.
    """
    found = []
    for part in parse_list(text):
        if not part.isdecimal() or not 1 <= int(part) <= 120:
            raise ValueError(f"'{part[:20]}' is not a count of cells from 1 to 120")
        found.append(int(part))
    return tuple(found)


#: How each kind of list is read, and written back.
LISTS: dict[str, Callable[[str], tuple[Any, ...]]] = {
    CHEMISTRY_LIST: parse_chemistries,
    LEVELS: parse_levels,
    CELLS: parse_cells,
}


def tidy_list(how: str, text: str) -> str:
    """Read a list and write it in one way; ValueError when it can't be read."""
    parts = LISTS[how](text)
    if how == LEVELS:
        return ", ".join(f"{volts:g}x{amps:g}" for volts, amps in parts)
    return ", ".join(map(str, parts))
