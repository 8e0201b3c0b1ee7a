"""
The equipment library every installation starts with: generic kinds.

Currents at a nominal 12.8 V. Origin "common practice, no source" means what
operators commonly measure; a club replaces it by its own measurement.
"""

from __future__ import annotations

from dataclasses import dataclass

from hollow_kettle.shelf.models import EquipmentStep, EquipmentType
from powercore.physics.loads import converter_current_a

PRACTICE = "common practice, no source"


@dataclass(frozen=True, slots=True)
class Generic:
    """One generic kind: currents as (standby, receive, transmit idle, key down)."""

    key: str
    name: str
    window_v: tuple[float, float]
    full: tuple[float, float, float, float]
    low: tuple[float, float, float, float]
    full_words: str = ""
    low_words: str = ""
    origin: str = PRACTICE


def _steady(amps: float) -> tuple[float, float, float, float]:
    return (amps, amps, amps, amps)


def _behind_converter(watts: float) -> tuple[float, float, float, float]:
    return _steady(round(converter_current_a(watts, 0.9), 3))


_CONVERTED = "watts ÷ 0.9 ÷ 12.8 V; common practice, no source"

LIBRARY = (
    Generic(
        "hf-100w",
        "100 W HF transceiver",
        (11.7, 15.8),
        (0.9, 1.2, 3.0, 21.0),
        (0.9, 1.2, 2.6, 9.5),
        "100 W",
        "25 W",
    ),
    Generic(
        "hf-40w",
        "40 W HF data transceiver",
        (11.5, 15.8),
        (0.5, 0.7, 1.6, 9.0),
        (0.5, 0.7, 1.3, 4.5),
        "40 W",
        "10 W",
    ),
    Generic(
        "hf-20w",
        "20 W HF transceiver",
        (11.0, 15.0),
        (0.4, 0.5, 0.9, 4.0),
        (0.4, 0.5, 0.8, 2.0),
        "20 W",
        "5 W",
    ),
    Generic(
        "hf-5w",
        "5 W portable transceiver",
        (9.0, 15.0),
        (0.05, 0.1, 0.2, 0.9),
        (0.05, 0.1, 0.2, 0.5),
        "5 W",
        "2 W",
    ),
    Generic(
        "vhf-50w",
        "50 W VHF FM transceiver",
        (11.7, 15.8),
        (0.3, 0.5, 1.0, 10.5),
        (0.3, 0.5, 0.9, 4.5),
        "50 W",
        "10 W",
    ),
    Generic(
        "vhf-relay-25w",
        "25 W VHF relay",
        (11.5, 15.0),
        (0.5, 0.7, 1.2, 6.5),
        (0.5, 0.7, 1.0, 3.5),
        "25 W",
        "10 W",
    ),
    Generic(
        "handheld-charger",
        "Handheld on its charger",
        (11.0, 15.0),
        _steady(0.4),
        _steady(0.0),
        "charging",
        "unplugged",
    ),
    Generic(
        "laptop",
        "Logging laptop, 20 W",
        (11.0, 15.5),
        _behind_converter(20),
        _behind_converter(8),
        "on its charger",
        "screen dimmed",
        _CONVERTED,
    ),
    Generic(
        "tablet",
        "Logging tablet, 4 W",
        (9.0, 15.5),
        _behind_converter(4),
        _behind_converter(2),
        "on its charger",
        "screen dimmed",
        _CONVERTED,
    ),
    Generic(
        "access-point",
        "Wireless access point, 5 W",
        (9.0, 24.0),
        _behind_converter(5),
        _behind_converter(5),
        "on",
        "on",
        _CONVERTED,
    ),
    Generic(
        "power-desk",
        "Power desk: laptop, access point, two phones",
        (11.0, 15.5),
        _behind_converter(20 + 5 + 2 * 3),
        _behind_converter(8 + 5),
        "all of it",
        "screen dimmed, phones off charge",
        _CONVERTED,
    ),
    Generic(
        "tent-light",
        "Tent light, 3 W",
        (10.0, 15.0),
        _steady(0.25),
        _steady(0.1),
        "bright",
        "dim",
    ),
    Generic(
        "small-computer",
        "Small digital-mode computer, 6 W",
        (9.0, 15.5),
        _behind_converter(6),
        _behind_converter(6),
        "on",
        "on",
        _CONVERTED,
    ),
)


def stock_library() -> None:
    """Put the generic kinds into the library where they are missing."""
    for kind in LIBRARY:
        equipment, is_new = EquipmentType.objects.get_or_create(
            key=kind.key,
            defaults={
                "name": kind.name,
                "origin": kind.origin,
                "min_v": kind.window_v[0],
                "max_v": kind.window_v[1],
            },
        )
        if not is_new:
            continue
        for step, words, amps in (
            (EquipmentStep.FULL, kind.full_words, kind.full),
            (EquipmentStep.LOW, kind.low_words, kind.low),
        ):
            standby, receive, idle, key_down = amps
            EquipmentStep.objects.create(
                equipment=equipment,
                step=step,
                words=words,
                standby_a=standby,
                receive_a=receive,
                transmit_idle_a=idle,
                key_down_a=key_down,
            )
