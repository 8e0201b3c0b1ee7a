"""Words in a note that put a thing on hold until somebody looked at it."""

from __future__ import annotations

import re

#: What is said of a pack that must not be used. Common practice, no source.
_DANGER = re.compile(
    r"""\b(
        swollen | swelling | bulg(?:e|ed|es|ing) | bloated | puff(?:y|ed(?:\ up)?) |
        puncture[ds]? | leak(?:s|y|ing|ed)? | wet | soaked | drowned | burn(?:t|ed) |
        smells? | smok(?:e|es|ed|ing) |
        (?:do\ not|don['’]t|never|not\ to\ be)\ (?:use|charge|touch|used|charged)
    )\b""",
    re.IGNORECASE | re.VERBOSE,
)
#: What takes it back: "not swollen", "no leaks"; and words that mean something else.
_DENIED = re.compile(
    r"(?:\b(?:not|no|never|nor|without|isn['’]t|wasn['’]t|no\s+longer)\s+"
    r"(?:at\s+all\s+|any\s+)?|\bdry,?\s+not\s+)$",
    re.IGNORECASE,
)
_HARMLESS = re.compile(
    r"^wet[\s-]+(?:cell|weather)|^smoke\s+(?:alarm|detector)|^never\s+used",
    re.IGNORECASE,
)


def danger_in(note: str) -> str:
    """
    The words of a note by which a thing must not be used; "" where there are none.

    Swollen, punctured, leaking, wet, burnt, smelling, "do not use": said of a battery
    they mean that nobody touches it until somebody who knows released it.
    """
    for found in _DANGER.finditer(note):
        word = found.group(0)
        is_order = word[0].casefold() in "dn"
        before, rest = note[: found.start()], note[found.start() :]
        if _HARMLESS.match(rest) or (not is_order and _DENIED.search(before)):
            continue
        return word.casefold()
    return ""
