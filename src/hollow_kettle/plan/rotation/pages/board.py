"""The rotation board's geometry: places down the side, time across."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from uuid import UUID

from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.drawing import hour_ticks
from hollow_kettle.plan.models import Event, Leg, Pin, Rotation
from hollow_kettle.plan.rotation.queries import tags_of
from hollow_kettle.ui.drawing import Scale, points
from powercore.event.joining import TIE
from powercore.event.problem import (
    CHARGE,
    SERVE,
    Problem,
    Stop,
    stops_of,
)
from powercore.event.problem import Leg as CoreLeg
from powercore.rotation.verify import Outcome, verify

from .change import PinRow

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


#: Two rotations in one drawing: one above the other in each lane.
UPPER = Shape(bar=18.0, row=49.0, has_spares=False)
LOWER = Shape(bar=18.0, row=49.0, shift=21.0, has_spares=False)


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


def board_of(
    event: Event,
    rotation: Rotation,
    now: datetime | None,
    *,
    pins: Sequence[PinRow] = (),
    shape: Shape | None = None,
) -> Board:
    """Lay out a rotation, with pins under its lanes."""
    shape = shape or Shape()
    x = Scale(0, event.span_min, LEFT, LEFT + WIDTH)
    tags = tags_of(rotation)
    problem, core_legs = problem_of(rotation)
    lanes = _lanes(event, x, problem, rotation.from_min, shape)
    by_key = {lane.key: lane for lane in lanes}
    bars = []
    for leg in rotation.legs.all():
        lane = by_key.get(str(leg.place))
        if lane is None or (leg.is_spare and not lane.spares):
            continue
        share = None
        if leg.kind == SERVE and not leg.is_spare:
            share = problem.feed(lane.key, str(leg.battery)).reserve_soc
        bar = _bar(event, leg, lane, x, tags, share)
        lane.bars.append(bar)
        bars.append(bar)
    bars.sort(key=lambda bar: (bar.tag, bar.start))
    for number, bar in enumerate(bars):
        bar.number = number
    outcome = verify(problem, core_legs).outcome
    for fall in outcome.shortfalls:
        lane = by_key.get(fall.station)
        if lane is not None:
            start = x(fall.start_min + rotation.from_min)
            end = x(fall.end_min + rotation.from_min)
            lane.marks.append(
                Mark(
                    fall.what,
                    start,
                    lane.bar_y,
                    round(max(2.0, end - start), 1),
                    shape.bar,
                    fall.open_min,
                    is_low=shape.shift > 0,
                )
            )
    for lane in lanes:
        make_room(lane.marks)
    height = lanes[-1].y + shape.row + 30 if lanes else 200
    middles = {bar.leg: bar.middle for bar in bars}
    minute = event.minute_of(now) if now else None
    return Board(
        outcome=outcome,
        lanes=lanes,
        ticks=hour_ticks(event, x),
        paths=_paths(rotation, middles, x),
        height=height,
        now_x=x(minute)
        if minute is not None and 0 <= minute <= event.span_min
        else None,
        watch=[
            (
                x(event.minute_of(crew.starts_at)),
                round(
                    x(event.minute_of(crew.ends_at))
                    - x(event.minute_of(crew.starts_at)),
                    1,
                ),
            )
            for crew in event.crews.all()
            if crew.does == "yard"
        ],
        yard_y=next((lane.y for lane in lanes if lane.kind == CHARGE), height) - 8,
        bars=bars,
        pins=list(_pin_marks(event, pins, by_key, x, tags)),
        ties=list(_ties(core_legs, by_key, x, rotation.from_min)),
    )


def _ties(
    legs: Sequence[CoreLeg], by_key: dict[str, Lane], x: Scale, from_min: int
) -> Iterator[str]:
    """The way of each round that leads to several stations."""
    rounds: dict[tuple[str, int], list[Stop]] = {}
    for stop in stops_of(legs):
        rounds.setdefault((stop.crew, stop.round), []).append(stop)
    for stops in rounds.values():
        if len({stop.station for stop in stops}) > 1:
            yield points(
                [
                    (x(stop.minute + from_min), by_key[stop.station].middle)
                    for stop in stops
                    if stop.station in by_key
                ]
            )


def make_room(marks: Sequence[Mark]) -> None:
    """Keep the words of the longest shortfalls in a row, off the air before reserve."""
    taken: list[tuple[float, float]] = []
    for mark in sorted(marks, key=lambda one: (one.what != "off_air", -one.minutes)):
        first, last = mark.span
        mark.has_words = all(last <= start or end <= first for start, end in taken)
        if mark.has_words:
            taken.append((first, last))


def _pin_marks(
    event: Event,
    pins: Sequence[PinRow],
    by_key: dict[str, Lane],
    x: Scale,
    tags: dict[UUID, str],
) -> Iterator[PinMark]:
    for row in pins:
        pin = row.pin
        start = max(0.0, event.minute_of(pin.starts_at))
        end = min(float(event.span_min), event.minute_of(pin.ends_at))
        if pin.lifted_at or end <= start:
            continue
        tag = tags.get(pin.battery_id, "") if pin.battery_id else ""
        words = {
            Pin.Kind.STAYS: f"{tag} stays",
            Pin.Kind.AWAY: f"not {tag}" if tag else "no battery",
            Pin.Kind.NO_WALK: "no walk",
            Pin.Kind.NO_SWAP: "no swap",
            Pin.Kind.LOW: "low power",
        }[Pin.Kind(pin.kind)]
        for key, lane in by_key.items():
            if key == str(pin.place) or (pin.place is None and lane.kind == SERVE):
                yield PinMark(
                    kind=pin.kind,
                    x=x(start),
                    y=lane.foot + 2,
                    width=round(x(end) - x(start), 1),
                    words=words if row.is_kept else f"{words}: not kept",
                    title=row.words,
                    is_kept=row.is_kept,
                )


def _lanes(
    event: Event, x: Scale, problem: Problem, from_min: int, shape: Shape
) -> list[Lane]:
    """Stations, then bays with the stretches in which their source really runs."""
    lanes, y = [], TOP
    for station in event.stations.all():
        lane = Lane(
            str(station.pk),
            station.name,
            station.purpose or f"tier {station.tier}",
            y,
            SERVE,
            shape,
        )
        plan = problem.stations.get(lane.key)
        if plan is not None and shape.has_spares:
            lane.spares = min(plan.spares, SPARE_ROWS)
        lanes.append(lane)
        y += shape.row + lane.spares * SPARE_ROW
    y += 22
    for bay in event.bays.select_related("source"):
        about = bay.source.name + (", unwatched" if bay.unwatched_why else "")
        lane = Lane(str(bay.pk), bay.name, about, y, CHARGE, shape)
        source = problem.sources.get(str(bay.source_id))
        for window in source.windows if source else ():
            start = x(window.start_min + from_min)
            end = x(window.end_min + from_min)
            lane.power.append((start, round(end - start, 1)))
        lanes.append(lane)
        y += shape.row
    return lanes


def _bar(
    event: Event,
    leg: Leg,
    lane: Lane,
    x: Scale,
    tags: dict[UUID, str],
    share: float | None,
) -> Bar:
    left, right = x(leg.start_min), x(leg.end_min)
    top, height = lane.bar_y, lane.shape.bar
    if leg.is_spare:
        top, height = _free_row(lane, left), SPARE_BAR
    foot = top + height

    def y(soc: float) -> float:
        return foot - soc * height

    fill = points(
        [(left, foot), (left, y(leg.start_soc)), (right, y(leg.end_soc)), (right, foot)]
    )
    return Bar(
        tag=tags.get(leg.battery, "?"),
        battery=leg.battery,
        kind=SPARE if leg.is_spare else leg.kind,
        x=left,
        y=top,
        height=height,
        width=round(max(1.5, right - left - 1), 1),
        fill=fill,
        reserve_y=y(share) if share is not None else None,
        start_soc=leg.start_soc,
        end_soc=leg.end_soc,
        place=lane.name,
        start=event.moment_of(leg.start_min),
        end=event.moment_of(leg.end_min),
        leg=leg.pk,
    )


def _free_row(lane: Lane, left: float) -> float:
    """The upper end of the first row for spares that is free from a time on."""
    first = lane.bar_y + lane.shape.bar + 2
    for row in range(lane.spares):
        top = first + row * SPARE_ROW
        if all(bar.y != top or bar.x + bar.width <= left for bar in lane.bars):
            return top
    return first


def _paths(
    rotation: Rotation, middles: dict[int, float], x: Scale
) -> list[tuple[UUID, str]]:
    """Each battery's way between places as one drawable path."""
    lives: dict[UUID, list[Leg]] = {}
    for leg in rotation.legs.all():
        if leg.pk in middles:
            lives.setdefault(leg.battery, []).append(leg)
    found = []
    for battery, stops in lives.items():
        strokes = []
        for before, after in itertools.pairwise(stops):
            x1, x2 = x(before.end_min), x(after.start_min)
            y1, y2 = middles[before.pk], middles[after.pk]
            bend = max(12.0, (x2 - x1) / 2)
            strokes.append(
                f"M{x1:.1f} {y1:.1f} C{x1 + bend:.1f} {y1:.1f} "
                f"{x2 - bend:.1f} {y2:.1f} {x2:.1f} {y2:.1f}"
            )
        if strokes:
            found.append((battery, " ".join(strokes)))
    return found
