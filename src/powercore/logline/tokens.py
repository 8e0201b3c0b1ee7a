"""A line cut into what it names, counts and says, from left to right."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from powercore.limits import YEARS
from powercore.logline.names import Names, calls

# What a token is.
BATTERY, STRANGER, STATION, SOURCE, BAY, RACK = (
    "battery",
    "stranger",
    "station",
    "source",
    "bay",
    "rack",
)
NUMBER, QUANTITY, WHEN, WORD, OTHER, WRONG = (
    "number",
    "quantity",
    "when",
    "word",
    "other",
    "wrong",
)


@dataclass(frozen=True, slots=True)
class Token:
    """A piece of a line: what it is, its value, and the words it stood in."""

    kind: str
    value: str
    text: str
    number: float = 0.0
    moment: datetime | None = None


#: Units as they are written, by what they count.
UNITS = {
    "Ah": r"a\.?h\b|amp(?:ere)?[ -]?hours?\b|amp[ -]?hrs?\b",
    "V": r"volts?\b|v\b",
    "A": r"amps?\b|amperes?\b|a\b",
    "%": r"%|per ?cent\b|pct\b",
    "h": r"h\b|hours?\b|hrs?\b",
    "min": r"min(?:ute)?s?\b|m\b",
}
#: Phrases with a meaning; of two that fit, the first.
WORDS = {
    "key_down": r"key[ -]?down|transmitting|transmit|on tx|tx",
    "receiving": r"on receive|receiving|receive|on rx|rx|listening",
    "unplugged": r"unplugged|rested|resting|disconnected|no load|off load",
    "off_air": r"off the air|off air|qrt",
    "way": r"on (?:the|its) way(?: back)?|under way|left",
    "back": r"back on the air|back on air|on the air|on air|back up|up again",
    "full": r"(?:back )?(?:to |on |at )?full power",
    "low": r"(?:to |on |at )?low power",
    "charged": r"fully charged|full",
    "restored": r"restored|load back on",
    "shed": r"shed(?:ding)?",
    "tripped": r"tripped|0 ?v\?",
    "swap": r"swap(?:ped)?|changed? ?over|changed",
    "feeds": r"feeds|feeding|now on",
    "spare": r"as (?:a )?spare|spare",
    "dead": r"dead|down|stopped|failed|died|faulty|broken",
    "again": r"running again|running|started|back",
    "counter": r"counter(?: says| shows| reads)?|counted|used",
    "gauge": r"gauge(?: says| shows| reads)?|soc|state of charge",
    "becomes": r"->|=>|→",
    "for": r"for",
    "into": r"to|onto|into",
    "in": r"in",
    "out": r"out",
    "on": r"on",
    "off": r"off",
    "comma": r"[,;]",
    "": r"(?:reads? back|the|an?|is|at|of|reads?|says|shows|just|now|again|it|its|and|"
    r"with|has|going|gone|charging|went|put|taken|from|up)",
}
_NUMBER = r"[+\-−]?\d+(?:\.\d+)?"
_ZULU = r"(?P<z>\s?(?:z|utc)\b)?"
_CLOCK = r"(?P<hour>\d{1,2}):(?P<minute>\d\d)(?!\d)"
_FOUR = r"(?P<hour>\d\d)(?P<minute>\d\d)"
_LEAD = r"(?:at|since|from|as of) "
_TIMES = [
    rf"(?:{_LEAD})?(?P<date>\d{{4}}-\d\d-\d\d)[ t]{_CLOCK}{_ZULU}",
    rf"(?P<yesterday>yesterday)(?: at)? {_CLOCK}{_ZULU}",
    rf"(?P<yesterday>yesterday)(?: at)? {_FOUR}{_ZULU}",
    rf"(?:{_LEAD})?{_CLOCK}{_ZULU} (?P<yesterday>yesterday)",
    rf"(?:{_LEAD})?{_CLOCK}{_ZULU}",
    rf"{_LEAD}{_FOUR}(?!\d|[.]\d|\s*(?:v|a|ah|%|min)\b){_ZULU}",
    rf"{_FOUR}(?P<z>\s?(?:z|utc)\b)",
    r"(?P<hour>[01]\d|2[0-3])(?P<minute>[0-5]\d)(?!\d|[.]\d|\s*(?:v|a|ah|%|min)\b)",
]
_AGO = (
    r"(?P<many>half an?|an?|\d+(?:\.\d+)?)\s?"
    r"(?P<unit>h|hours?|hrs?|min|minutes?|mins|m) ago\b"
)
#: A time so far ahead is meant; further, it is yesterday's.
_AHEAD = timedelta(minutes=30)
_BAY = re.compile(r"(?:bay|charger) ?(\w*\d\w*|[a-z](?![a-z]))?")
_RACK = re.compile(r"(?:the )?(?:yard rack|yard|rack)\b")


class Cut:
    """Cuts lines of one club at one moment."""

    def __init__(self, names: Names) -> None:
        self.names = names
        self._stations, self._sources = calls(names.stations), calls(names.sources)
        self._words = [
            (key, re.compile(rf"(?:{pattern})(?![\w])"))
            for key, pattern in WORDS.items()
        ]
        self._units = [(key, re.compile(rf"\s*(?:{p})")) for key, p in UNITS.items()]
        self._times = [re.compile(pattern) for pattern in _TIMES]

    def tokens(self, line: str) -> Iterator[Token]:
        """Cut a line; blanks and words that say nothing are left out."""
        text = re.sub(r"(?<=\d),(?=\d)", ".", line.casefold())
        text = re.sub(r"(?<=[a-z%])/(?=[\d.])", " ", text)
        at = 0
        while at < len(text):
            if text[at].isspace() or text[at] in ":.":
                at += 1
                continue
            token, end = self._next(text, at)
            if token is not None:
                yield token
            at = end

    def _next(self, text: str, at: int) -> tuple[Token | None, int]:
        for found in (self._time, self._name, self._counted, self._word):
            answer = found(text, at)
            if answer is not None:
                return answer
        other = re.compile(r"\S+").match(text, at)
        assert other is not None  # noqa: S101 - blanks were passed over
        word = other.group().strip(".,;:!?")
        return Token(OTHER, word, word), other.end()

    def _time(self, text: str, at: int) -> tuple[Token, int] | None:
        ago = re.compile(_AGO).match(text, at)
        if ago is not None:
            many = {"half a": 0.5, "half an": 0.5, "a": 1.0, "an": 1.0}.get(ago["many"])
            count = float(ago["many"]) if many is None else many
            unit_min = 60 if ago["unit"].startswith("h") else 1
            here = self._utc(self.names.now) - timedelta(minutes=count * unit_min)
            moment = self._wall(here).replace(second=0, microsecond=0)
            return Token(WHEN, "", ago.group(), moment=moment), ago.end()
        for pattern in self._times:
            found = pattern.match(text, at)
            if found is not None:
                return self._moment(found), found.end()
        return None

    def _moment(self, found: re.Match[str]) -> Token:
        named = found.groupdict()
        hour, minute = int(named["hour"]), int(named["minute"])
        if hour > 23 or minute > 59:
            return Token(WRONG, f"{named['hour']}{named['minute']} is no time", "")
        is_utc = bool(named.get("z"))
        now = self._utc(self.names.now)
        here = now.replace(tzinfo=None) if is_utc else self.names.now

        def on(day: datetime) -> datetime:
            wall = day.replace(hour=hour, minute=minute, second=0, microsecond=0)
            if is_utc:
                return wall.replace(tzinfo=UTC)
            # Of an hour that is there twice: the latest that has been.
            later = self._utc(wall.replace(fold=1))
            first = self._utc(wall.replace(fold=0))
            return later if later <= now + timedelta(minutes=1) else first

        if named.get("date"):
            try:
                day = datetime.strptime(named["date"], "%Y-%m-%d")  # noqa: DTZ007
            except ValueError:
                return Token(WRONG, f"{named['date']} is no date", "")
            if not YEARS.low <= day.year <= YEARS.high:
                return Token(WRONG, f"{named['date']} is in no year of a club", "")
            moment = on(day)
        elif named.get("yesterday"):
            moment = on(here - timedelta(days=1))
        else:
            # The nearest that is not ahead.
            days = (on(here + timedelta(days=number)) for number in (1, 0, -1))
            moment = next((one for one in days if one <= now + _AHEAD), on(here))
        return Token(WHEN, "", found.group(), moment=self._wall(moment))

    def _utc(self, wall: datetime) -> datetime:
        return wall.replace(tzinfo=self.names.zone).astimezone(UTC)

    def _wall(self, moment: datetime) -> datetime:
        """The wall clock at a moment; `fold` tells hours apart that are there twice."""
        return moment.astimezone(self.names.zone).replace(tzinfo=None)

    def _name(self, text: str, at: int) -> tuple[Token, int] | None:
        for kind, known in ((STATION, self._stations), (SOURCE, self._sources)):
            found = _longest(known, text, at)
            if found is not None and not self._is_a_word(text, at, found, known):
                return Token(kind, known[found], found), at + len(found)
        bay = _BAY.match(text, at)
        if bay is not None and not text[bay.end() : bay.end() + 1].isalpha():
            return self._bay(bay), bay.end()
        for name in self.names.bays:
            call = name.casefold()
            if text.startswith(call, at) and not text[at + len(call) :][:1].isalnum():
                return Token(BAY, name, call), at + len(call)
        rack = _RACK.match(text, at)
        if rack is not None:
            return Token(RACK, self.names.rack, rack.group()), rack.end()
        return self._battery(text, at)

    def _is_a_word(self, text: str, at: int, call: str, known: dict[str, str]) -> bool:
        """Whether what would shorten a name is a word: "out", with an Outwash."""
        if call == " ".join(known[call].casefold().split()):
            return False
        patterns = [*(pattern for _, pattern in self._words), _BAY, _RACK]
        words = (pattern.match(text, at) for pattern in patterns)
        return any(word is not None and word.end() - at >= len(call) for word in words)

    def _bay(self, found: re.Match[str]) -> Token:
        if not found[1]:
            return Token(WRONG, "Which bay?", found.group())
        name = self.names.bay(f"bay{found[1]}") or self.names.bay(found.group())
        if name is None:
            return Token(WRONG, f"There is no Bay {found[1].upper()}.", found.group())
        return Token(BAY, name, found.group())

    def _battery(self, text: str, at: int) -> tuple[Token, int] | None:
        for tag in sorted(self.names.batteries, key=len, reverse=True):
            call = tag.casefold()
            if text.startswith(call, at) and not text[at + len(call) :][:1].isalnum():
                return Token(BATTERY, tag, call), at + len(call)
        found = re.compile(r"[a-z]{1,4}[ -]?\d{1,4}(?![\w%]|\.\d)").match(text, at)
        if found is None:
            return None
        known = self.names.battery(found.group())
        if known is not None:
            return Token(BATTERY, known, found.group()), found.end()
        if re.fullmatch(r"[a-z]{1,3}\d+", found.group()):
            return Token(STRANGER, found.group().upper(), found.group()), found.end()
        return None

    def _counted(self, text: str, at: int) -> tuple[Token, int] | None:
        found = re.compile(_NUMBER).match(text, at)
        if found is None:
            return None
        value = float(found.group().replace("−", "-"))
        for unit, pattern in self._units:
            followed = pattern.match(text, found.end())
            if followed is not None:
                token = Token(QUANTITY, unit, found.group(), number=value)
                return token, followed.end()
        return Token(NUMBER, found.group(), found.group(), number=value), found.end()

    def _word(self, text: str, at: int) -> tuple[Token | None, int] | None:
        for key, pattern in self._words:
            found = pattern.match(text, at)
            if found is not None:
                token = Token(WORD, key, found.group()) if key else None
                return token, found.end()
        return None


def _longest(known: dict[str, str], text: str, at: int) -> str | None:
    fits = [
        call
        for call in known
        if text.startswith(call, at) and not text[at + len(call) :][:1].isalnum()
    ]
    return max(fits, key=len, default=None)
