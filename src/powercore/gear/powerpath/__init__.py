"""
The power path of a kit: from its batteries through fuses and wires to each load.

A tree of parts hangs on the terminals of a battery or of a set in parallel. The
volts and amps at each part are found for one state: a charge, a temperature, and
what each load does.
"""

from powercore.gear.powerpath.kit import Charge, Conditions, Kit, Member, Temporary
from powercore.gear.powerpath.parts import (
    At,
    Block,
    Cable,
    Converts,
    Draws,
    Feeds,
    Fuse,
    Joint,
    Part,
    PathError,
    State,
    Switch,
)
from powercore.gear.powerpath.solve import (
    Weakest,
    hours_given,
    key_down,
    loaded,
    low_power,
    lowest_soc_for,
    quits_at,
    receiving,
    solve,
    sustained,
    try_solve,
    weakest_link,
)

__all__ = [
    "At",
    "Block",
    "Cable",
    "Charge",
    "Conditions",
    "Converts",
    "Draws",
    "Feeds",
    "Fuse",
    "Joint",
    "Kit",
    "Member",
    "Part",
    "PathError",
    "State",
    "Switch",
    "Temporary",
    "Weakest",
    "hours_given",
    "key_down",
    "loaded",
    "low_power",
    "lowest_soc_for",
    "quits_at",
    "receiving",
    "solve",
    "sustained",
    "try_solve",
    "weakest_link",
]
