"""Lines about the state of things: faults, the sky, what panels give."""

from __future__ import annotations

import re
from datetime import datetime

from powercore.logline.said import FAULT, PANEL, Said
from powercore.logline.said import WRONG as SYMPTOM
from powercore.logline.tokens import (
    BATTERY,
    OTHER,
    QUANTITY,
    WHEN,
    WRONG,
    Cut,
    Token,
)
from powercore.logline.tokens import SOURCE as A_SOURCE
from powercore.logline.tokens import STATION as A_STATION

#: What people say of a fault, by what it is; of two that fit, the first.
_WRONG = {
    "hot": r"hot|smell\w*|smok\w*|swollen|swell\w*|burn\w*|melt\w*",
    "quits": r"quits?(?: on transmit)?|resets?|cuts? out|drops? out|reboots?",
    "blows": r"blows?(?: a)? fuses?|blew(?: a| the)? fuses?|fuse (?:blown|blows)|"
    r"breaker trip\w*",
    "no_charge": r"(?:does ?n[o']?t|not|no) charg\w+|won't charge",
    "no_power": r"no power|dead",
    "noise": r"nois\w+|hash|buzz\w*",
    "reads_wrong": r"reads? wrong|meter (?:is )?wrong|wrong reading",
    "other": r"other",
}
_SKY = {
    "overcast": r"overcast|(?:all )?grey|full cloud",
    "most": r"most(?:ly cloud(?:y|ed)?)?|cloudy",
    "few": r"(?:a )?few(?: clouds)?|mostly clear",
    "half": r"half(?: cloud(?:y|ed)?)?|partly cloudy|broken",
    "clear": r"clear|blue|sunny",
}
_IDLE = {
    "at",
    "on",
    "the",
    "a",
    "is",
    "it",
    "of",
    "since",
    "and",
    "with",
    "in",
    "under",
    "give",
    "",
}
_SKY_SAID = {
    key: re.compile(rf"(?i)\bsky\W+(?:is )?(?:{p})\b|\b(?:{p}) sky\b")
    for key, p in _SKY.items()
}


class Lacks(ValueError):
    """Something is missing; the words ask for it."""


def fault(line: str, cut: Cut) -> Said:
    """
    Understand a line that begins with "fault".

    Raises
    ------
    Lacks
        If nothing is said to be wrong.
    """
    rest = re.sub(r"(?i)^faults?\b\s*:?\s*", "", line).strip()
    if not rest:
        raise Lacks("What is wrong, and where?")
    head, _, text = (part.strip() for part in rest.partition(": "))
    tokens = list(cut.tokens(head))
    what, said = "other", ""
    for key, pattern in _WRONG.items():
        found = re.search(rf"(?i)(?<!\w)(?:{pattern})(?!\w)", head)
        if found is not None:
            what, said = key, found.group()
            break
    left = _left(head, tokens, said)
    if left:
        text = f"{left}: {text}" if text else left
    return Said(
        kind=FAULT,
        station=_one(tokens, A_STATION),
        battery=_one(tokens, BATTERY),
        what=what,
        when=_moment(tokens),
        text="" if text == SYMPTOM[what] else text,
    )


def _left(head: str, tokens: list[Token], said: str) -> str:
    """What a fault's line says beside names, time and the word for what is wrong."""
    left = head
    for token in tokens:
        if token.kind in (A_STATION, BATTERY, WHEN):
            left = _cut_out(left, token.text)
    left = re.sub(r"(?i)^(?:at|the|is)\b|\b(?:at|since)$", " ", left.strip(" ,;"))
    more = set(re.findall(r"[\w'/-]+", _cut_out(left, said).casefold())) - _IDLE
    return " ".join(left.split()).strip(" ,;") if more else ""


def _cut_out(text: str, word: str) -> str:
    whole = re.compile(rf"(?i)(?<!\w){re.escape(word)}(?!\w):?")
    return whole.sub(" ", text, count=1) if word else text


def panel(line: str, cut: Cut) -> Said:
    """
    Understand a line that begins with "sky" or "panels".

    Raises
    ------
    Lacks
        If neither a sky nor amps are said, or not whose panels give them.
    """
    what, rest = "", line
    for key, pattern in _SKY_SAID.items():
        if pattern.search(line):
            what, rest = key, pattern.sub(" ", line, count=1)
            break
    rest = re.sub(r"(?i)^\s*(?:panels?|sky)\b\W*", "", rest)
    head, _, text = (part.strip() for part in rest.partition(": "))
    tokens = list(cut.tokens(head))
    amps, volts = _quantity(tokens, "A"), _quantity(tokens, "V")
    station, source = _one(tokens, A_STATION), _one(tokens, A_SOURCE)
    odd = [t.text for t in tokens if t.kind == OTHER and t.text not in _IDLE]
    if odd:
        more = " ".join(head[head.casefold().find(odd[0]) :].split())
        text = f"{more}: {text}" if text else more
    if amps is None and (station or source or not what):
        is_sky = line.casefold().lstrip().startswith("sky")
        raise Lacks(
            "How is the sky: clear, few, half, most or overcast?"
            if is_sky
            else "How many amps do they give?"
        )
    if amps is not None and not (station or source):
        raise Lacks("Whose panels give that?")
    return Said(
        kind=PANEL,
        station=station,
        source="" if station else source,
        what=what,
        amps=amps,
        volts=volts,
        when=_moment(tokens),
        text=text,
    )


def _quantity(tokens: list[Token], unit: str) -> float | None:
    found = [t.number for t in tokens if (t.kind, t.value) == (QUANTITY, unit)]
    if len(found) > 1:
        raise Lacks(f"There are two values in {unit}. Which is it?")
    return found[0] if found else None


def _one(tokens: list[Token], kind: str) -> str:
    found = list(dict.fromkeys(t.value for t in tokens if t.kind == kind))
    if len(found) > 1:
        raise Lacks(f"{' or '.join(found)}?")
    return found[0] if found else ""


def _moment(tokens: list[Token]) -> datetime | None:
    if wrong := [token.value for token in tokens if token.kind == WRONG]:
        raise Lacks(wrong[0])
    found = [token.moment for token in tokens if token.kind == WHEN]
    if len(found) > 1:
        raise Lacks("There are two times. Which is it?")
    return found[0] if found else None
