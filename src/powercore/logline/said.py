"""What one line says, and the same written in full."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

READING, SWAP, MOVE, STATION, SOURCE, NOTE, FAULT, PANEL = (
    "reading",
    "swap",
    "move",
    "station",
    "source",
    "note",
    "fault",
    "panel",
)
#: How a reading was made, as it is written.
HOW = {"receiving": "receiving", "key_down": "key down", "unplugged": "unplugged"}
#: What a station is, as it is written.
IS = {
    "off_air": "off the air",
    "back": "back on the air",
    "low": "low power",
    "full": "full power",
    "shed": "shed",
    "restored": "restored",
}
#: What is wrong in a fault, as it is written.
WRONG = {
    "hot": "hot",
    "no_power": "no power",
    "quits": "quits on transmit",
    "blows": "blows fuse",
    "no_charge": "doesn't charge",
    "noise": "noise",
    "reads_wrong": "reads wrong",
    "other": "other",
}
#: How the sky is, as it is written.
SKY = ("clear", "few", "half", "most", "overcast")


@dataclass(frozen=True, slots=True, kw_only=True)
class Said:
    """One thing that a line says; names are as the club writes them."""

    kind: str
    battery: str = ""
    battery_out: str = ""
    station: str = ""
    #: A bay or the rack; of a swap, where the old one went. Empty: on the way.
    place: str = ""
    source: str = ""
    is_spare: bool = False
    #: "on" or "off" of a source; a key of `IS` of a station, of `WRONG` of a fault, of
    #: `SKY` of what panels give.
    what: str = ""
    volts: float | None = None
    amps: float | None = None
    how: str = ""
    unplugged_min: float | None = None
    #: Out is positive.
    amp_hours: float | None = None
    #: What a counter counted in, where it shows that apart.
    ah_in: float | None = None
    gauge_pct: float | None = None
    text: str = ""
    #: When it was so, as the clock on the wall showed it; None: now.
    when: datetime | None = None
    #: Whether it is meant though it is odd.
    is_sure: bool = False


def write(said: Said) -> str:
    """Return what was said, written in full; `parse` reads it as the same."""
    if said.kind == NOTE:
        return f"note: {said.text}"
    words = {
        READING: _reading,
        SWAP: _swap,
        MOVE: _move,
        STATION: lambda one: f"{one.station} {IS[one.what]}",
        SOURCE: lambda one: f"{one.source} {one.what}",
        FAULT: _fault,
        PANEL: _panel,
    }[said.kind](said)
    if said.when is not None:
        words += f" at {said.when:%Y-%m-%d %H:%M}"
    if said.text:
        words += f": {said.text}"
    return words + (" !" if said.is_sure else "")


def _reading(said: Said) -> str:
    parts = [said.battery]
    if said.volts is not None:
        parts.append(f"{number(said.volts)} V")
    if said.amps is not None:
        parts.append(f"{number(said.amps)} A")
    if said.how:
        parts.append(HOW[said.how])
    if said.unplugged_min is not None:
        parts.append(f"{number(said.unplugged_min)} min")
    if said.amp_hours is not None:
        way = "in" if said.amp_hours < 0 else "out"
        parts.append(f"{number(abs(said.amp_hours))} Ah {way}")
    if said.ah_in is not None:
        parts.append(f"{number(said.ah_in)} Ah in")
    if said.gauge_pct is not None:
        parts.append(f"{number(said.gauge_pct)} %")
    return " ".join(parts)


def _swap(said: Said) -> str:
    out = f" {said.battery_out} out" if said.battery_out else ""
    to = f" to {said.place}" if said.place else ""
    return f"{said.station} {said.battery} in{out}{to}"


def _move(said: Said) -> str:
    if said.is_spare:
        return f"{said.battery} to {said.station} as spare"
    return (
        f"{said.battery} to {said.place}"
        if said.place
        else f"{said.battery} on the way"
    )


def _fault(said: Said) -> str:
    return " ".join(
        filter(None, ("fault", said.station, said.battery, WRONG[said.what]))
    )


def _panel(said: Said) -> str:
    parts = []
    if said.amps is not None:
        parts = ["panels", said.station or said.source, f"{number(said.amps)} A"]
    if said.volts is not None:
        parts.append(f"{number(said.volts)} V")
    if said.what:
        parts.append(f"sky {said.what}")
    return " ".join(parts)


def number(value: float) -> str:
    """Return a number without needless digits, and never with an exponent."""
    return f"{value:.4f}".rstrip("0").rstrip(".")
