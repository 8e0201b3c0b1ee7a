"""A whole message: many lines, or one that says two things."""

from __future__ import annotations

from powercore.logline.names import Names
from powercore.logline.parse import READS, Question, parse_cut, split_remark
from powercore.logline.said import READING, SWAP, Said
from powercore.logline.tokens import BATTERY, NUMBER, QUANTITY, WHEN, WORD, Cut
from powercore.logline.tokens import STATION as A_STATION


def parse_all(text: str, names: Names) -> list[tuple[str, Said | Question]]:
    """
    Understand a message of many lines.

    A line that only names a station, with a colon, is a head for those that follow.
    """
    found: list[tuple[str, Said | Question]] = []
    head, cut = "", Cut(names)
    for line in filter(None, (one.strip() for one in text.splitlines())):
        tokens = list(cut.tokens(line))
        if len(tokens) == 1 and tokens[0].kind == A_STATION and line.endswith(":"):
            head = tokens[0].value
            continue
        alone = parse_cut(line, cut)
        if head and isinstance(alone, Question):
            headed = parse_cut(f"{head} {line}", cut)
            if isinstance(headed, Said) or not any(t.kind == BATTERY for t in tokens):
                line, alone = f"{head} {line}", headed
        parts = _apart(line, cut) if isinstance(alone, Question) else []
        found += parts or [(line, alone)]
    return found


def _apart(line: str, cut: Cut) -> list[tuple[str, Said | Question]]:
    """
    A swap with what was read at it, as two lines; none where it isn't that.

    A quantity belongs to the battery before it.
    """
    plain, text = split_remark(line.strip(), cut)
    swap, reading, battery = [], [], ""
    for token in cut.tokens(plain):
        if token.kind == BATTERY:
            battery = token.text
        counts = token.kind in (QUANTITY, NUMBER)
        if counts or (token.kind == WORD and token.value in READS):
            unit = token.value if token.kind == QUANTITY else ""
            reading += [battery, f"{token.text} {unit}".strip()]
        else:
            swap.append(token.text)
        if token.kind == WHEN:
            reading.append(token.text)
    read = list(dict.fromkeys(part for part in reading if part))
    lines = (" ".join(swap) + (f": {text}" if text else ""), " ".join(read))
    parts = [(one, parse_cut(one, cut)) for one in lines]
    kinds = [meant.kind for _, meant in parts if isinstance(meant, Said)]
    return parts if kinds == [SWAP, READING] else []
