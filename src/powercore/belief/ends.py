"""What people say of a battery's end, and of what was not the battery's."""

from __future__ import annotations

import re

# Words of the trade; common practice, no source.
_END = re.compile(
    r"\b(flat|empty|dead|drained|died|exhausted|tripped|r[au]n (?:down|out)|quit|lvd"
    r"|low volt\w*|undervolt\w*|under-?voltage|cut[- ]?(?:off|out)|gave up)\b",
    re.IGNORECASE,
)
#: What words of an end always have, whatever else they are: for a first, quick look.
END_HINT = (
    "flat|empty|dead|drain|died|exhaust|tripped|r[au]n (down|out)|quit|lvd|low volt"
    "|under-?volt|cut|gave up"
)
#: Keys of `powercore.gear.faults.CAUSES`, and the words that blame them.
_BLAMES = {
    "plug": r"plug\w*|leads?|cables?|wires?|connector\w*|joints?|terminals?|loose",
    "fuse": r"fuses?|breakers?",
    "switch": r"switch\w*",
    "load": r"antenna\w*|coax|computer|laptop",
    "charging": r"generator|mains|charger",
}
_NOT = re.compile(r"\b(not|isn'?t|never|no|wasn'?t)\s+(?:\w+\s+)?$", re.IGNORECASE)

#: How charged a battery is of which somebody says that it is at its end, one standard
#: deviation, and how often that is not so. Common practice, no source.
END_SOC, END_SD, END_WRONG = 0.04, 0.05, 0.001


def says_end(text: str) -> bool:
    """
    Whether words about a station say that its battery was at its end.

    "Battery flat, tripped" does; "loose plug", "breaker tripped" and "not flat" don't.
    """
    if blamed_in(text):
        return False
    return any(not _NOT.search(text[: found.start()]) for found in _END.finditer(text))


def blamed_in(text: str) -> str:
    """What words about a station blame beside its battery, by its cause; else ""."""
    for cause, words in _BLAMES.items():
        if re.search(rf"\b({words})\b", text, re.IGNORECASE):
            return cause
    return ""
