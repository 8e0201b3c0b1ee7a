"""Rules over kits and what they are joined to; each gives findings."""

from powercore.gear.checks import (  # noqa: F401 - each enters its rules
    charge_ways,
    charging,
    fusing,
    numbers,
    panels,
    parallel,
    sources,
    travel,
    upkeep,
    usb,
    volts,
    wires,
)
from powercore.gear.checks.base import (
    CAUTION,
    NOTE,
    RULES,
    STOP,
    Finding,
    Rule,
    Severity,
    findings_of,
)

__all__ = [
    "CAUTION",
    "NOTE",
    "RULES",
    "STOP",
    "Finding",
    "Rule",
    "Severity",
    "findings_of",
]
