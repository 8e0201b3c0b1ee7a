"""
What is believed about a battery's charge, from all that was seen of it.

The state of charge is a distribution on a grid. Use and charging move and blur
it; each reading multiplies it by how well every state explains what was read,
with a small share kept for a reading that is simply wrong. A flat voltage curve
therefore moves the belief little, and nothing special is needed to say so.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from powercore.physics.battery import Pack
from powercore.physics.charging import ChargeModel
from powercore.physics.loads import ONE_IN_TEN
from powercore.values import FloatArray, in_range

_SOC: FloatArray = np.linspace(0, 1, 201)

#: Share of readings that are misread, misheard or of another battery.
#: Common practice, no source.
OUTLIER = 0.05
#: A gauge shows whole percents and counts itself. Common practice, no source.
GAUGE_SD = 0.04
#: A hand-held meter, its leads and the reader. [V] Common practice, no source.
METER_SD_V = 0.03
#: An amp-hour counter over one turn of duty, as a share of what it counted.
#: Common practice, no source.
COUNTER_SD = 0.03
#: How far a charge may be from what its charger should have put in, as a share of
#: the capacity. Common practice, no source.
CHARGING_SD = 0.03


@dataclass(frozen=True, slots=True, kw_only=True)
class Flow:
    """Charge taken out (+) or put in (-) as planned, not measured."""

    ah: float
    #: Standard deviation of that amount. [Ah]
    sd_ah: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """Somebody saw it: "full by its charger", or a stated percentage."""

    soc: float
    sd: float = 0.02
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class VoltsReading:
    """Volts, with the amps that flowed and how it was read."""

    volts: float
    amps: float
    #: "receiving", "key_down" or "unplugged".
    how: str = "receiving"
    #: For how long nothing was connected. [min]
    unplugged_min: float = 0.0
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class TurnBegins:
    """A battery begins a turn somewhere; amp-hour counters are reset then."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Charging:
    """Time on a bay that had power, by the charging model in amp-hours."""

    model: ChargeModel
    hours: float


@dataclass(frozen=True, slots=True, kw_only=True)
class CounterReading:
    """Amp-hours counted since the turn began; out is positive."""

    ah: float
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class GaugeReading:
    """A percentage shown by the battery's own gauge."""

    soc: float
    words: str = ""


Step = (
    Flow | Known | TurnBegins | Charging | VoltsReading | CounterReading | GaugeReading
)


@dataclass(frozen=True, slots=True, kw_only=True)
class MethodAnswer:
    """What the last reading of one kind says alone."""

    method: str
    low: float
    high: float
    words: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SocEstimate:
    """A state of charge (the median) with its 80 % interval and what it rests on."""

    typical: float
    low: float
    high: float
    methods: tuple[MethodAnswer, ...] = ()
    evidence: str = "never seen"


def unknown() -> SocEstimate:
    """Return the estimate of a battery nobody has seen: anything is possible."""
    return SocEstimate(typical=0.5, low=0.1, high=0.9)


class Belief:
    """A belief that grows step by step; `estimate` is its plain use."""

    def __init__(self, pack: Pack) -> None:
        self.pack = pack
        self._weights = np.full(_SOC.size, 1 / _SOC.size)
        self._turn_start = self._weights
        # A station that draws more than planned does so all along: the errors of
        # uses since the last reading add up, they don't average out.
        self._anchor = self._weights
        self._used_ah = self._used_sd_ah = 0.0
        self._answers: dict[str, MethodAnswer] = {}
        self._evidence = "never seen"

    def apply(self, step: Step) -> None:
        """Take one step: time passes, or something is read."""
        trusted_ah = self.pack.trusted_ah
        if isinstance(step, Flow):
            self._used_ah += step.ah
            self._used_sd_ah += step.sd_ah
            self._weights = _moved(
                self._anchor,
                _SOC - self._used_ah / trusted_ah,
                self._used_sd_ah / trusted_ah,
            )
            return
        if isinstance(step, TurnBegins):
            self._turn_start = self._weights
        elif isinstance(step, Charging):
            full = step.model.capacity
            after = np.array(
                [step.model.after(s * full, step.hours) / full for s in _SOC]
            )
            self._weights = _moved(self._weights, after, CHARGING_SD)
        elif isinstance(step, CounterReading):
            # The counter knows what flowed since the turn began better than the plan.
            sd = 0.005 + COUNTER_SD * abs(step.ah) / trusted_ah
            self._weights = _moved(self._turn_start, _SOC - step.ah / trusted_ah, sd)
            self._note("counter", self._weights, step.words)
        else:
            method, likelihood = _likelihood(self.pack, step)
            alone = likelihood / likelihood.sum()
            self._note(method, alone, step.words)
            self._weights = self._weights * (
                (1 - OUTLIER) * alone + OUTLIER / alone.size
            )
            self._weights /= self._weights.sum()
        self._anchor = self._weights
        self._used_ah = self._used_sd_ah = 0.0

    def estimate(self) -> SocEstimate:
        """Return median and 80 % interval of what is believed now."""
        low, typical, high = _quantiles(self._weights)
        return SocEstimate(
            typical=typical,
            low=low,
            high=high,
            methods=tuple(self._answers.values()),
            evidence=self._evidence,
        )

    def _note(self, method: str, weights: FloatArray, words: str) -> None:
        low, _, high = _quantiles(weights)
        self._answers[method] = MethodAnswer(
            method=method, low=low, high=high, words=words
        )
        self._evidence = words or method


def estimate(pack: Pack, steps: Sequence[Step]) -> SocEstimate:
    """
    Fuse what was seen and planned, in order, into one estimate.

    Parameters
    ----------
    pack : Pack
        The battery; its trusted capacity turns amp-hours into charge.
    steps : sequence of Step
        Uses and readings, oldest first. Without any, nothing is known.

    Returns
    -------
    SocEstimate
        Median, 10 % and 90 % quantile of the belief. (0 to 1)
    """
    belief = Belief(pack)
    for step in steps:
        belief.apply(step)
    return belief.estimate()


def used_since(before: SocEstimate, used: float, sd: float) -> SocEstimate:
    """
    Carry an estimate forward by a planned use, without the grid.

    Parameters
    ----------
    before : SocEstimate
        What was believed.
    used, sd : float
        Share of the capacity used since, and its standard deviation.
    """
    typical = before.typical - used
    low = typical - float(np.hypot(before.typical - before.low, ONE_IN_TEN * sd))
    high = typical + float(np.hypot(before.high - before.typical, ONE_IN_TEN * sd))
    low, typical, high = (float(np.clip(value, 0, 1)) for value in (low, typical, high))
    return replace(before, typical=typical, low=low, high=high)


def charged_since(before: SocEstimate, model: ChargeModel, hours: float) -> SocEstimate:
    """Carry an estimate forward by time on a bay that has power."""
    low, typical, high = (
        model.after(soc * model.capacity, hours) / model.capacity
        for soc in (before.low, before.typical, before.high)
    )
    return replace(before, typical=typical, low=low, high=high)


def _likelihood(pack: Pack, step: Step) -> tuple[str, FloatArray]:
    if isinstance(step, Known):
        in_range("State of charge", step.soc, low=0, high=1)
        return "seen", _bell(_SOC, step.soc, step.sd)
    if isinstance(step, GaugeReading):
        return "gauge", _bell(_SOC, step.soc, GAUGE_SD)
    if isinstance(step, VoltsReading):
        expected_v = (
            pack.chem.rested_v(_SOC) * pack.series - step.amps * pack.resistance_ohm
        )
        curve_sd_v = pack.chem.curve_sd_v * pack.series
        if step.how == "unplugged" and step.unplugged_min < 240:
            curve_sd_v *= 1.5  # not rested yet: lead-acid wants hours
        if step.how == "key_down":
            curve_sd_v *= 2.0  # the sag, and so the resistance, weighs most
        sd_v = float(np.hypot(curve_sd_v, METER_SD_V))
        # Above and below the curve the ends explain a reading best.
        volts = float(np.clip(step.volts, expected_v[0], expected_v[-1]))
        return "volts", _bell(expected_v, volts, sd_v)
    raise TypeError(f"Not a step of a belief: {step!r}")


def _bell(x: FloatArray, mean: float, sd: float) -> FloatArray:
    squared = ((x - mean) / sd) ** 2
    return np.exp(-0.5 * np.minimum(squared - squared.min(), 700.0))


def _moved(weights: FloatArray, target: FloatArray, sd: float) -> FloatArray:
    """Move each state to its target and blur; nothing leaves 0 to 1."""
    spread = np.linspace(-2.5, 2.5, 21) if sd > 1e-6 else np.zeros(1)
    share = np.exp(-0.5 * spread**2)
    share /= share.sum()
    top = _SOC.size - 1
    position = np.clip((target[None, :] - spread[:, None] * sd) * top, 0, top)
    below = np.minimum(np.floor(position).astype(int), top - 1)
    rest = position - below
    parts = share[:, None] * weights[None, :]
    size = _SOC.size
    lower = np.bincount(below.ravel(), (parts * (1 - rest)).ravel(), size)
    upper = np.bincount(below.ravel() + 1, (parts * rest).ravel(), size)
    return np.asarray(lower + upper, dtype=float)


def _quantiles(weights: FloatArray) -> tuple[float, float, float]:
    total = np.cumsum(weights)
    low, middle, high = (float(np.interp(q, total, _SOC)) for q in (0.1, 0.5, 0.9))
    return low, middle, high
