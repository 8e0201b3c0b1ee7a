"""Volts and amps along a power path, and how long it gives them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from powercore.errors import PowerBeyondPack
from powercore.gear.powerpath.kit import Kit
from powercore.gear.powerpath.parts import (
    At,
    Converts,
    Draws,
    Feeds,
    Part,
    PathError,
    State,
    Switch,
)
from powercore.physics.loads import Draw, Pattern, mean_current_a


def receiving(part: Feeds) -> float:
    """Current of a device that receives. [A]"""
    return part.device.draw.receive_a


def key_down(part: Feeds) -> float:
    """Current of a device that transmits its full power. [A]"""
    return max(part.device.draw.key_down_a, part.device.draw.receive_a)


def sustained(part: Feeds) -> float:
    """Mean current over ten minutes of the way a device is used. [A]"""
    device = part.device
    return mean_current_a(
        device.draw, Pattern(transmit_share=device.transmit_share, duty=device.duty)
    )


def low_power(part: Feeds) -> float:
    """Current of a device that transmits at its low step. [A]"""
    draw: Draw = part.device.low_draw or part.device.draw
    return max(draw.key_down_a, draw.receive_a)


_ROUNDS = 200
_CLOSE_V = 1e-7


def solve(kit: Kit, soc: float, draws: Draws) -> State:
    """
    Find volts and amps at every part of a kit.

    Loads take their current whatever the voltage; a converter takes the power its
    load needs at the voltage it gets, so its current rises as the voltage falls.
    The way is walked from the loads up (amps) and from the battery down (volts)
    until nothing moves.

    Parameters
    ----------
    kit : Kit
        With at least one battery.
    soc : float
        State of charge of its batteries. (0 to 1)
    draws : callable
        Current of each device at its own voltage. [A]

    Raises
    ------
    PathError
        If the kit has no battery.
    PowerBeyondPack
        If converters ask for more than the way lets through.
    """
    if not kit.members:
        raise PathError("The kit has no battery.")
    rested_v = kit.set_v(soc)
    volts = {part.key: rested_v for part in kit.parts}
    terminal_v = rested_v
    for _ in range(_ROUNDS):
        amps: dict[str, float] = {}
        total_a = sum(
            _amps(kit, part, volts, draws, amps) for part in kit.children.get("", [])
        )
        before_v, terminal_v = terminal_v, rested_v - total_a * kit.set_ohm
        if terminal_v < 0.3 * rested_v:
            raise PowerBeyondPack(
                f"The converters ask for more than {kit.members[0].battery.tag} gives "
                f"through this way; at {soc:.0%} the voltage collapses."
            )
        found: dict[str, At] = {}
        for part in kit.children.get("", []):
            _volts(kit, part, terminal_v, amps, found)
        moved = max(
            [abs(terminal_v - before_v)]
            + [abs(found[key].in_v - volts[key]) for key in volts]
        )
        volts = {key: at.in_v for key, at in found.items()}
        if moved < _CLOSE_V:
            return State(terminal_v=terminal_v, total_a=total_a, at=found)
    raise PowerBeyondPack("No steady voltage is found for this kit; a load is too big.")


def try_solve(kit: Kit, soc: float, draws: Draws) -> State | None:
    """
    Like `solve`, but None where there is no battery or no steady voltage.

    A kit remembers the answer: many rules ask for the same few states of it.
    """
    asked = (soc, draws)
    if asked not in kit.solved:
        try:
            kit.solved[asked] = solve(kit, soc, draws)
        except (PathError, PowerBeyondPack):
            kit.solved[asked] = None
    return kit.solved[asked]


def loaded(kit: Kit, draws: Draws) -> list[tuple[Part, At]]:
    """Each part with its volts and amps at half charge; none where none are steady."""
    state = try_solve(kit, 0.5, draws)
    return [(part, state.at[part.key]) for part in kit.parts] if state else []


def _amps(
    kit: Kit,
    part: Part,
    volts: Mapping[str, float],
    draws: Draws,
    amps: dict[str, float],
) -> float:
    below = sum(
        _amps(kit, child, volts, draws, amps)
        for child in kit.children.get(part.key, [])
    )
    if isinstance(part, Feeds):
        below += draws(part)
    if isinstance(part, Converts):
        below = _converter_a(kit, part, below, volts[part.key])
    if isinstance(part, Switch) and not part.is_on:
        amps.update(dict.fromkeys((p.key for p in kit.behind(part.key)), 0.0))
        below = 0.0
    amps[part.key] = below
    return below


def _converter_a(kit: Kit, part: Converts, output_a: float, input_v: float) -> float:
    converter = part.converter
    if input_v < converter.in_min_v:
        return 0.0
    watts = converter.input_w(output_a * converter.output_v(input_v))
    return watts / input_v


def _volts(
    kit: Kit,
    part: Part,
    in_v: float,
    amps: Mapping[str, float],
    found: dict[str, At],
) -> None:
    current = amps[part.key]
    out_v = in_v - current * part.ohm
    if isinstance(part, Converts):
        out_v = part.converter.output_v(in_v)
    if isinstance(part, Switch) and not part.is_on:
        out_v = 0.0
    found[part.key] = At(amps=current, in_v=in_v, out_v=out_v)
    for child in kit.children.get(part.key, []):
        _volts(kit, child, out_v, amps, found)


@dataclass(frozen=True, slots=True, kw_only=True)
class Weakest:
    """The part nearest to what it may carry."""

    part: Part
    amps: float
    #: Key-down current over what it may carry.
    share: float


def weakest_link(kit: Kit, state: State) -> Weakest | None:
    """Return the part whose current comes nearest to its rating, or passes it."""
    rated = [
        Weakest(
            part=part,
            amps=state.at[part.key].amps,
            share=state.at[part.key].amps / part.rating_a,
        )
        for part in kit.parts
        if part.rating_a
    ]
    return max(rated, key=lambda link: link.share, default=None)


def lowest_soc_for(kit: Kit, key: str, min_v: float, draws: Draws) -> float:
    """
    Lowest state of charge at which a part still gets a voltage. (0 to 1)

    1.0 when not even a full battery gives it. Found by halving; volts rise with
    the charge.
    """

    def enough(soc: float) -> bool:
        try:
            return solve(kit, soc, draws).at[key].in_v >= min_v
        except PowerBeyondPack:
            return False

    if not enough(1.0):
        return 1.0
    low, high = 0.0, 1.0
    if enough(0.0):
        return 0.0
    for _ in range(12):
        middle = (low + high) / 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return high


def quits_at(kit: Kit, part: Feeds) -> float:
    """
    State of charge below which a device quits, key down. (0 to 1)

    1.0 when not even a full battery will do; a kit remembers the answer.
    """
    if part.key not in kit.quitting:
        lowest = lowest_soc_for(kit, part.key, part.device.needs_v, key_down)
        kit.quitting[part.key] = lowest
    return kit.quitting[part.key]


def hours_given(kit: Kit, draws: Draws, from_soc: float = 1.0) -> float:
    """
    Hours from a charge to the reserve at a steady way of operating. [h]

    Charge above the reserve over the current at mid charge; infinite without load.
    """
    reserve = max(m.battery.pack.reserve_soc for m in kit.members)
    current = solve(kit, (from_soc + reserve) / 2, draws).total_a
    # Each gives its share of the current; lead-acid gives less of itself at much.
    packs = [m.battery.pack for m in kit.members]
    total_ah = sum(pack.trusted_ah for pack in packs)
    usable_ah = sum(
        max(0.0, from_soc - pack.reserve_soc)
        * float(pack.ah_at(current * pack.trusted_ah / total_ah))
        for pack in packs
    )
    return usable_ah / current if current > 0 else float("inf")
