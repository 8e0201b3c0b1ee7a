"""Which readings are odd: possible, but worth asking about before they are kept."""

from __future__ import annotations

from powercore.physics.battery import Pack

#: What a meter shows of a pack whose protection has tripped, at the most. [V] Common
#: practice, no source.
TRIPPED_V = 1.0
#: How far below its disconnect a pack in use is still read, as a share, and above its
#: charger's volts, a cell. [ratio] and [V] Common practice, no source.
BELOW, ABOVE_V = 0.85, 0.1
#: Of a battery that nobody knows: a 12 V one of any chemistry. [V] Common practice, no
#: source.
UNKNOWN_V = (9.0, 15.0)


def usual_volts(pack: Pack | None) -> tuple[float, float]:
    """
    Between which volts a battery is usually read.

    Parameters
    ----------
    pack : Pack or None
        The battery; None: nobody knows which it is.

    Returns
    -------
    low, high : float
        From under its disconnect to above its charger. [V]
    """
    if pack is None:
        return UNKNOWN_V
    return BELOW * pack.cut_off_v, pack.highest_charge_v + ABOVE_V * pack.series


def is_tripped(volts: float) -> bool:
    """Whether a voltage [V] is that of a pack whose protection has opened."""
    return abs(volts) < TRIPPED_V


def odd_volts(volts: float, pack: Pack | None) -> str | None:
    """
    Say why a reading is odd; None where it is not.

    Parameters
    ----------
    volts : float
        What was read. [V]
    pack : Pack or None
        What it was read of; None: nobody knows.
    """
    low_v, high_v = usual_volts(pack)
    if low_v <= volts <= high_v:
        return None
    if is_tripped(volts):
        return "a tripped protection shows 0 V"
    return f"such a battery lies between {low_v:.1f} and {high_v:.1f} V"


def net_ah(out_ah: float | None, in_ah: float | None) -> float | None:
    """What a counter says went out less what came in; None: nothing said. [Ah]"""
    return out_ah if in_ah is None else (out_ah or 0.0) - in_ah
