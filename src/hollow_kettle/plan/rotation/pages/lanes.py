"""What the rotation board is drawn of: lanes, bars, marks."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from uuid import UUID

from powercore.event.joining import TIE
from powercore.event.problem import CHARGE
from powercore.rotation.verify import Outcome

#: Kind of a bar whose battery waits at a station.
SPARE = "spare"
LEFT, WIDTH, TOP = 148.0, 900.0, 44.0
#: A spare's bar, and how far apart such bars lie; rows shown at the most.
SPARE_BAR, SPARE_ROW, SPARE_ROWS = 11.0, 13.0, 4
#: About how wide a letter of a tag is, of one written upwards, and of a shortfall's
#: words; the narrowest bar that a tag is written upwards in.
LETTER, SMALL_LETTER, WORD_LETTER, NARROWEST = 7.6, 6.1, 5.0, 11.0


@dataclass(frozen=True, slots=True)
class Shape:
    """
    How high bars and lanes are, and how far below its lane's top a bar lies.

    Spares have bars of their own where there is room for them.
    """

    bar: float = 32.0
    row: float = 46.0
    shift: float = 0.0
    has_spares: bool = True


@dataclass(slots=True)
class Bar:
    """One stay in use, on a bay or as a spare, filled from first to last charge."""

    tag: str
    battery: UUID
    kind: str
    x: float
    y: float
    width: float
    fill: str
    reserve_y: float | None
    start_soc: float
    end_soc: float
    place: str
    start: datetime
    end: datetime
    height: float
    number: int = 0
    leg: int = 0

    @property
    def text_x(self) -> float:
        """Where the tag stands."""
        return self.x + 5

    @property
    def end_x(self) -> float:
        """Where the last charge stands."""
        return self.x + self.width - 5

    @property
    def middle(self) -> float:
        """Half-way down."""
        return self.y + self.height / 2

    @property
    def text_y(self) -> float:
        """Baseline of the tag."""
        return self.y + (9 if self.kind == SPARE else 13)

    @property
    def is_wide(self) -> bool:
        """Whether there is room for its last charge."""
        return self.width > len(self.words) * LETTER + 51

    @property
    def words(self) -> str:
        """Its tag, if there is room; of a set maybe the first and how many more."""
        ways = (self.tag, self._short)
        fits = (words for words in ways if len(words) * LETTER + 7 < self.width)
        return next(fits, "")

    @property
    def upright(self) -> str:
        """Its tag to be written upwards, where there is room for that alone."""
        fits = len(self._short) * SMALL_LETTER + 4 < self.height
        is_needed = not self.words and self.width >= NARROWEST
        return self._short if is_needed and fits else ""

    @property
    def upright_x(self) -> float:
        """Baseline of a tag that is written upwards."""
        return round(self.x + self.width / 2 + 3.5, 1)

    @property
    def upright_y(self) -> float:
        """Where it begins."""
        return self.y + self.height - 3

    @property
    def _short(self) -> str:
        first, *more = self.tag.split(TIE)
        return f"{first}{TIE}{len(more)}" if more else first


@dataclass(slots=True)
class Lane:
    """One place: its name, what it is, and its bars."""

    key: str
    name: str
    about: str
    y: float
    kind: str
    shape: Shape = Shape()
    #: Rows of thin bars below: batteries that may wait there as spares.
    spares: int = 0
    bars: list[Bar] = field(default_factory=list)
    marks: list[Mark] = field(default_factory=list)
    power: list[tuple[float, float]] = field(default_factory=list)

    @property
    def off_air_min(self) -> float:
        """Minutes off the air in all."""
        return sum(mark.minutes for mark in self.marks if mark.what == "off_air")

    @property
    def bar_y(self) -> float:
        """Where bars begin."""
        return self.y + self.shape.shift

    @property
    def middle(self) -> float:
        """Half-way down its bars."""
        return self.bar_y + self.shape.bar / 2

    @property
    def foot(self) -> float:
        """Where its bars end, spares and all."""
        return self.bar_y + self.shape.bar + self.spares * SPARE_ROW

    @property
    def name_y(self) -> float:
        """Baseline of the name."""
        return self.y + 13

    @property
    def number_y(self) -> float:
        """Baseline of its rotation's number, beside its bars."""
        return self.middle + 4

    @property
    def about_y(self) -> float:
        """Baseline of what it is."""
        return self.y + 28


@dataclass(slots=True)
class Mark:
    """A shortfall where it happens, in minutes."""

    what: str
    x: float
    y: float
    width: float
    height: float
    minutes: float
    #: Whether its words stand below it, where there is something above.
    is_low: bool
    #: Whether there is room for its words beside those of longer shortfalls.
    has_words: bool = True

    @property
    def span(self) -> tuple[float, float]:
        """From where to where its words reach."""
        x, wide = self.words_x, self._wide
        return (x - wide, x) if self.is_to_end else (x, x + wide)

    @property
    def _wide(self) -> float:
        return WORD_LETTER * len(self.words)

    @property
    def is_to_end(self) -> bool:
        """Whether its words end where they are put, as a reserve's do."""
        return self.what != "off_air" or self.x + self._wide > LEFT + WIDTH

    @property
    def words_x(self) -> float:
        """Where its words begin or end."""
        is_last = self.what == "off_air" and self.is_to_end
        return round(self.x + self.width, 1) if is_last else self.x

    @property
    def words(self) -> str:
        """What the mark says."""
        kind = "off" if self.what == "off_air" else "reserve"
        return f"{kind} {self.minutes:.0f} min"

    @property
    def label_y(self) -> float:
        """Baseline of its words."""
        return self.y + self.height + 9 if self.is_low else self.y - 2


@dataclass(slots=True)
class PinMark:
    """A pin under its lane: a line from its start to its end."""

    kind: str
    x: float
    y: float
    width: float
    words: str
    title: str
    is_kept: bool

    @property
    def right(self) -> float:
        """Where it ends."""
        return round(self.x + self.width, 1)

    @property
    def words_x(self) -> float:
        """Where its words begin."""
        return self.x + 6

    @property
    def words_y(self) -> float:
        """Baseline of its words."""
        return self.y + 9

    @property
    def ends(self) -> tuple[str, str]:
        """The two pegs that hold it, as points."""
        return tuple(
            f"{x - 3:.1f},{self.y} {x + 3:.1f},{self.y} {x:.1f},{self.y + 7}"
            for x in (self.x, self.right)
        )  # type: ignore[return-value]


@dataclass(slots=True)
class Board:
    """Everything the drawing needs, and the replay that its marks are from."""

    outcome: Outcome
    lanes: list[Lane]
    ticks: list[tuple[float, str]]
    paths: list[tuple[UUID, str]]
    height: float
    now_x: float | None
    watch: list[tuple[float, float]]
    yard_y: float
    bars: list[Bar]
    pins: list[PinMark]
    #: Stops of one round, tied together.
    ties: list[str]
    width: float = LEFT + WIDTH + 12

    @property
    def has_yard(self) -> bool:
        """Whether there is any bay."""
        return any(lane.kind == CHARGE for lane in self.lanes)

    @property
    def left(self) -> float:
        """Where time begins."""
        return LEFT

    @property
    def number_x(self) -> float:
        """Where rotations' numbers end."""
        return LEFT - 4

    @property
    def right(self) -> float:
        """Where time ends."""
        return LEFT + WIDTH

    @property
    def bottom(self) -> float:
        """Lower end of the lanes."""
        return self.height - 26

    @property
    def watch_y(self) -> float:
        """Where the yard's watch is drawn."""
        return self.height - 22

    @property
    def watch_text_y(self) -> float:
        """Baseline of the watch's words."""
        return self.height - 12
