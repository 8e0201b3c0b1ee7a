"""The rotation board's geometry: places down the side, time across."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from datetime import datetime
from uuid import UUID

from hollow_kettle.plan.bridge.rotations import problem_of
from hollow_kettle.plan.drawing import hour_ticks
from hollow_kettle.plan.models import Event, Leg, Pin, Rotation
from hollow_kettle.plan.rotation.queries import tags_of
from hollow_kettle.ui.drawing import Scale, points
from powercore.event.problem import CHARGE, SERVE, Problem, Stop, stops_of
from powercore.event.problem import Leg as CoreLeg
from powercore.rotation.verify import Outcome, verify

from .change import PinRow
from .lanes import (
    LEFT,
    SPARE,
    SPARE_BAR,
    SPARE_ROW,
    SPARE_ROWS,
    TOP,
    WIDTH,
    Bar,
    Board,
    Lane,
    Mark,
    PinMark,
    Shape,
)

#: How often a bar's charge is looked at, and how far a curve may be off to count as a
#: line. [min], (0 to 1)
TRACE_MIN, STRAIGHT = 15, 0.005
#: Two rotations in one drawing: one above the other in each lane.
UPPER = Shape(bar=18.0, row=49.0, has_spares=False)
LOWER = Shape(bar=18.0, row=49.0, shift=21.0, has_spares=False)


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
    outcome = verify(problem, core_legs, trace_min=TRACE_MIN).outcome
    bars = _bars(rotation, problem, by_key, x, tags, outcome)
    _mark_falls(rotation, outcome, by_key, x, shape)
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
        watch=_watches(event, x),
        yard_y=next((lane.y for lane in lanes if lane.kind == CHARGE), height) - 8,
        bars=bars,
        pins=list(_pin_marks(event, pins, by_key, x, tags)),
        ties=list(_ties(core_legs, by_key, x, rotation.from_min)),
    )


def _bars(
    rotation: Rotation,
    problem: Problem,
    by_key: dict[str, Lane],
    x: Scale,
    tags: dict[UUID, str],
    outcome: Outcome,
) -> list[Bar]:
    """Lay stays and charges into their lanes; all of them by battery and time."""
    bars = []
    for number, leg in enumerate(rotation.legs.all()):
        lane = by_key.get(str(leg.place))
        if lane is None or (leg.is_spare and not lane.spares):
            continue
        share = None
        if leg.kind == SERVE and not leg.is_spare:
            share = problem.feed(lane.key, str(leg.battery)).reserve_soc
        curve = [
            (minute + rotation.from_min, soc)
            for minute, soc in outcome.traces.get(number, [])
        ]
        bar = _bar(leg, lane, x, tags, share, curve)
        lane.bars.append(bar)
        bars.append(bar)
    bars.sort(key=lambda bar: (bar.tag, bar.start))
    for number, bar in enumerate(bars):
        bar.number = number
    return bars


def _mark_falls(
    rotation: Rotation,
    outcome: Outcome,
    by_key: dict[str, Lane],
    x: Scale,
    shape: Shape,
) -> None:
    """Mark where stations are off the air or into reserve."""
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
    for lane in by_key.values():
        make_room(lane.marks)


def _watches(event: Event, x: Scale) -> list[tuple[float, float]]:
    """When somebody watches the yard: from, and how wide."""
    found = []
    for crew in event.crews.all():
        if crew.does == "yard":
            start, end = (
                x(event.minute_of(at)) for at in (crew.starts_at, crew.ends_at)
            )
            found.append((start, round(end - start, 1)))
    return found


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
    leg: Leg,
    lane: Lane,
    x: Scale,
    tags: dict[UUID, str],
    share: float | None,
    curve: Sequence[tuple[float, float]],
) -> Bar:
    event = leg.rotation.event
    left, right = x(leg.start_min), x(leg.end_min)
    top, height = lane.bar_y, lane.shape.bar
    if leg.is_spare:
        top, height = _free_row(lane, left), SPARE_BAR
    foot = top + height

    def y(soc: float) -> float:
        return foot - soc * height

    # As it really runs: none comes in while a bay has no power, little at the end.
    ends = [(leg.start_min, leg.start_soc), (leg.end_min, leg.end_soc)]
    fill = points(
        [
            (left, foot),
            *((x(minute), y(soc)) for minute, soc in plain_curve(curve or ends)),
            (right, foot),
        ]
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


def plain_curve(
    curve: Sequence[tuple[float, float]],
) -> Sequence[tuple[float, float]]:
    """The same curve without points that lie on a line between others, to 0.5 %."""
    if len(curve) < 3:
        return curve
    (x1, y1), (x2, y2) = curve[0], curve[-1]
    off = [abs(y - (y1 + (y2 - y1) * (x - x1) / max(x2 - x1, 1e-9))) for x, y in curve]
    worst = max(range(len(curve)), key=off.__getitem__)
    if off[worst] <= STRAIGHT:
        return [curve[0], curve[-1]]
    before, after = plain_curve(curve[: worst + 1]), plain_curve(curve[worst:])
    return [*before[:-1], *after]


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
