"""What happens to a battery and what is read of it, as steps of a belief."""

from __future__ import annotations

from dataclasses import dataclass

from powercore.physics.charging import ChargeModel


@dataclass(frozen=True, slots=True, kw_only=True)
class Use:
    """Time at a station: what its plan draws, and what panels there put in."""

    #: By plan; the real draw is the station's factor times this. [Ah]
    planned_ah: float
    hours: float
    #: What sun and supplies there give the battery. [Ah]
    given_ah: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Flow:
    """Charge taken out (+) or put in (-) that no station's factor changes."""

    ah: float
    #: Standard deviation of that amount. [Ah]
    sd_ah: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Charging:
    """Time on a bay that had power, by the charging model."""

    model: ChargeModel
    hours: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """Somebody saw it: "full by its charger", or a stated percentage."""

    soc: float
    sd: float = 0.02
    words: str = ""
    #: How often what was so said is not so; None: as usual.
    wrong: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class VoltsReading:
    """Volts, with the amps that flowed and how it was read."""

    volts: float
    #: Flowing out; None: nobody said.
    amps: float | None
    #: "receiving", "key_down" or "unplugged".
    how: str = "receiving"
    #: For how long nothing was connected. [min]
    unplugged_min: float = 0.0
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class CounterReading:
    """Amp-hours counted since the turn began; out is positive."""

    ah: float
    #: How long it counted. [h]
    hours: float = 0.0
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class GaugeReading:
    """A percentage shown by the battery's own gauge."""

    soc: float
    words: str = ""


Reading = Known | VoltsReading | CounterReading | GaugeReading
Step = Use | Flow | Charging | Reading
