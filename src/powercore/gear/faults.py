"""
Faults as people meet them: the symptom, what to look at first, the causes found.

Most faults are connections, leads, plugs and switches, not electronics; so what to
look at first begins there. Common practice, no source.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Symptom:
    """What somebody sees, and what to do about it first."""

    name: str
    first: str
    #: Whether people come before equipment: said first, as a warning.
    is_danger: bool = False
    #: Whether a battery that shows it must not be used until somebody releases it.
    holds: bool = False


SYMPTOMS: dict[str, Symptom] = {
    "hot": Symptom(
        name="hot, smells, smokes, swells",
        first="People away. Load and charger off, the battery unplugged if that can be "
        "done safely; do not move or charge a swollen or smoking one. Follow its "
        "maker's instructions and the site's fire plan.",
        is_danger=True,
        holds=True,
    ),
    "no_power": Symptom(
        name="no power",
        first="Switch, fuse and plugs from the battery on; then its protection: one "
        "that has tripped shows 0 V and is not empty.",
    ),
    "quits": Symptom(
        name="quits on transmit",
        first="Volts at the radio key down against volts at the battery: the "
        "difference is lead, fuse and plugs. Then low power, then another battery.",
    ),
    "blows": Symptom(
        name="fuse blows or breaker trips",
        first="Disconnect before you look. Find what is short or reversed; put in the "
        "same rating, never a larger one.",
        is_danger=True,
    ),
    "no_charge": Symptom(
        name="doesn't charge",
        first="Source running, charger's setting, plugs, panel's shade; a tripped "
        "battery may need a charger that wakes it.",
    ),
    "noise": Symptom(
        name="noise in the receiver",
        first="Switch off one thing at a time: controller, converter, charger, "
        "computer. Move it or its leads before you blame it.",
    ),
    "reads_wrong": Symptom(
        name="meter reads wrong",
        first="What it shows with nothing flowing; then beside a second meter.",
    ),
    "other": Symptom(name="something else", first="Note what was seen, and when."),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Cause:
    """What a fault turned out to be."""

    name: str
    #: "connection" or "equipment", as statistics count it; empty: neither.
    group: str = ""


CAUSES: dict[str, Cause] = {
    "plug": Cause(name="plug, lead or terminal", group="connection"),
    "fuse": Cause(name="fuse or breaker", group="connection"),
    "switch": Cause(name="switch or setting", group="connection"),
    "battery": Cause(name="battery", group="equipment"),
    "charging": Cause(name="charger, controller or source", group="equipment"),
    "load": Cause(name="radio or other load", group="equipment"),
    "placed": Cause(name="where things stood or ran"),
    "none": Cause(name="nothing found"),
}


def symptom_of(key: str) -> Symptom:
    """Return a symptom by its key; what nobody knows is something else."""
    return SYMPTOMS.get(key, SYMPTOMS["other"])
