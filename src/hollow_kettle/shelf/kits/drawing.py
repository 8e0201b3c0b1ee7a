"""Geometry of a kit's power path and of the volts along it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import count

from hollow_kettle.ui.drawing import Scale, points
from powercore.gear.checks import Finding
from powercore.gear.powerpath import (
    Block,
    Cable,
    Charge,
    Converts,
    Feeds,
    Fuse,
    Joint,
    Kit,
    Part,
    State,
    key_down,
    receiving,
    try_solve,
)
from powercore.gear.things import Panel

WIDTH = 1000.0
_LEFT, _RIGHT = 132.0, 8.0
_ROW = 78.0
_BOX_H = 42.0
_TOP = 34.0
_VOLTS_H = 210.0
_CHARGE_ROW = 50.0
_CHARGE_W = 150.0


@dataclass(frozen=True, slots=True)
class Box:
    """One part where it is drawn."""

    part: Part
    x: float
    y: float
    w: float
    #: "box", "cable" or "missing".
    shape: str
    title: str
    words: str
    amps: str
    #: Line width of the current through it. [px]
    stroke: float
    flags: tuple[tuple[int, str], ...]

    @property
    def mid(self) -> float:
        """Middle of it. [px]"""
        return round(self.x + self.w / 2, 1)

    @property
    def end(self) -> float:
        """Where it ends. [px]"""
        return round(self.x + self.w, 1)

    @property
    def top(self) -> float:
        """Its upper edge. [px]"""
        return self.y - _BOX_H / 2

    @property
    def flag_y(self) -> float:
        """Where its findings are flagged: above what is written over a wire. [px]"""
        return self.top - (14 if self.shape == "cable" else 6)


@dataclass(frozen=True, slots=True)
class Join:
    """A line between two parts."""

    points: str
    stroke: float


@dataclass(frozen=True, slots=True)
class Tick:
    """A mark of the volts axis."""

    y: float
    words: str


@dataclass(frozen=True, slots=True)
class Volts:
    """The volts along the way to one load."""

    load: str
    band: str
    full: str
    receive: str
    ticks: list[Tick]
    end_x: float
    end_y: float
    end_words: str
    min_y: float
    min_x: float
    min_words: str
    lost_x: float
    lost_y: float
    lost_words: str
    height: float = _VOLTS_H


@dataclass(frozen=True, slots=True)
class ChargeLine:
    """One way of charging: its boxes, and the line to where it enters."""

    y: float
    words: list[tuple[float, str, str]]
    points: str
    end_x: float
    end_y: float
    #: Where each finding is flagged, its number and severity.
    flags: list[tuple[float, int, str]]


@dataclass(frozen=True, slots=True)
class Line:
    """One line of the table behind the drawing."""

    part: Part
    depth: int
    receive_a: float | None
    key_down_a: float | None
    full_v: float | None
    reserve_v: float | None
    lost_w: float | None


@dataclass(frozen=True, slots=True)
class PathDrawing:
    """Everything the drawing shows."""

    boxes: list[Box]
    joins: list[Join]
    height: float
    battery_y: float
    battery_words: list[str]
    battery_flags: tuple[tuple[int, str], ...]
    charges: list[ChargeLine]
    total: str
    volts: Volts | None
    table: list[Line]
    width: float = WIDTH

    @property
    def kettle_y(self) -> float:
        """Upper edge of the battery's kettle. [px]"""
        return self.battery_y - 44

    @property
    def words_y(self) -> float:
        """First line of the words below it. [px]"""
        return self.battery_y + 56


def draw_path(kit: Kit, findings: list[Finding], from_soc: float = 0.9) -> PathDrawing:
    """
    Lay a kit's path out from its batteries on the left to its loads on the right.

    Findings are numbered as the list beside the drawing numbers them.
    """
    layout = _Layout(kit)
    layout.place("", 0)
    rows, depths, order = layout.rows, layout.depths, layout.order
    deepest = max(depths.values(), default=0) + 1
    column = (WIDTH - _LEFT - _RIGHT) / deepest
    full = try_solve(kit, from_soc, key_down)
    reserve = _reserve(kit)
    low = try_solve(kit, reserve, key_down)
    listen = try_solve(kit, from_soc, receiving)
    flags = _flags(findings)
    boxes = [
        _box(part, rows[part.key], depths[part.key], column, full, flags)
        for part in order
    ]
    by_key = {box.part.key: box for box in boxes}
    tops = [rows[part.key] for part in kit.children.get("", [])]
    battery_y = _TOP + (sum(tops) / len(tops) if tops else 0.5) * _ROW + _BOX_H
    tree_h = max(_TOP * 2 + max(rows.values(), default=0) * _ROW, battery_y + 98)
    charges = _charges(kit, by_key, battery_y, tree_h, flags)
    height = tree_h + 24 + len(charges) * _CHARGE_ROW
    return PathDrawing(
        boxes=boxes,
        joins=_joins(kit, by_key, battery_y, full),
        height=height,
        battery_y=battery_y,
        battery_words=_battery_words(kit),
        battery_flags=tuple(
            flag for member in kit.members for flag in flags.get(member.battery.tag, ())
        ),
        charges=charges,
        total=f"{full.total_a:.1f} A" if full else "",
        volts=_volts(kit, by_key, full, low, listen),
        table=_table(kit, order, depths, full, low, listen),
    )


def _reserve(kit: Kit) -> float:
    return max((b.pack.reserve_soc for b in kit.batteries), default=0.2)


@dataclass(slots=True)
class _Layout:
    """Each part's row and column, and the order in which they are drawn."""

    kit: Kit
    rows: dict[str, float] = field(default_factory=dict)
    depths: dict[str, int] = field(default_factory=dict)
    order: list[Part] = field(default_factory=list)
    leaf: Iterator[int] = field(default_factory=count)

    def place(self, key: str, depth: int) -> list[float]:
        """Give each part its column, and its row amid the rows of what hangs on it."""
        own = []
        for part in self.kit.children.get(key, []):
            self.order.append(part)
            self.depths[part.key] = depth
            below = self.place(part.key, depth + 1)
            row = sum(below) / len(below) if below else float(next(self.leaf))
            self.rows[part.key] = row
            own.append(row)
        return own


def _flags(findings: list[Finding]) -> dict[str, list[tuple[int, str]]]:
    flags: dict[str, list[tuple[int, str]]] = {}
    for number, finding in enumerate(findings, start=1):
        flags.setdefault(finding.where, []).append((number, finding.severity.value))
    return flags


def _stroke(amps: float) -> float:
    return round(1.2 + min(4.8, amps / 5), 1)


def _box(
    part: Part,
    row: float,
    depth: int,
    column: float,
    state: State | None,
    flags: dict[str, list[tuple[int, str]]],
) -> Box:
    amps = state.at[part.key].amps if state else 0.0
    shape = "cable" if isinstance(part, Cable) else "box"
    if isinstance(part, Fuse) and part.amps is None:
        shape = "missing"
    title, words = _titles(part)
    gap = 0 if shape == "cable" else 5
    return Box(
        part=part,
        x=round(_LEFT + depth * column + gap, 1),
        y=round(_TOP + row * _ROW + _BOX_H, 1),
        w=round(column - 2 * gap, 1),
        shape=shape,
        title=_short(title, column, 6.7),
        words=_short(words, column, 5.9),
        amps=f"{amps:.1f} A" if state and isinstance(part, Cable) else "",
        stroke=_stroke(amps),
        flags=tuple(flags.get(part.key, ())[:3]),
    )


def _short(words: str, column: float, letter: float) -> str:
    """Words cut to what a box holds; the table has them whole."""
    most = max(4, int((column - 12) / letter))
    return words if len(words) <= most else words[: most - 1] + "…"


def _titles(part: Part) -> tuple[str, str]:
    if isinstance(part, Fuse):
        if part.amps is None:
            return "no fuse", part.name
        return f"{part.amps:g} A", part.name or (
            "breaker" if part.style == "breaker" else "fuse"
        )
    if isinstance(part, Cable):
        wire = part.wire
        if wire is None:
            return "not measured", part.name
        size = wire.words.split(", ")
        return size[0], size[1]
    if isinstance(part, Joint):
        return part.name or "joint", f"{part.rating_a:g} A pair"
    if isinstance(part, Block):
        return part.name or "block", f"main {part.main_a:g} A"
    if isinstance(part, Converts):
        converter = part.converter
        return part.called, f"{converter.out_v:g} V {converter.max_w:g} W"
    if isinstance(part, Feeds):
        device = part.device
        window = f"{device.min_v:g}–{device.max_v:g} V"
        return part.called, f"{device.tx_w:g} W" if device.tx_w else window
    return part.name or "switch", part.words


def _joins(
    kit: Kit, boxes: dict[str, Box], battery_y: float, state: State | None
) -> list[Join]:
    joins = []
    for box in boxes.values():
        before = boxes.get(box.part.after)
        start = (before.end, before.y) if before else (92.0, battery_y)
        bend = start[0] + 4 if before else start[0] + 20
        way = [start, (bend, start[1]), (bend, box.y), (box.x, box.y)]
        if box.shape == "cable":
            way.append((box.end, box.y))
        joins.append(Join(points(way), box.stroke))
    return joins


def _battery_words(kit: Kit) -> list[str]:
    words = []
    for member in kit.members[:4]:
        pack = member.battery.pack
        words.append(member.battery.tag)
        words.append(f"{pack.nameplate_ah:g} Ah {pack.chem.name}")
        words.append(f"trusted {pack.trusted_ah:.1f} Ah")
    return words


def _charges(
    kit: Kit,
    boxes: dict[str, Box],
    battery_y: float,
    top: float,
    flags: dict[str, list[tuple[int, str]]],
) -> list[ChargeLine]:
    """Each way of charging in a row below, with a line up to where it enters."""
    found = []
    for number, charge in enumerate(kit.charges[:4]):
        y = top + 40 + number * _CHARGE_ROW
        things = [(charge.source.tag, _source_words(charge))]
        if charge.controller is not None:
            words = f"{charge.controller.method} {charge.controller.max_a:g} A"
            things.append((charge.controller.tag, words))
        elif isinstance(charge.source, Panel):
            things.append(("no controller", ""))
        starts = [_LEFT + n * (_CHARGE_W + 22) for n in range(len(things))]
        entry = boxes.get(charge.enters_at)
        bend = starts[-1] + _CHARGE_W + 14 + number * 9
        end = (entry.mid, entry.y + _BOX_H / 2) if entry else (55.0, battery_y + 96)
        way = [(starts[0], y)]
        if entry:
            way += [(max(bend, 0.0), y), (bend, top + 6 - number * 7)]
            way += [(end[0], top + 6 - number * 7), end]
        else:
            way += [(end[0] + number * 5, y), (end[0] + number * 5, end[1])]
        found.append(
            ChargeLine(
                y=y,
                words=[(x, *thing) for x, thing in zip(starts, things, strict=True)],
                points=points(way),
                end_x=way[-1][0],
                end_y=end[1],
                flags=[
                    (20.0 + 24 * n, *flag)
                    for n, flag in enumerate(flags.get(charge.key, ())[:4])
                ],
            )
        )
    return found


def _source_words(charge: Charge) -> str:
    source = charge.source
    if isinstance(source, Panel):
        return f"{source.watts:.0f} W, {source.string_voc_v:g} V open"
    volts = f", {source.absorb_v:g} V" if source.absorb_v else ""
    return f"{source.max_a:g} A {source.role}{volts}"


def _volts(
    kit: Kit,
    boxes: dict[str, Box],
    full: State | None,
    low: State | None,
    listen: State | None,
) -> Volts | None:
    """Draw the way to the load with the least to spare."""
    direct = [p for p in kit.devices if not kit.converter_before(p.key)]
    if not direct or full is None or low is None or listen is None:
        return None
    load = min(direct, key=lambda part: low.at[part.key].in_v - part.device.min_v)
    way = kit.way_to(load.key)
    high_v = listen.terminal_v
    # Far below what it gets, the device's minimum is named and not drawn to scale.
    low_v = low.at[load.key].in_v
    least_v = min(low_v, max(load.device.min_v, low_v - 1.0))
    scale = Scale(least_v - 0.15, high_v + 0.1, _VOLTS_H - 22, 12)

    def line(state: State) -> list[tuple[float, float]]:
        at = [(92.0, scale(state.terminal_v))]
        for part in way:
            box, here = boxes[part.key], state.at[part.key]
            at += [(box.x, scale(here.in_v)), (box.end, scale(here.out_v))]
        return at

    top, bottom, thin = line(full), line(low), line(listen)
    step = 0.5 if high_v - least_v > 1.2 else 0.2
    first = int(least_v / step) * step
    ticks = [
        Tick(scale(v), f"{v:g}")
        for v in (first + n * step for n in range(12))
        if least_v - 0.1 <= v <= high_v + 0.05
    ]
    drops = [(full.at[p.key].in_v - full.at[p.key].out_v, p) for p in way[:-1]]
    most, where = max(drops, key=lambda drop: drop[0], default=(0.0, load))
    end_v = full.at[load.key].in_v
    at_most = boxes[where.key]
    return Volts(
        load=load.called,
        band=points(top + bottom[::-1]),
        full=points(top),
        receive=points(thin),
        ticks=ticks,
        end_x=boxes[load.key].mid,
        end_y=scale(end_v) - 7,
        end_words=f"{end_v:.2f} V",
        min_y=scale(load.device.min_v),
        min_x=boxes[load.key].x - 120,
        min_words=f"{load.called} quits at {load.device.min_v:g} V",
        lost_x=at_most.mid,
        lost_y=min(_VOLTS_H - 28, scale(low.at[where.key].out_v) + 16),
        lost_words=f"{most:.2f} V lost here" if most > 0.04 else "",
    )


def _table(
    kit: Kit,
    order: list[Part],
    depths: dict[str, int],
    full: State | None,
    low: State | None,
    listen: State | None,
) -> list[Line]:
    return [
        Line(
            part=part,
            depth=depths[part.key],
            receive_a=listen.at[part.key].amps if listen else None,
            key_down_a=full.at[part.key].amps if full else None,
            full_v=full.at[part.key].in_v if full else None,
            reserve_v=low.at[part.key].in_v if low else None,
            lost_w=(
                full.at[part.key].lost_w
                if full and not isinstance(part, Converts | Feeds)
                else None
            ),
        )
        for part in order
    ]
