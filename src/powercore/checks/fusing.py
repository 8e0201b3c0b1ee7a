"""Fuses: at the battery, no larger than the wire, large enough for the radio."""

from __future__ import annotations

from collections.abc import Iterator

from powercore.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.powerpath import (
    Block,
    Cable,
    Feeds,
    Fuse,
    Joint,
    Kit,
    Part,
    key_down,
    loaded,
    sustained,
)
from powercore.wiring import (
    BLADE_INTERRUPTS_A,
    FUSE_WITHIN_M,
    SUSTAINED_SHARE,
    fuse_for,
)

CAUSE = "fuses"


def _protecting(kit: Kit, key: str) -> Fuse | None:
    """The smallest good fuse between the battery and a part."""
    fuses = [
        part
        for part in kit.way_to(key)[:-1]
        if isinstance(part, Fuse) and part.amps is not None
    ]
    return min(fuses, key=lambda fuse: fuse.amps or 0.0, default=None)


def _next_wire(kit: Kit, key: str) -> Cable | None:
    return next(
        (
            part
            for part in kit.behind(key)
            if isinstance(part, Cable) and part.wire is not None
        ),
        None,
    )


@rule(
    "fuse-missing",
    STOP,
    CAUSE,
    "no fuse before the wire",
    why="A battery gives hundreds of amps into a short; an unfused wire burns before "
    "anything else opens.",
    remedy="Fit a fuse at the battery, sized for the wire.",
)
def fuse_missing(kit: Kit) -> Iterator[Hit]:
    """Each first stretch of wire, joint or device that no fuse protects."""
    for part in kit.parts:
        if not isinstance(part, Cable | Joint | Feeds | Block):
            continue
        way = kit.way_to(part.key)
        if any(isinstance(p, Fuse) for p in way):
            continue
        if any(isinstance(p, Cable | Joint | Feeds | Block) for p in way[:-1]):
            continue
        amps = _key_down_a(kit).get(part.key, 0.0)
        wire = part.wire if isinstance(part, Cable) else None
        size = fuse_for(amps * 0.5, amps, wire)
        yield Hit(
            where=part.key,
            words=f"Nothing fuses the way to {part.called}.",
            remedy=f"Fit {size:g} A at the battery." if size else "",
        )


@rule(
    "fuse-open",
    STOP,
    CAUSE,
    "a fuse is missing or blown",
    why="An empty holder gets bridged in the dark with whatever is at hand.",
    remedy="Find out why it blew, then fit the right one.",
)
def fuse_open(kit: Kit) -> Iterator[Hit]:
    """A fuse without a rating is an open fault."""
    for part in kit.parts:
        if isinstance(part, Fuse) and part.amps is None:
            amps = _key_down_a(kit).get(part.key, 0.0)
            size = _advised(kit, part, amps, amps * 0.5)
            yield Hit(
                where=part.key,
                words=f"{part.called} has no fuse; nothing protects what is behind it.",
                remedy=f"Fit {size:g} A here." if size else "",
            )


def _key_down_a(kit: Kit) -> dict[str, float]:
    return {part.key: at.amps for part, at in loaded(kit, key_down)}


@rule(
    "fuse-above-wire",
    STOP,
    CAUSE,
    "the fuse is larger than the wire carries",
    why="The fuse protects the wire: where it passes more than the wire carries, the "
    "wire is the fuse.",
    remedy="A smaller fuse, or thicker wire.",
    source="ampacity: ABYC E-11, from memory",
)
def fuse_above_wire(kit: Kit) -> Iterator[Hit]:
    """Each wire against the smallest fuse before it."""
    for part in kit.parts:
        if not isinstance(part, Cable) or part.wire is None:
            continue
        fuse = _protecting(kit, part.key)
        carries_a = part.wire.ampacity_a
        if fuse is not None and (fuse.amps or 0) > carries_a * 1.001:
            yield Hit(
                where=part.key,
                words=f"{part.words} carries {carries_a:.0f} A; the fuse before it is "
                f"{fuse.amps:g} A.",
            )


def _maker_fuse(kit: Kit, fuse: Part) -> float | None:
    """The maker's fuse of the one device behind a part."""
    devices = [part for part in kit.behind(fuse.key) if isinstance(part, Feeds)]
    return devices[0].device.maker_fuse_a if len(devices) == 1 else None


@rule(
    "fuse-below-key-down",
    CAUTION,
    CAUSE,
    "key-down passes the fuse",
    why="A fuse below the key-down current opens in the middle of a contact.",
    remedy="The next size, if the wire carries it.",
)
def fuse_below_key_down(kit: Kit) -> Iterator[Hit]:
    """Key-down above the rating; a fuse that the maker gives is right as it is."""
    for part, at in loaded(kit, key_down):
        if not isinstance(part, Fuse) or part.amps is None:
            continue
        amps = at.amps
        if amps > part.amps and _maker_fuse(kit, part) != part.amps:
            yield Hit(
                where=part.key,
                words=f"Key down draws {amps:.1f} A through {part.words}.",
                remedy=_next_size(kit, part, amps, amps * 0.5),
            )


@rule(
    "fuse-sustained",
    CAUTION,
    CAUSE,
    "the ten-minute mean is above 80 % of the fuse",
    why="A warm fuse near its rating opens after a while; 80 % of it lasts.",
    remedy="The next size, if the wire carries it.",
)
def fuse_sustained(kit: Kit) -> Iterator[Hit]:
    """The mean current against 80 % of the rating; the maker's fuse wins."""
    for part, at in loaded(kit, sustained):
        if not isinstance(part, Fuse) or part.amps is None:
            continue
        amps = at.amps
        is_makers = _maker_fuse(kit, part) == part.amps
        if amps > SUSTAINED_SHARE * part.amps and not is_makers:
            yield Hit(
                where=part.key,
                words=f"{amps:.1f} A on the mean through {part.words}; "
                f"{SUSTAINED_SHARE * part.amps:.1f} A lasts.",
                remedy=_next_size(kit, part, amps, amps),
            )


def _advised(kit: Kit, part: Part, key_down_a: float, mean_a: float) -> float | None:
    """The maker's fuse for what hangs on a part, else the smallest that suits. [A]"""
    cable = _next_wire(kit, part.key)
    wire = cable.wire if cable else None
    makers = _maker_fuse(kit, part)
    if makers is not None and (wire is None or makers <= wire.ampacity_a):
        return makers
    return fuse_for(mean_a, key_down_a, wire)


def _next_size(kit: Kit, part: Part, key_down_a: float, mean_a: float) -> str:
    size = _advised(kit, part, key_down_a, mean_a)
    return f"{size:g} A suits current and wire." if size else "Thicker wire first."


@rule(
    "fuse-not-makers",
    NOTE,
    CAUSE,
    "another fuse than the radio's maker gives",
    why="The maker's size is right as it is.",
    remedy="Fit the maker's size, if the wire carries it.",
)
def fuse_not_makers(kit: Kit) -> Iterator[Hit]:
    """A fuse that serves one device whose maker gives another size."""
    for part in kit.parts:
        if not isinstance(part, Fuse) or part.amps is None:
            continue
        wanted = _maker_fuse(kit, part)
        shared = any(isinstance(p, Block) for p in kit.behind(part.key))
        if wanted is not None and not shared and part.amps > wanted:
            yield Hit(
                where=part.key,
                words=f"{part.words} where the maker gives {wanted:g} A.",
            )


@rule(
    "fuse-far",
    CAUTION,
    CAUSE,
    "the fuse is far from the battery",
    why="The wire between battery and fuse is protected by nothing.",
    remedy="Move the fuse to the terminal.",
    source="within 7 in (178 mm): ABYC E-11, from memory",
)
def fuse_far(kit: Kit) -> Iterator[Hit]:
    """The first fuse on a way more than 178 mm of wire from the terminal."""
    for part in kit.parts:
        if not isinstance(part, Fuse):
            continue
        before = kit.way_to(part.key)[:-1]
        if any(isinstance(p, Fuse) for p in before):
            continue
        wires = [p.wire for p in before if isinstance(p, Cable) and p.wire]
        length_m = sum(w.length_m for w in wires) if wires else part.from_battery_m
        if length_m > FUSE_WITHIN_M:
            yield Hit(
                where=part.key,
                words=f"{length_m:.2f} m of wire lie between the battery and "
                f"{part.words}.",
            )


@rule(
    "main-below-outlets",
    NOTE,
    CAUSE,
    "the outlets together can pass the main fuse",
    why="All outlets at once open the main fuse and take everything down, though no "
    "outlet is at fault.",
    remedy="Know it, or agree what may be on together.",
)
def main_below_outlets(kit: Kit) -> Iterator[Hit]:
    """Sum of the fuses behind a block against the fuse before it."""
    for part in kit.parts:
        if not isinstance(part, Block):
            continue
        main = _protecting(kit, part.key)
        limit_a = min(part.main_a, main.amps or part.main_a) if main else part.main_a
        outlets = [
            child.amps
            for child in kit.children.get(part.key, [])
            if isinstance(child, Fuse) and child.amps is not None
        ]
        if len(outlets) > 1 and sum(outlets) > limit_a:
            real_a = _key_down_a(kit).get(part.key, 0.0)
            over = real_a > limit_a
            yield Hit(
                where=part.key,
                words=f"Outlets for {sum(outlets):g} A behind {limit_a:g} A"
                + (f"; all at once draw {real_a:.1f} A." if over else "."),
                severity=CAUTION if over else NOTE,
            )


@rule(
    "fuse-interrupt",
    CAUTION,
    CAUSE,
    "a blade fuse may not break this battery's short",
    why="A blade fuse interrupts about 1 kA; a large pack gives more, and the arc "
    "stays.",
    remedy="A bolted fuse of a high interrupting class at the battery.",
    source="from memory",
)
def fuse_interrupt(kit: Kit) -> Iterator[Hit]:
    """Short-circuit current of the set against a blade fuse at its terminals."""
    if not kit.members:
        return
    short_a = kit.set_v(0.99) / kit.set_ohm
    for part in kit.parts:
        if not isinstance(part, Fuse) or part.amps is None or part.style != "blade":
            continue
        is_first = not any(isinstance(p, Fuse) for p in kit.way_to(part.key)[:-1])
        if is_first and short_a > BLADE_INTERRUPTS_A:
            yield Hit(
                where=part.key,
                words=f"Shorted, the battery gives about {short_a:.0f} A.",
            )
