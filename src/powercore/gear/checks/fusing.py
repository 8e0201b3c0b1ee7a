"""Fuses: at the battery, no larger than the wire, large enough for the radio."""

from __future__ import annotations

import math
from collections.abc import Iterator

from powercore.gear.checks.base import CAUTION, NOTE, STOP, Hit, rule
from powercore.gear.powerpath import (
    Block,
    Cable,
    Converts,
    Draws,
    Feeds,
    Fuse,
    Joint,
    Kit,
    Part,
    key_down,
    loaded,
    sustained,
)
from powercore.physics.wiring import (
    BLADE_INTERRUPTS_A,
    FUSE_WITHIN_M,
    SUSTAINED_SHARE,
    fuse_for,
)

CAUSE = "fuses"


def _protecting(kit: Kit, key: str) -> Fuse | None:
    """The smallest good fuse between a part and the battery, or a converter."""
    fuses: list[Fuse] = []
    for part in reversed(kit.way_to(key)[:-1]):
        if isinstance(part, Converts):
            break
        if isinstance(part, Fuse) and part.amps is not None:
            fuses.append(part)
    return min(fuses, key=lambda fuse: fuse.amps or 0.0, default=None)


def _unfused(kit: Kit, part: Part) -> Iterator[Part]:
    """A part and all behind it up to the next good fuse or converter."""
    yield part
    for child in kit.children.get(part.key, []):
        is_guarded = isinstance(child, Fuse) and child.amps is not None
        if not is_guarded and not isinstance(child, Converts):
            yield from _unfused(kit, child)


def advised_a(kit: Kit, part: Part) -> float | None:
    """
    Fuse to fit at a part, by what really flows there and by what is behind it. [A]

    The maker's for the one radio behind it, where the wires carry that; else the
    smallest that passes key-down and stays cool at the ten-minute mean, never above
    a wire or a maker's fuse. None where there is none.
    """
    behind = list(_unfused(kit, part))
    most_a = min(
        (p.wire.ampacity_a for p in behind if isinstance(p, Cable) and p.wire),
        default=math.inf,
    )
    makers = [
        p.device.maker_fuse_a
        for p in behind
        if isinstance(p, Feeds) and p.device.maker_fuse_a is not None
    ]
    own = _maker_fuse(kit, part)
    if own is not None and own in makers and own <= most_a:
        return own
    most_a = min([most_a, *makers])
    key_down_a = _amps(kit, key_down).get(part.key, 0.0)
    if key_down_a <= 0:
        return None
    return fuse_for(_amps(kit, sustained).get(part.key, 0.0), key_down_a, most_a)


def _amps(kit: Kit, draws: Draws) -> dict[str, float]:
    return {part.key: at.amps for part, at in loaded(kit, draws)}


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
        size = advised_a(kit, part)
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
            size = advised_a(kit, part)
            yield Hit(
                where=part.key,
                words=f"{part.called} has no fuse; nothing protects what is behind it.",
                remedy=f"Fit {size:g} A here." if size else "",
            )


@rule(
    "fuse-above-wire",
    STOP,
    CAUSE,
    "the fuse is larger than the wire carries",
    why="The fuse protects the wire: where it passes more than the wire carries, the "
    "wire is the fuse.",
    remedy="A smaller fuse, or thicker wire.",
    source="common practice up to AWG 10; ABYC E-11, from memory",
)
def fuse_above_wire(kit: Kit) -> Iterator[Hit]:
    """Each wire against the smallest fuse before it, up to the last converter."""
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
                remedy=_next_size(kit, part),
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
                remedy=_next_size(kit, part),
            )


def _next_size(kit: Kit, part: Part) -> str:
    size = advised_a(kit, part)
    return f"{size:g} A suits current and wire." if size else "Thicker wire first."


@rule(
    "fuse-not-makers",
    STOP,
    CAUSE,
    "a larger fuse than the radio's maker gives",
    why="Nothing in the radio opens before the maker's size does: above it, a fault "
    "there burns.",
    remedy="Fit the maker's size.",
)
def fuse_not_makers(kit: Kit) -> Iterator[Hit]:
    """The smallest fuse before a device above the one that its maker gives."""
    for part in kit.devices:
        wanted, fuse = part.device.maker_fuse_a, _protecting(kit, part.key)
        if wanted is None or fuse is None or fuse.amps is None:
            continue
        if fuse.amps > wanted:
            yield Hit(
                where=fuse.key,
                words=f"{fuse.words} before {part.called}; its maker gives "
                f"{wanted:g} A.",
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
            real_a = _amps(kit, key_down).get(part.key, 0.0)
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
    short_a = kit.top_v / kit.set_ohm
    for part in kit.parts:
        if not isinstance(part, Fuse) or part.amps is None or part.style != "blade":
            continue
        is_first = not any(isinstance(p, Fuse) for p in kit.way_to(part.key)[:-1])
        if is_first and short_a > BLADE_INTERRUPTS_A:
            yield Hit(
                where=part.key,
                words=f"Shorted, the battery gives about {short_a:.0f} A.",
            )
