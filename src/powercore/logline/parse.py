"""
One line of a log, as people type what they hear, understood or asked about.

Names, quantities and words may stand in any order. What could be two things is asked
about, with each of them as a line that can be taken with one tap; nothing is guessed.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from powercore.limits import GAUGE_PCT, READ_A, READ_AH, READ_V
from powercore.logline.conditions import Lacks, fault, panel
from powercore.logline.names import Names
from powercore.logline.said import (
    MOVE,
    NOTE,
    READING,
    SOURCE,
    STATION,
    SWAP,
    Said,
    number,
)
from powercore.logline.tokens import (
    BATTERY,
    BAY,
    NUMBER,
    OTHER,
    QUANTITY,
    RACK,
    STRANGER,
    WHEN,
    WORD,
    WRONG,
    Cut,
    Token,
)
from powercore.logline.tokens import SOURCE as A_SOURCE
from powercore.logline.tokens import STATION as A_STATION

#: In which range a quantity is no slip of the keyboard, by its unit.
RANGES = {limit.unit: limit for limit in (READ_V, READ_A, READ_AH, GAUGE_PCT)}
#: Words about a station, and what they say of it.
_STATION = {
    "off_air": "off_air",
    "dead": "off_air",
    "off": "off_air",
    "low": "low",
    "full": "full",
    "back": "back",
    "again": "back",
    "shed": "shed",
    "restored": "restored",
}
_SOURCE = {"off": "off", "dead": "off", "off_air": "off", "on": "on", "again": "on"}
READS = {
    "tripped",
    "charged",
    "counter",
    "gauge",
    "key_down",
    "receiving",
    "unplugged",
}
_SWAPS = {"in", "out", "for", "becomes", "swap", "feeds", "on"}


@dataclass(frozen=True, slots=True)
class Choice:
    """One answer to what is asked: its words, and the line that says it."""

    words: str
    line: str


@dataclass(frozen=True, slots=True)
class Question:
    """What a line could mean, or lacks."""

    asks: str
    choices: tuple[Choice, ...] = ()


class _Ask(Exception):
    """A line can't be understood without an answer."""

    def __init__(self, asks: str, *choices: str) -> None:
        super().__init__(asks)
        self.question = Question(asks, tuple(Choice(one, one) for one in choices))


def parse(line: str, names: Names) -> Said | Question:
    """
    Understand a line, or ask about it.

    Parameters
    ----------
    line : str
        As it was typed.
    names : Names
        Everything it may name, and the time.

    Returns
    -------
    Said or Question
        What it says; else what is asked, with the lines that answer it.
    """
    return parse_cut(line, Cut(names))


def parse_cut(line: str, cut: Cut) -> Said | Question:
    """`parse`, with names that were prepared once for many lines."""
    try:
        return _Line(line, cut).said()
    except _Ask as ask:
        return ask.question


class _Line:
    """A line while it is being understood."""

    def __init__(self, line: str, cut: Cut) -> None:
        self.cut, self.names = cut, cut.names
        self.is_sure = line.rstrip().endswith("!")
        self.line = line.strip().rstrip("!").strip()
        head, self.text = split_remark(self.line, cut)
        self.tokens = list(cut.tokens(head))
        for token in self.tokens:
            if token.kind == WRONG:
                raise _Ask(token.value)
        self._latesplit_remark(head)
        self.words = {t.value for t in self.tokens if t.kind == WORD}

    def _latesplit_remark(self, head: str) -> None:
        """After a comma, what is no part of the grammar is a remark."""
        for at, token in enumerate(self.tokens):
            rest = self.tokens[at + 1 :]
            if token.value == "comma" and any(t.kind == OTHER for t in rest):
                if not self.text:
                    self.text = re.split(r"[,;]\s", head, maxsplit=1)[-1].strip()
                self.tokens = self.tokens[:at]
                return

    def all(self, kind: str) -> list[str]:
        """What a line names of a kind, in order, once each."""
        return list(dict.fromkeys(t.value for t in self.tokens if t.kind == kind))

    # What kind of thing it says

    def said(self) -> Said:
        first = re.match(r"\w*", self.line.casefold())
        begins = first.group() if first else ""
        if begins.startswith("note"):
            return self._note()
        try:
            if begins in ("fault", "faults"):
                return replace(fault(self.line, self.cut), is_sure=self.is_sure)
            if begins in ("sky", "panel", "panels"):
                return replace(panel(self.line, self.cut), is_sure=self.is_sure)
        except Lacks as lacks:
            raise _Ask(str(lacks)) from lacks
        when = self._when()
        odd = [token.text for token in self.tokens if token.kind == OTHER]
        known = [t for t in self.tokens if t.kind not in (OTHER, WHEN)]
        if odd:
            if not known:
                raise _Ask("This is not understood.", f"note: {self.line}")
            raise _Ask(f"What is “{odd[0]}”?", *self._instead(odd))
        said = self._meaning()
        return replace(said, when=when, text=self.text, is_sure=self.is_sure)

    def _instead(self, odd: Sequence[str]) -> list[str]:
        """Lines without a word that is not understood, or with a name for the one."""
        word = odd[0]
        if len(odd) == 1 and self._station_word() and not self.all(A_STATION):
            whole = re.compile(rf"(?i)(?<!\w){re.escape(word)}(?!\w)")
            known = (*self.names.stations, *self.names.sources)
            # A name is no template: it may hold a backslash.
            lines = [
                whole.sub(name.replace("\\", r"\\"), self.line, count=1)
                for name in known
            ]
            return [
                one
                for one in lines
                if one != self.line and isinstance(parse_cut(one, self.cut), Said)
            ]
        return _without(self.line, word)

    def _note(self) -> Said:
        text = re.sub(r"(?i)^note\s*:?\s*", "", self.line)
        if not text:
            raise _Ask("What is the note?")
        return Said(kind=NOTE, text=text, is_sure=self.is_sure)

    def _when(self) -> datetime | None:
        moments = [t.moment for t in self.tokens if t.kind == WHEN]
        if len(moments) > 1:
            raise _Ask("There are two times. Which is it?")
        return moments[0] if moments else None

    def _meaning(self) -> Said:
        stations, sources = self.all(A_STATION), self.all(A_SOURCE)
        batteries = [*self.all(BATTERY), *self.all(STRANGER)]
        if len(stations) > 1:
            raise _Ask(f"{' or '.join(stations)}?")
        station = stations[0] if stations else ""
        places = [*self.all(BAY), *self.all(RACK)]
        if not batteries and not station:
            bays = self.all(BAY) if self._source_word() else []
            if sources or bays:
                return self._source([*sources, *bays])
        if not batteries and not places and self._station_word() and not self._reads():
            return self._station(station)
        if self._reads() and not (len(batteries) > 1 and self.words & {"in", "out"}):
            return self._reading(station, batteries)
        self._known(batteries)
        if self._is_swap(station, batteries, places):
            if self._reads():
                raise _Ask("This is a swap and a reading. Say each on its own line.")
            return self._swap(station, batteries, places)
        if batteries:
            return self._move(station, batteries, places)
        what = station or (places[0] if places else "") or "it"
        choices = [f"{what} off the air"] if station else []
        raise _Ask(f"What about {what}?", *choices)

    def _station_word(self) -> str:
        found = [t.value for t in self.tokens if t.kind == WORD]
        return next((_STATION[word] for word in found if word in _STATION), "")

    def _reads(self) -> bool:
        counted = any(
            t.kind == NUMBER or (t.kind == QUANTITY and t.value in RANGES)
            for t in self.tokens
        )
        return counted or bool(self.words & READS)

    def _known(self, batteries: Sequence[str]) -> None:
        """A battery that is not on the shelf is kept only if it is meant."""
        for tag in batteries:
            if tag not in self.names.batteries and not self.is_sure:
                raise _Ask(
                    f"There is no battery {tag} here. Keep it for a coordinator?",
                    f"{self.line} !",
                )

    # Sources and stations

    def _source_word(self) -> str:
        found = [t.value for t in self.tokens if t.kind == WORD]
        return next((_SOURCE[word] for word in found if word in _SOURCE), "")

    def _source(self, sources: Sequence[str]) -> Said:
        what = self._source_word()
        if len(sources) > 1:
            raise _Ask(f"{' or '.join(sources)}?")
        if not what:
            lines = (f"{sources[0]} {one}" for one in ("on", "off"))
            raise _Ask(f"What about {sources[0]}?", *lines)
        return Said(kind=SOURCE, source=sources[0], what=what)

    def _station(self, station: str) -> Said:
        what = self._station_word()
        if not station:
            lines = (f"{name} {self.line}" for name in self.names.stations)
            raise _Ask("Which station?", *lines)
        return Said(kind=STATION, station=station, what=what)

    # Readings

    def _reading(self, station: str, batteries: Sequence[str]) -> Said:
        if station and not batteries:
            self._not_a_tag(station)
        battery = self._read_one(station, batteries)
        self._known([battery])
        given, how, rest_min = self._quantities(battery)
        if "tripped" in self.words:
            given, how = {"V": 0.0}, "unplugged"
        if "charged" in self.words:
            given.setdefault("%", 100.0)
        if not set(given) & {"V", "Ah", "Ah in", "%"}:
            raise _Ask(f"What about {battery}? Say volts, amp-hours or percent too.")
        volts = given.get("V")
        ah, ah_in = given.get("Ah"), given.get("Ah in")
        if ah is None and ah_in is not None:
            ah, ah_in = -abs(ah_in), None
        return Said(
            kind=READING,
            battery=battery,
            volts=volts,
            amps=given.get("A"),
            how="" if volts is None else how or "receiving",
            unplugged_min=rest_min if volts is not None else None,
            amp_hours=ah,
            ah_in=ah_in,
            gauge_pct=given.get("%"),
        )

    def _not_a_tag(self, station: str) -> None:
        """A bare number after a station may be the end of a tag."""
        bare = [t for t in self.tokens if t.kind == NUMBER]
        if not bare or "." in bare[0].text or self.words & {"counter", "gauge"}:
            return
        digits = bare[0].text.lstrip("+-−")
        tags = self.names.numbered(digits)
        here = self.names.feeds.get(station, "")
        choices = [f"{station} {tag} in" for tag in tags]
        choices += [f"{here} {int(digits)} %"] if here and int(digits) <= 100 else []
        of = ", ".join(tags)
        asks = f"{of}, or {int(digits)} of what?" if of else f"{digits} of what?"
        raise _Ask(asks, *choices)

    def _read_one(self, station: str, batteries: Sequence[str]) -> str:
        here = self.names.feeds.get(station, "")
        if len(batteries) > 1:
            raise _Ask(f"{' or '.join(batteries)}?")
        if batteries:
            battery = batteries[0]
            if station and here and here != battery:
                plain = _without(self.line, station)
                raise _Ask(
                    f"{here} feeds {station} by the log. Was {battery} read there?",
                    f"{station} {battery} in",
                    *plain,
                )
            return battery
        if here:
            return here
        if station:
            raise _Ask(
                f"No battery is logged at {station}. Which was read?",
                *(f"{tag} {self.line}" for tag in list(self.names.batteries)[:4]),
            )
        raise _Ask("Which battery?")

    def _quantities(self, battery: str) -> tuple[dict[str, float], str, float | None]:
        given: dict[str, float] = {}
        rest_min = None
        hows = [t.value for t in self.tokens if t.value in _HOWS and t.kind == WORD]
        for at, token in enumerate(self.tokens):
            if token.kind == QUANTITY and token.value in ("min", "h"):
                rest_min = token.number * (60 if token.value == "h" else 1)
            elif token.kind == QUANTITY:
                goes_in = token.value == "Ah" and _follows(self.tokens, at, "in")
                self._give(given, "Ah in" if goes_in else token.value, token.number)
            elif token.kind == NUMBER:
                self._give(given, self._unit_of(at, battery, given), token.number)
        return given, hows[0] if hows else "", rest_min

    def _give(self, given: dict[str, float], unit: str, value: float) -> None:
        if unit in given:
            raise _Ask(f"There are two values in {unit}. Which is it?")
        limit = RANGES[unit.removesuffix(" in")]
        low, high = limit.low, limit.high
        if not low <= value <= high:
            raise _Ask(f"{value:g} {unit} is not within {low} to {high} {unit}.")
        given[unit] = value

    def _unit_of(self, at: int, battery: str, given: dict[str, float]) -> str:
        """What a number without a unit counts, where it can be only one thing."""
        token = self.tokens[at]
        before = self.tokens[at - 1].value if at else ""
        if before == "counter":
            return "Ah"
        if before == "gauge":
            return "%"
        low, high = self.names.volts_of(battery)
        has_volts = "V" in given or any(
            t.kind == QUANTITY and t.value == "V" for t in self.tokens
        )
        if "." in token.text and low <= token.number <= high and not has_volts:
            return "V"
        units = ["A"] if has_volts else ["%", "V"]
        units += ["Ah"]
        lines = [_with_unit(self.line, token.text, unit) for unit in units]
        raise _Ask(f"{token.text} of what?", *lines)

    # Swaps and moves

    def _is_swap(
        self, station: str, batteries: Sequence[str], places: Sequence[str]
    ) -> bool:
        if not batteries:
            return "swap" in self.words and bool(station)
        if self.words & {"spare", "way"}:
            return False
        if len(batteries) > 1:
            return True
        if station and not places:
            return True
        return not places and bool(self.words & {"in", "feeds", "swap"})

    def _swap(
        self, station: str, batteries: Sequence[str], places: Sequence[str]
    ) -> Said:
        if not station:
            feeds = [s for s, tag in self.names.feeds.items() if tag in batteries]
            rest = [s for s in self.names.stations if s not in feeds]
            raise _Ask(
                "Which station?", *(f"{one} {self.line}" for one in (*feeds, *rest))
            )
        if len(batteries) > 2:
            raise _Ask("These are more than two batteries. Say one swap a line.")
        went_in, out = self._ways(station, batteries)
        if not went_in:
            asks = f"What went in at {station}?"
            raise _Ask(asks)
        return Said(
            kind=SWAP,
            station=station,
            battery=went_in,
            battery_out=out,
            place=places[0] if places else "",
        )

    def _ways(self, station: str, batteries: Sequence[str]) -> tuple[str, str]:
        """Which battery went in and which came out."""
        here = self.names.feeds.get(station, "")
        pairs = self._marked()
        marked = dict(pairs)
        if len(marked) < len(pairs):
            raise _Ask(f"{batteries[0]} can't go in and come out. Which is it?")
        if len(batteries) == 1:
            only = batteries[0]
            return ("", only) if marked.get(only) == "out" else (only, "")
        if not batteries:
            return "", ""
        one, two = batteries
        if marked.get(one) == "in" or marked.get(two) == "out":
            return one, two
        if marked.get(two) == "in" or marked.get(one) == "out":
            return two, one
        if "becomes" in self.words:
            return two, one
        if here in (one, two):
            return (two, one) if here == one else (one, two)
        lines = (f"{station} {a} in {b} out" for a, b in ((one, two), (two, one)))
        raise _Ask("Which went in?", *lines)

    def _marked(self) -> list[tuple[str, str]]:
        """Batteries with the "in" or "out" that stands beside them."""
        found = []
        for at, token in enumerate(self.tokens):
            if token.kind not in (BATTERY, STRANGER):
                continue
            after = self.tokens[at + 1].value if at + 1 < len(self.tokens) else ""
            if after in ("in", "out"):
                found.append((token.value, after))
        return found

    def _move(
        self, station: str, batteries: Sequence[str], places: Sequence[str]
    ) -> Said:
        battery = batteries[0]
        if len(batteries) > 1:
            raise _Ask(f"{' or '.join(batteries)}? Say one move a line.")
        if len(places) > 1:
            raise _Ask(f"{' or '.join(places)}?")
        if "spare" in self.words:
            if not station:
                lines = (f"{battery} to {s} as spare" for s in self.names.stations)
                raise _Ask("Spare at which station?", *lines)
            return Said(kind=MOVE, battery=battery, station=station, is_spare=True)
        if "way" in self.words:
            return Said(kind=MOVE, battery=battery)
        if not places:
            lines = (
                f"{battery} to {one}" for one in (*self.names.bays, self.names.rack)
            )
            raise _Ask(f"What about {battery}?", *lines)
        if self.words & {"off", "out"}:
            where = [f"{battery} to {self.names.rack}", f"{battery} on the way"]
            raise _Ask(f"Where is {battery} now?", *where)
        return Said(kind=MOVE, battery=battery, place=places[0])


_HOWS = ("receiving", "key_down", "unplugged")


def _follows(tokens: Sequence[Token], at: int, word: str) -> bool:
    return at + 1 < len(tokens) and tokens[at + 1].value == word


def _without(line: str, word: str) -> list[str]:
    """The line without a word that is not understood."""
    left = re.sub(rf"(?i)\b{re.escape(word)}\b\s*:?", " ", line)
    return [" ".join(left.split())] if left.split() else []


def _with_unit(line: str, digits: str, unit: str) -> str:
    """The line with a unit behind a number."""
    typed = re.escape(digits).replace(r"\.", "[.,]")
    return re.sub(
        rf"(?<![\w.,]){typed}(?![\w.,]*\d)",
        f"{number(float(digits.replace('−', '-')))} {unit}",
        line,
        count=1,
    )


def split_remark(line: str, cut: Cut) -> tuple[str, str]:
    """Split a line at the colon before a remark; one after a name is none."""
    for found in re.finditer(r":(?=\s|$)|(?<!\d):", line):
        before, after = line[: found.start()], line[found.end() :].strip()
        tokens = list(cut.tokens(before))
        is_head = len(tokens) == 1 and tokens[0].kind in (
            BATTERY,
            STRANGER,
            A_STATION,
            A_SOURCE,
        )
        if not is_head:
            return before, after
    return line, ""
